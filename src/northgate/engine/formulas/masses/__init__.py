"""Masses of sources that hold something: a session, or a connection."""
