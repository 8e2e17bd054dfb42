"""Carrying out a plan, and putting right what was cut off: the only code that changes a place."""
