"""Pewter reviews a site's HTTPS setup from outside and reports every gap with its evidence and its mend."""

__version__ = "0.1.0"
