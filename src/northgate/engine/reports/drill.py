"""Answers of the engine as documents: what the command line prints and the server sends.

Keys are a contract; more may be added. Times are seconds, rates requests per second, shares fractions of 1.
"""

from typing import Literal

from northgate.engine.base import DIGITS
from northgate.engine.drill import BlindRow, Cascade, DrillRun, Event, Readings
from northgate.engine.network import Network
from northgate.engine.reports.bounds import BoundsAnswer, bounds_answer
from northgate.engine.reports.model import AnswerModel
from northgate.engine.reports.series import SeriesAnswer, failing_before, series_answer
from northgate.engine.reports.words import message, summary, trigger_words
from northgate.plan.models.drills import Expectation


class ExpectationAnswer(AnswerModel):
    """One expectation: what was wanted (in words), what was got, and whether it held."""

    reading: str
    wanted: str
    got: float
    held: bool


class BlindAnswer(AnswerModel):
    """One belief that was wrong for a while; `earliest_s` and `latest_s` bound its blind time, `bounds` says of what
    they are the sums. `unseen`: no probe asks about what was lost, so that nobody notices, and there are no bounds."""

    target: str
    group: str
    balancer: str
    front: str
    probe: str
    change: Literal["down", "up"]
    true_at_s: float
    believed_at_s: float | None
    blind_s: float
    earliest_s: float | None
    latest_s: float | None
    bounds: BoundsAnswer | None
    unseen: bool


class EventAnswer(AnswerModel):
    """Something that happened, in words; `in_use`: what a verdict says of what it is about (None: no verdict)."""

    at_s: float
    kind: str
    about: list[str]
    message: str
    in_use: bool | None


class CascadeAnswer(AnswerModel):
    """The moment when a target that no fault touches fell to its load, and what set that off."""

    at_s: float
    target: str
    trigger: str | None


class DrillAnswer(AnswerModel):
    """A drill's outcome; `moving[i]`: after the event at `series.t_s[i]` some backlog grows or shrinks."""

    name: str
    title: str
    lasts_s: float
    held: bool
    readings: Readings
    expect: list[ExpectationAnswer]
    blind: list[BlindAnswer]
    events: list[EventAnswer]
    series: SeriesAnswer
    moving: list[bool]
    summary: str
    cascade: CascadeAnswer | None


def drill_answer(run: DrillRun, *, with_utilisation: bool = True) -> DrillAnswer:
    """The document of a drill that has run; every machine's utilisation is much, and can be left out."""
    expect = [_expectation(run, one) for one in run.drill.expect]
    return DrillAnswer(
        name=run.drill.name,
        title=run.drill.title,
        lasts_s=run.drill.lasts_s,
        held=all(one.held for one in expect),
        readings=run.readings,
        expect=expect,
        blind=[_blind(run.network, row) for row in run.blind],
        events=[_event(event) for event in run.events],
        series=series_answer(run, with_utilisation=with_utilisation),
        moving=[frame.moving for frame in run.keyframes],
        summary=summary(run),
        cascade=_cascade(run.cascade) if run.cascade else None,
    )


def _event(event: Event) -> EventAnswer:
    in_use = bool(event.facts["in_use"]) if event.kind == "verdict" else None
    return EventAnswer(at_s=event.at_s, kind=event.kind, about=list(event.about), message=message(event), in_use=in_use)


def _cascade(cascade: Cascade) -> CascadeAnswer:
    return CascadeAnswer(at_s=cascade.at_s, target=cascade.target, trigger=trigger_words(cascade.trigger))


class PhasesAnswer(AnswerModel):
    """What a drill comes to with its probes elsewhere in their cycles: where they notice first (`best`), spread over
    them, or where they notice last (`worst`); `failed_before_rps`: what fails just before the next second of `t_s`."""

    phases: Literal["best", "spread", "worst"]
    failed: float
    worst_blind_s: float
    settled_s: float
    settled: bool
    peak_utilisation: float
    t_s: list[float]
    failed_rps: list[float]
    failed_before_rps: list[float]


def phases_answer(run: DrillRun) -> PhasesAnswer:
    """What a drill that has run with certain phases came to; a rate is the one right after the event at its second."""
    readings = run.readings
    return PhasesAnswer(
        phases=run.drill.phases,
        failed=readings.failed,
        worst_blind_s=readings.worst_blind_s,
        settled_s=readings.settled_s,
        settled=readings.settled,
        peak_utilisation=readings.peak_utilisation,
        t_s=[frame.t_s for frame in run.keyframes],
        failed_rps=[float(frame.cause_rps.sum()) for frame in run.keyframes],
        failed_before_rps=failing_before(run),
    )


def _expectation(run: DrillRun, wanted: Expectation) -> ExpectationAnswer:
    bounds = [
        f"{word} {bound:g}"
        for word, bound in (("at least", wanted.at_least), ("at most", wanted.at_most))
        if bound is not None
    ]
    return ExpectationAnswer(
        reading=wanted.reading,
        wanted=" and ".join(bounds),
        got=run.readings.value(wanted.reading),
        held=run.held(wanted),
    )


def _blind(network: Network, row: BlindRow) -> BlindAnswer:
    pairs, members = network.pairs, network.members
    front = int(pairs.front[row.pair])
    group = network.plan.target_groups[int(members.group[pairs.member[row.pair]])]
    return BlindAnswer(
        target=network.machines.names[int(pairs.machine[row.pair])],
        group=group.name,
        balancer=network.balancer_of(front),
        front=network.front_name(front),
        probe=group.probe or "",
        change="up" if row.change == "up" else "down",
        true_at_s=row.true_at_s,
        believed_at_s=row.believed_at_s,
        blind_s=round(row.blind_s, DIGITS),
        earliest_s=round(row.bounds.earliest_s, DIGITS) if row.bounds else None,
        latest_s=round(row.bounds.latest_s, DIGITS) if row.bounds else None,
        bounds=bounds_answer(row.bounds) if row.bounds else None,
        unseen=row.unseen,
    )
