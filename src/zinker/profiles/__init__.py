"""Profiles as files and folders: writing them, and reading them without trusting them (docs/profile.md)."""
