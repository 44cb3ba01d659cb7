"""From one plan to another: the steps, in their order, and what fails while they are taken."""

from northgate.change.edits import ChangeStep
from northgate.change.rehearsal import RehearsalAnswer, Rehearsed, rehearse, rehearsed
from northgate.change.steps import build_steps, steps_between
from northgate.change.usual import UsualAnswer, UsualChange, UsualMade, offered, usual

__all__ = [
    "ChangeStep", "RehearsalAnswer", "Rehearsed", "UsualAnswer", "UsualChange", "UsualMade", "build_steps", "offered",
    "rehearse", "rehearsed", "steps_between", "usual",
]  # fmt: skip
