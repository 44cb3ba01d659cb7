"""Rates at one moment, given truth and belief."""

from northgate.engine.solver.flow import Flow, Opens
from northgate.engine.solver.frame import frame_of
from northgate.engine.solver.solve import solve
from northgate.engine.solver.state import Held, Moment, Tried

__all__ = [
    "Flow",
    "Held",
    "Moment",
    "Opens",
    "Tried",
    "frame_of",
    "solve",
]
