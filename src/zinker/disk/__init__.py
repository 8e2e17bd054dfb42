"""The one place that renames, flushes, locks, sets modes and follows no links; it knows nothing of settings.

What belongs to somebody else, a home at a place, is reached by `tree`, from folders held open. What is Zinker's own
(the shelf, ZINKER_HOME, a file somebody asked for) is written by `files`.
"""
