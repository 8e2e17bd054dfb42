"""Zinker keeps, compares and puts back the settings of applications, workstations and tenants."""

__version__ = "0.1.0"
