"""The drill: a plan under a script of faults, solved exactly at its events."""

from northgate.engine.drill.blind import BlindRow
from northgate.engine.drill.by_hand import Way, ways_of
from northgate.engine.drill.journal import Cascade, Event
from northgate.engine.drill.loss import LOST_AT_S, Losing, Loss, run_loss
from northgate.engine.drill.readings import Readings
from northgate.engine.drill.result import DrillRun, Ends, Keyframe, Story
from northgate.engine.drill.run import run_drill, undisturbed

__all__ = [
    "LOST_AT_S",
    "BlindRow",
    "Cascade",
    "DrillRun",
    "Ends",
    "Event",
    "Keyframe",
    "Losing",
    "Loss",
    "Readings",
    "Story",
    "Way",
    "run_drill",
    "run_loss",
    "undisturbed",
    "ways_of",
]
