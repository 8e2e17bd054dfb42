"""What Zinker talks about, as plain data: settings, profiles, differences, plans, changes and errors.

Nothing in here reads or writes anything, and nothing in here imports another Zinker package.
"""
