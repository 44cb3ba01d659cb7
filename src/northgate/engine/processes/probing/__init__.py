"""Single probes: when each is sent, and how long its answer takes."""
