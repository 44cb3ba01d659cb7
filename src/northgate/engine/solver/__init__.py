"""Rates at one moment, given truth and belief."""

from northgate.engine.solver.flow import Flow, Opened, Opens
from northgate.engine.solver.solve import Solver
from northgate.engine.solver.state import Attempts, Held, State

__all__ = [
    "Attempts",
    "Flow",
    "Held",
    "Opened",
    "Opens",
    "Solver",
    "State",
]
