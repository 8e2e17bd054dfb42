"""Doing it regularly: `timers` are what each system has for that, `record` is what Zinker itself knows of it."""
