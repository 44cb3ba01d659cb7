"""Calls that are tried more than once."""
