"""Places: where live settings are, what stores a place has, and what is running there.

Whatever differs between operating systems or kinds of place is behind `Place`.
"""
