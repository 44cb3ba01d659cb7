"""Names: what clients hold of their answers, and for how long."""
