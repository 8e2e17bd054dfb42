"""Zinker keeps, compares and puts back the settings of applications and workstations."""

__version__ = "0.1.0"
