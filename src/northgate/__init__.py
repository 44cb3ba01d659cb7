"""North Gate: a planning table for cloud network engineers."""

__version__ = "0.1.0"
