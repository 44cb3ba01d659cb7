"""Answers of the engine as documents: what the command line prints and the server sends.

Keys are a contract; more may be added. Times are seconds, rates requests per second, shares fractions of 1.
"""

from collections.abc import Sequence
from dataclasses import asdict
from typing import Literal

import numpy as np
from pydantic import BaseModel, ConfigDict

from northgate.engine.drill import BlindRow, DrillRun
from northgate.engine.flow import MECHANISMS
from northgate.engine.network import Network
from northgate.engine.probing import DIGITS, Bounds, down_bounds, up_bounds
from northgate.engine.readings import Readings
from northgate.engine.truth import ANSWERS, REFUSES, SILENT
from northgate.engine.types import total_by
from northgate.plan.drills import CAUSES, Expectation
from northgate.plan.groups import Probe


class AnswerModel(BaseModel):
    """Base of every answer: immutable, nothing optional left out."""

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)


class ExpectationAnswer(AnswerModel):
    """One expectation: what was wanted (in words), what was got, and whether it held."""

    reading: str
    wanted: str
    got: float
    held: bool


class BlindAnswer(AnswerModel):
    """One belief that was wrong for a while; `earliest_s` and `latest_s` bound its blind time. `unseen`: no probe asks
    about what was lost, so that nobody notices, and there are no bounds."""

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
    unseen: bool


class EventAnswer(AnswerModel):
    """Something that happened, in words."""

    at_s: float
    kind: str
    about: list[str]
    message: str


class SeriesAnswer(AnswerModel):
    """Values right after each event; `utilisation` is by instance.

    `busiest` is the busiest instance, `middle_utilisation` the median of those that get anything; `sessions` by the
    zone of the target that they are bound to, in sources.
    """

    t_s: list[float]
    by_zone_rps: dict[str, list[float]]
    failed_rps: dict[str, list[float]]
    mechanism_rps: dict[str, list[float]]
    utilisation: dict[str, list[float]]
    stale_share: dict[str, list[float]]
    busiest: list[str]
    busiest_utilisation: list[float]
    middle_utilisation: list[float]
    latency_ms: list[float]
    sessions: dict[str, list[float]]


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


class StripPiece(AnswerModel):
    """A stretch of a target's time line: its truth, and how many of the fronts that probe it believe it in use."""

    from_s: float
    to_s: float
    truth: Literal["answers", "slow", "refuses", "silent"]
    believed_in: int
    believed_of: int
    wrong: bool


class Strip(AnswerModel):
    """Truth and belief of one target over a drill."""

    group: str
    target: str
    zone: str
    pieces: list[StripPiece]


class FoldedStrip(AnswerModel):
    """The targets of a group in a zone over a drill: how many there are, how many are truly up, and how many a front
    believes in use on the mean of those that live; value i holds from `t_s[i]` on."""

    group: str
    zone: str
    t_s: list[float]
    targets: list[int]
    up: list[int]
    believed: list[float]


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
        events=[EventAnswer(**(asdict(event) | {"about": list(event.about)})) for event in run.events],
        series=_series(run, with_utilisation=with_utilisation),
        moving=[frame.moving for frame in run.keyframes],
        summary=summary(run),
        cascade=CascadeAnswer(**vars(run.cascade)) if run.cascade else None,
    )


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


MECHANISM_WORDS = {
    "waiting": "wait for verdicts of probes",
    "dead_front": "meet a dead front",
    "old_answers": "follow old answers of names",
    "overload": "meet full queues",
    "none_healthy": "find nobody in use",
    "blocked": "are blocked",
    "by_rule": "are turned away by a rule",
}


def summary(run: DrillRun) -> str:
    """The drill in one sentence that a person would say."""
    readings = run.readings
    if readings.failed < 0.5:
        return f"No request fails; the busiest target comes to {readings.peak_utilisation:.0%}.".replace("%", " %")
    failing = [frame for frame in run.keyframes if frame.cause_rps.sum() > 1e-9]
    ends = [*(frame.t_s for frame in run.keyframes[1:]), run.drill.lasts_s]
    spans = [end - frame.t_s for frame, end in zip(run.keyframes, ends, strict=True) if frame.cause_rps.sum() > 1e-9]
    parts = sorted(readings.failed_by_mechanism.items(), key=lambda one: -one[1])
    words = [
        f"{count / readings.failed:.0%} {MECHANISM_WORDS[name]}".replace("%", " %")
        for name, count in parts[:2]
        if count > 0.005 * readings.failed
    ]
    more = f" Overload takes out {run.cascade.target} too: a cascade." if run.cascade else ""
    return (
        f"{readings.failed:,.0f} requests fail over {sum(spans):,.0f} s; {', '.join(words)}.{more}" if failing else ""
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
        unseen=row.unseen,
    )


def _series(run: DrillRun, *, with_utilisation: bool) -> SeriesAnswer:
    network = run.network
    zone_rates = np.array([frame.zone_served for frame in run.keyframes])
    causes = np.array([frame.cause_rps for frame in run.keyframes])
    mechanisms = np.array([frame.mechanism_rps for frame in run.keyframes])
    ever = _ever_there(run)
    machines = network.machines.names if with_utilisation else ()
    utilisation = np.array([frame.utilisation for frame in run.keyframes])
    stale = np.array([frame.stale for frame in run.keyframes])
    return SeriesAnswer(
        t_s=[frame.t_s for frame in run.keyframes],
        by_zone_rps={zone: zone_rates[:, index].tolist() for index, zone in enumerate(network.zones)},
        failed_rps={cause: causes[:, index].tolist() for index, cause in enumerate(CAUSES)},
        mechanism_rps={name: mechanisms[:, index].tolist() for index, name in enumerate(MECHANISMS)},
        utilisation={name: utilisation[:, index].tolist() for index, name in enumerate(machines) if ever[index]},
        busiest=[network.machines.names[int(values.argmax())] if len(values) else "" for values in utilisation],
        busiest_utilisation=utilisation.max(axis=1, initial=0.0).tolist(),
        middle_utilisation=[
            float(np.median(values[values > 0])) if (values > 0).any() else 0.0 for values in utilisation
        ],
        latency_ms=[frame.latency_s * 1000 for frame in run.keyframes],
        sessions=_sessions(run),
        stale_share={name.name: stale[:, index].tolist() for index, name in enumerate(network.plan.names)},
    )


def _ever_there(run: DrillRun) -> np.ndarray:
    """Which machines exist at some time of a drill."""
    every = np.arange(len(run.network.machines.names))
    return np.any([frame.moment.present(every) for frame in run.keyframes], axis=0)


def _sessions(run: DrillRun) -> dict[str, list[float]]:
    """How many sessions and layer 4 connections lead to targets of each zone; empty where there are none."""
    network = run.network
    kinds = network.connection_kinds
    if not network.session_kinds and not kinds:
        return {}
    sources = np.array([network.plan.clients[client].sources for client, _ in network.session_kinds], dtype=np.float64)
    openers = np.array([kind.sources for kind in kinds], dtype=np.float64)
    zone, over = network.machines.zone[network.members.machine], network.machines.zone[network.pairs.machine]
    zones = len(network.zones)
    rows = [
        total_by(zone, sources @ held.sessions, zones) + total_by(over, openers @ held.connections, zones)
        for frame in run.keyframes
        if (held := frame.moment.held) is not None
    ]
    return {name: [float(row[index]) for row in rows] for index, name in enumerate(network.zones)}


def truth_word(met: int, slowness: float) -> Literal["answers", "slow", "refuses", "silent"]:
    """A target's truth in one word, as those who ask it meet it: what a firewall keeps off is silent to them."""
    if met >= SILENT:
        return "silent"
    if met == REFUSES:
        return "refuses"
    return "slow" if slowness > 1 else "answers"


def strips(run: DrillRun, group: str | None = None) -> list[Strip]:
    """Truth and belief of every target of a group (or of all) over the drill, neighbours alike merged."""
    network = run.network
    groups = [one.name for one in network.plan.target_groups]
    ever = _ever_there(run)[network.members.machine]
    wanted = [m for m, g in enumerate(network.members.group) if ever[m] and group in (None, groups[int(g)])]
    moments = [frame.moment for frame in run.keyframes]
    states = [
        member_states(network, moment.in_use, moment.encounter.met, moment.truth.front_dead) for moment in moments
    ]
    times = [frame.t_s for frame in run.keyframes] + [run.drill.lasts_s]
    return [
        Strip(
            group=groups[int(network.members.group[member])],
            target=network.machines.names[int(network.members.machine[member])],
            zone=network.zones[int(network.machines.zone[network.members.machine[member]])],
            pieces=_pieces(run, member, states, times),
        )
        for member in wanted
    ]


def folded_strips(run: DrillRun) -> list[FoldedStrip]:
    """Truth and belief by group and zone: counts, so that the area between them is the blindness."""
    network = run.network
    members, zones, groups = network.members, len(network.zones), network.plan.target_groups
    if not len(members.group):
        return []
    at, count = members.group * zones + network.machines.zone[members.machine], len(groups) * zones
    targets, up, believed = [], [], []
    for frame in run.keyframes:
        moment = frame.moment
        here = moment.present(members.machine)
        met, known, fronts = member_states(network, moment.in_use, moment.encounter.met, moment.truth.front_dead)
        share = np.divide(known, fronts, out=np.zeros(len(met)), where=fronts > 0)
        targets.append(total_by(at, here, count))
        up.append(total_by(at, here & (met == ANSWERS), count))
        believed.append(total_by(at, here * share, count))
    tables = [np.array(rows) for rows in (targets, up, believed)]
    return [
        FoldedStrip(
            group=groups[cell // zones].name,
            zone=network.zones[cell % zones],
            t_s=[frame.t_s for frame in run.keyframes],
            targets=tables[0][:, cell].astype(int).tolist(),
            up=tables[1][:, cell].astype(int).tolist(),
            believed=np.round(tables[2][:, cell], 6).tolist(),
        )
        for cell in np.flatnonzero(tables[0].any(axis=0)).tolist()
    ]


def member_states(network: Network, in_use: np.ndarray, met: np.ndarray, front_dead: np.ndarray) -> np.ndarray:
    """Per member (columns): truth met by most of its pairs, living fronts that believe it in use, living fronts."""
    pairs = network.pairs
    count = len(network.members.group)
    living = ~front_dead[pairs.front]
    believed = total_by(pairs.member, in_use & living, count)
    fronts = total_by(pairs.member, living, count)
    worst = np.zeros(count, dtype=np.int64)
    np.maximum.at(worst, pairs.member, np.where(living, met, 0))
    any_met = np.zeros(count, dtype=np.int64)
    np.maximum.at(any_met, pairs.member, met)
    return np.stack([np.where(fronts > 0, worst, any_met), believed.astype(np.int64), fronts.astype(np.int64)])


def _pieces(run: DrillRun, member: int, states: Sequence[np.ndarray], times: Sequence[float]) -> list[StripPiece]:
    machine = int(run.network.members.machine[member])
    pieces: list[StripPiece] = []
    for index, frame in enumerate(run.keyframes):
        met, believed, fronts = (int(value) for value in states[index][:, member])
        word = truth_word(met, float(frame.moment.truth.slowness[machine]))
        wrong = believed > 0 if word in ("refuses", "silent") else believed < fronts
        piece = StripPiece(
            from_s=times[index],
            to_s=times[index + 1],
            truth=word,
            believed_in=believed,
            believed_of=fronts,
            wrong=wrong,
        )
        last = pieces[-1] if pieces else None
        if last and (last.truth, last.believed_in, last.believed_of) == (word, believed, fronts):
            pieces[-1] = last.model_copy(update={"to_s": piece.to_s})
        else:
            pieces.append(piece)
    return pieces


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
