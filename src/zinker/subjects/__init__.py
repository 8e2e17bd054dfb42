"""Subject files: what belongs together, and where its parts live. Loading, checking and finding them."""
