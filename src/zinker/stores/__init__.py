"""Stores are the kinds of home a part has at a place: each reads settings and writes documents back.

A store knows nothing of subjects, profiles or plans; it is given paths and keys, and it hands out readings.
"""
