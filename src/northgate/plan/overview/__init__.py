"""A plan as a whole: its index, and what it still lacks."""

from northgate.plan.overview.index import Entry, User, index_of
from northgate.plan.overview.next_steps import NextStep, next_steps

__all__ = ["Entry", "NextStep", "User", "index_of", "next_steps"]
