"""The shelf: where profiles are kept, version by version, with the record of every change made from them."""
