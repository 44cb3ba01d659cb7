"""How far a drill looks ahead, and what it finds on the way."""
