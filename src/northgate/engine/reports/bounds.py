"""Bounds of blind times as documents."""

from northgate.engine.base import DIGITS
from northgate.engine.formulas import Bounds, Sum
from northgate.engine.reports.model import AnswerModel


class BoundAnswer(AnswerModel):
    """Of what a bound of a blind time is the sum: `first_s` until the first probe, `beats` times `beat_s` between
    probes, and `answer_s` until the last one is answered or given up."""

    first_s: float
    beats: int
    beat_s: float
    answer_s: float


class BoundsAnswer(AnswerModel):
    """A blind time: shortest, mean (over a uniformly placed change) and longest, in seconds, and of what the shortest
    and the longest are the sums."""

    earliest_s: float
    mean_s: float
    latest_s: float
    earliest: BoundAnswer
    latest: BoundAnswer


def bounds_answer(bounds: Bounds) -> BoundsAnswer:
    """The document of a blind time's bounds."""
    return BoundsAnswer(
        earliest_s=round(bounds.earliest_s, DIGITS),
        mean_s=round((bounds.earliest_s + bounds.latest_s) / 2, DIGITS),
        latest_s=round(bounds.latest_s, DIGITS),
        earliest=_bound(bounds.earliest),
        latest=_bound(bounds.latest),
    )


def _bound(parts: Sum) -> BoundAnswer:
    first, beat, answer = (round(one, DIGITS) for one in (parts.first_s, parts.beat_s, parts.answer_s))
    return BoundAnswer(first_s=first, beats=parts.beats, beat_s=beat, answer_s=answer)
