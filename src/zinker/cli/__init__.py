"""The command line: parse, call a job, render; nothing else. A command is a file here and a line in main.py."""
