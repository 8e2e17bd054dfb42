"""What is a secret, and how it is kept out of profiles; nothing here knows a place or a plan."""
