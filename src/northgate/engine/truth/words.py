"""The parts of a plan, and their truth, in words."""

from typing import Literal

from northgate.engine.truth.encounter import REFUSES, SILENT


def truth_word(met: int, slowness: float) -> Literal["answers", "slow", "refuses", "silent"]:
    """A target's truth in one word, as those who ask it meet it: what a firewall keeps off is silent to them."""
    if met >= SILENT:
        return "silent"
    if met == REFUSES:
        return "refuses"
    return "slow" if slowness > 1 else "answers"
