"""Pewter's version, for whoever says it; imports nothing."""

__version__ = "0.1.0"
