"""What the rates of a solved state add up to."""
