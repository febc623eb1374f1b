"""Amber Lane: the desk of a dropshipping operations manager."""

__version__ = "0.15.3"
