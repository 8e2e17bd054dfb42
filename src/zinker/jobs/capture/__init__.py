"""Live settings become a profile, or a snapshot to be looked at; nothing here writes to a place."""
