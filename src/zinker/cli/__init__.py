"""The command line: parse, call a job, render; nothing else. A command is a file here and a line in main.py."""

import gc

# Settings come by the million and hold no cycles: looking for some after every 700 of them doubles the time.
# What is imported stays to the end, so that this comes before it.
gc.set_threshold(200_000, 50, 50)
