"""Pure computation on a plan: no I/O, no clock, no randomness. Knows the plan only."""
