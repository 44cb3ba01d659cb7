"""The parts of a plan, and their truth, in words."""

from typing import Literal

from northgate.engine.truth.encounter import REFUSES, SILENT
from northgate.plan.drills import Part


def truth_word(met: int, slowness: float) -> Literal["answers", "slow", "refuses", "silent"]:
    """A target's truth in one word, as those who ask it meet it: what a firewall keeps off is silent to them."""
    if met >= SILENT:
        return "silent"
    if met == REFUSES:
        return "refuses"
    return "slow" if slowness > 1 else "answers"


def describe_part(part: Part) -> str:
    """A part in words."""
    if part.front:
        return f"the front of {part.front.balancer} in {part.front.zone}"
    if part.link:
        return f"the link between {part.link[0]} and {part.link[1]}"
    if part.firewall:
        return f"rule {(part.rule or 0) + 1} of firewall {part.firewall}"
    if part.kind == "page":
        return f"page {part.page} of {part.instance or 'all that serve it'}"
    if part.kind == "process":
        return f"process of {part.process}" + (f" on port {part.port}" if part.port else "")
    return f"{part.kind.replace('_', ' ')} {getattr(part, part.kind)}"
