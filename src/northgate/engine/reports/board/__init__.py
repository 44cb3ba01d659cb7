"""The state of the whole plan at one moment, as the board shows it."""
