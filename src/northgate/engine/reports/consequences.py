"""What a probe's settings mean in seconds."""

from northgate.engine.formulas import Bounds, down_bounds, up_bounds
from northgate.engine.reports.model import AnswerModel
from northgate.plan.groups import Probe


class BoundsAnswer(AnswerModel):
    """A blind time: shortest, mean (over a uniformly placed change) and longest, in seconds."""

    earliest_s: float
    mean_s: float
    latest_s: float


class ProbeConsequence(AnswerModel):
    """What a probe's four numbers mean in seconds."""

    probe: str
    silent: BoundsAnswer
    refused: BoundsAnswer
    returned: BoundsAnswer


def probe_consequence(probe: Probe, answer_s: float = 0.0) -> ProbeConsequence:
    """How long targets stay believed wrongly under a probe, when an answer takes `answer_s`."""
    return ProbeConsequence(
        probe=probe.name,
        silent=_bounds_answer(down_bounds(probe, at_once=False, answer_s=answer_s)),
        refused=_bounds_answer(down_bounds(probe, at_once=True, answer_s=answer_s)),
        returned=_bounds_answer(up_bounds(probe, answer_s=answer_s, at_once=False)),
    )


def _bounds_answer(bounds: Bounds) -> BoundsAnswer:
    mean = (bounds.earliest_s + bounds.latest_s) / 2
    return BoundsAnswer(earliest_s=bounds.earliest_s, mean_s=mean, latest_s=bounds.latest_s)
