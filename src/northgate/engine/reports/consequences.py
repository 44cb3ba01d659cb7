"""What a probe's settings mean in seconds."""

from northgate.engine.formulas import down_bounds, up_bounds
from northgate.engine.reports.bounds import BoundsAnswer, bounds_answer
from northgate.engine.reports.model import AnswerModel
from northgate.plan.models.groups import Probe


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
        silent=bounds_answer(down_bounds(probe, at_once=False, answer_s=answer_s)),
        refused=bounds_answer(down_bounds(probe, at_once=True, answer_s=answer_s)),
        returned=bounds_answer(up_bounds(probe, answer_s=answer_s, at_once=False)),
    )
