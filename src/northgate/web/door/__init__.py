"""What every request passes first: who is let in, the page, and what is there while the rest is loaded."""
