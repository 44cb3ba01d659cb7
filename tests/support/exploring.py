"""How far tests look for new examples: as a rule a few, the same every time; NORTHGATE_EXPLORE=1 for many new ones."""

import os

EXPLORING = bool(os.environ.get("NORTHGATE_EXPLORE"))


def examples(few: int) -> int:
    """So many examples, or ten times as many."""
    return few * 10 if EXPLORING else few
