"""From one plan to another: the steps, in their order, and what fails while they are taken."""

from northgate.change.rehearsal import RehearsalAnswer, rehearse
from northgate.change.steps import ChangeStep, build_steps, steps_between

__all__ = ["ChangeStep", "RehearsalAnswer", "build_steps", "rehearse", "steps_between"]
