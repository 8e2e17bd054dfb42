"""The demo garden: made-up workstations to try Zinker on, and a story that runs the real command on them."""
