"""The questions turned round: how much is enough? Answered by search over the engine, each answer with its evidence and
the edit that adopts it.

What is asked for grows or shrinks with one number alone (more instances: less utilisation; a longer interval: more
failures), so that the edge is found by halving.
"""

from northgate.sizing.answers import (
    SURVIVED,
    Asked,
    MinimumSize,
    ProbeSize,
    SizeAnswer,
    SizingAnswer,
    Survive,
    TtlSize,
    ZonesSize,
)
from northgate.sizing.asking import answer_one, sizing

__all__ = [
    "SURVIVED",
    "Asked",
    "MinimumSize",
    "ProbeSize",
    "SizeAnswer",
    "SizingAnswer",
    "Survive",
    "TtlSize",
    "ZonesSize",
    "answer_one",
    "sizing",
]
