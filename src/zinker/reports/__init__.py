"""Reports turn what jobs return into text for people and JSON for programs. They decide nothing."""
