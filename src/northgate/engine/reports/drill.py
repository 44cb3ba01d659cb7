"""Answers of the engine as documents: what the command line prints and the server sends.

Keys are a contract; more may be added. Times are seconds, rates requests per second, shares fractions of 1.
"""

from dataclasses import dataclass
from typing import Literal

import numpy as np

from northgate.engine.base import DIGITS, MECHANISMS, total_by
from northgate.engine.drill import BlindRow, Cascade, DrillRun, Event, Keyframe, Readings
from northgate.engine.formulas import overload
from northgate.engine.network import Network
from northgate.engine.reports.beliefs import ever_there
from northgate.engine.reports.bounds import BoundsAnswer, bounds_answer
from northgate.engine.reports.model import AnswerModel
from northgate.engine.reports.words import message, summary, trigger_words
from northgate.plan.models.drills import CAUSES, Expectation


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


class SeriesAnswer(AnswerModel):
    """Values right after each event; `utilisation` is by instance.

    `busiest` is the busiest instance: what it is offered, and can do (None: no limit); above 1 its backlog grows by
    `busiest_growth` seconds of work a second up to its queue, and from there on the share `busiest_excess` is refused.
    `middle_utilisation` is the median of those that get anything; `sessions` by the zone of the target that they are
    bound to, in sources. `asked_rps`, `served_rps`, `all_failed_rps` and `held` are the sums over zones and mechanisms.
    """

    t_s: list[float]
    asked_rps: list[float]
    served_rps: list[float]
    all_failed_rps: list[float]
    by_zone_rps: dict[str, list[float]]
    failed_rps: dict[str, list[float]]
    mechanism_rps: dict[str, list[float]]
    utilisation: dict[str, list[float]]
    stale_share: dict[str, list[float]]
    busiest: list[str]
    busiest_utilisation: list[float]
    busiest_offered_rps: list[float | None]
    busiest_capacity_rps: list[float | None]
    busiest_growth: list[float]
    busiest_excess: list[float]
    middle_utilisation: list[float]
    latency_ms: list[float]
    sessions: dict[str, list[float]]
    held: list[float]


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
        series=_series(run, with_utilisation=with_utilisation),
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
    them, or where they notice last (`worst`)."""

    phases: Literal["best", "spread", "worst"]
    failed: float
    worst_blind_s: float
    settled_s: float
    settled: bool
    peak_utilisation: float
    t_s: list[float]
    failed_rps: list[float]


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


def _series(run: DrillRun, *, with_utilisation: bool) -> SeriesAnswer:
    network = run.network
    zone_rates = np.array([frame.zone_served for frame in run.keyframes])
    causes = np.array([frame.cause_rps for frame in run.keyframes])
    mechanisms = np.array([frame.mechanism_rps for frame in run.keyframes])
    ever = ever_there(run)
    machines = network.machines.names if with_utilisation else ()
    utilisation = np.array([frame.utilisation for frame in run.keyframes])
    stale = np.array([frame.stale for frame in run.keyframes])
    served, failed, sessions = zone_rates.sum(axis=1), mechanisms.sum(axis=1), _sessions(run)
    loads = [_busiest(network, frame) for frame in run.keyframes]
    return SeriesAnswer(
        t_s=[frame.t_s for frame in run.keyframes],
        asked_rps=(served + failed).tolist(),
        served_rps=served.tolist(),
        all_failed_rps=failed.tolist(),
        by_zone_rps={zone: zone_rates[:, index].tolist() for index, zone in enumerate(network.zones)},
        failed_rps={cause: causes[:, index].tolist() for index, cause in enumerate(CAUSES)},
        mechanism_rps={name: mechanisms[:, index].tolist() for index, name in enumerate(MECHANISMS)},
        utilisation={name: utilisation[:, index].tolist() for index, name in enumerate(machines) if ever[index]},
        busiest=[one.name for one in loads],
        busiest_utilisation=[one.utilisation for one in loads],
        busiest_offered_rps=[one.offered_rps for one in loads],
        busiest_capacity_rps=[one.capacity_rps for one in loads],
        busiest_growth=[one.growth for one in loads],
        busiest_excess=[one.excess for one in loads],
        middle_utilisation=[
            float(np.median(values[values > 0])) if (values > 0).any() else 0.0 for values in utilisation
        ],
        latency_ms=[frame.latency_s * 1000 for frame in run.keyframes],
        sessions=sessions,
        held=np.sum(list(sessions.values()), axis=0).tolist() if sessions else [0.0] * len(run.keyframes),
        stale_share={name.name: stale[:, index].tolist() for index, name in enumerate(network.plan.names)},
    )


@dataclass(frozen=True)
class _Load:
    """What the busiest machine is offered and can do, in requests/s (None: no limit), and what that leads to."""

    name: str = ""
    utilisation: float = 0.0
    offered_rps: float | None = None
    capacity_rps: float | None = None
    growth: float = 0.0
    excess: float = 0.0


def _busiest(network: Network, frame: Keyframe) -> _Load:
    if not len(frame.utilisation):
        return _Load()
    machine = int(frame.utilisation.argmax())
    name, used = network.machines.names[machine], float(frame.utilisation[machine])
    capacity = float(network.machines.capacity[machine] / frame.state.truth.slowness[machine])
    if not np.isfinite(capacity):
        return _Load(name, used)
    growth, excess = (float(one[0]) for one in overload(np.array([used])))
    return _Load(name, used, used * capacity, capacity, growth, excess)


def _sessions(run: DrillRun) -> dict[str, list[float]]:
    """How many sessions and layer 4 connections lead to targets of each zone; empty where there are none."""
    network = run.network
    kinds = network.kept.connections
    if not network.kept.sessions and not kinds:
        return {}
    sources = np.array([network.plan.clients[kind.client].sources for kind in network.kept.sessions], dtype=np.float64)
    openers = np.array([kind.sources for kind in kinds], dtype=np.float64)
    zone, over = network.machines.zone[network.members.machine], network.machines.zone[network.pairs.machine]
    zones = len(network.zones)
    rows = [
        total_by(zone, sources @ held.sessions, zones) + total_by(over, openers @ held.connections, zones)
        for frame in run.keyframes
        if (held := frame.state.held) is not None
    ]
    return {name: [float(row[index]) for row in rows] for index, name in enumerate(network.zones)}
