"""A drill's rates over time, as a document."""

import numpy as np
from msgspec import Struct

from northgate.engine.base import MECHANISMS, Floats, total_by
from northgate.engine.drill import DrillRun, Ends, Keyframe
from northgate.engine.formulas import overload
from northgate.engine.network import Network, sources_told
from northgate.engine.reports.beliefs import ever_there
from northgate.engine.reports.model import AnswerModel
from northgate.plan.models.drills import CAUSES


class BeforeAnswer(AnswerModel):
    """Values just before the next second of a drill's series, or its end: they go there along a straight line from
    those of this second, or stay as they are."""

    by_zone_rps: dict[str, list[float]]
    mechanism_rps: dict[str, list[float]]
    all_failed_rps: list[float]
    asked_rps: list[float]
    served_rps: list[float]
    busiest_utilisation: list[float]
    middle_utilisation: list[float]
    latency_ms: list[float]
    stale_share: dict[str, list[float]]


class SeriesAnswer(AnswerModel):
    """Values right after each event; `utilisation` is by instance.

    `busiest` is the busiest instance: what it is offered, and can do (None: no limit); above 1 its backlog grows by
    `busiest_growth` seconds of work a second up to its queue, and from there on the share `busiest_excess` is refused.
    `middle_utilisation` is the median of those that get anything; `sessions` by the zone of the target that they are
    bound to, in sources. `asked_rps`, `served_rps`, `all_failed_rps` and `held` are the sums over zones and
    mechanisms. `before`: what they have come to by the next second (None: all stay as they are until then).
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
    before: BeforeAnswer | None


def series_answer(run: DrillRun, *, with_utilisation: bool = True) -> SeriesAnswer:
    """A drill's rates over time; every machine's utilisation is much, and can be left out."""
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
        middle_utilisation=[_middle(values) for values in utilisation],
        latency_ms=[frame.latency_s * 1000 for frame in run.keyframes],
        sessions=sessions,
        held=np.sum(list(sessions.values()), axis=0).tolist() if sessions else [0.0] * len(run.keyframes),
        stale_share={name.name: stale[:, index].tolist() for index, name in enumerate(network.plan.names)},
        before=_before(run),
    )


def failing_before(run: DrillRun) -> list[float]:
    """What fails (requests/s) just before each keyframe's successor, or the end."""
    return [float((frame.ends or frame).cause_rps.sum()) for frame in run.keyframes]


def _before(run: DrillRun) -> BeforeAnswer | None:
    if not any(frame.ends for frame in run.keyframes):
        return None
    ends: list[Ends | Keyframe] = [frame.ends or frame for frame in run.keyframes]
    zone_rates, mechanisms = np.array([one.zone_served for one in ends]), np.array([one.mechanism_rps for one in ends])
    return BeforeAnswer(
        by_zone_rps={zone: zone_rates[:, index].tolist() for index, zone in enumerate(run.network.zones)},
        mechanism_rps={name: mechanisms[:, index].tolist() for index, name in enumerate(MECHANISMS)},
        all_failed_rps=mechanisms.sum(axis=1).tolist(),
        asked_rps=(zone_rates.sum(axis=1) + mechanisms.sum(axis=1)).tolist(),
        served_rps=zone_rates.sum(axis=1).tolist(),
        busiest_utilisation=[float(one.utilisation.max(initial=0.0)) for one in ends],
        middle_utilisation=[_middle(one.utilisation) for one in ends],
        latency_ms=[one.latency_s * 1000 for one in ends],
        stale_share={
            name.name: [float(one.stale[index]) for one in ends] for index, name in enumerate(run.network.plan.names)
        },
    )


def _middle(utilisation: Floats) -> float:
    """The median of those that get anything; 0 where nobody does."""
    asked = np.sort(utilisation[utilisation > 0])
    half = len(asked) // 2
    return float(asked[half] + asked[~half]) / 2 if len(asked) else 0.0


class _Load(Struct, frozen=True):
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
    if not network.kept.sessions and not network.kept.connections:
        return {}
    sources, openers = sources_told(network.kept), network.kept.terms[1][0]
    zone, over = network.machines.zone[network.members.machine], network.machines.zone[network.pairs.machine]
    zones = len(network.zones)
    rows = [
        total_by(zone, sources @ held.sessions, zones) + total_by(over, openers @ held.connections, zones)
        for frame in run.keyframes
        if (held := frame.state.held) is not None
    ]
    return {name: [float(row[index]) for row in rows] for index, name in enumerate(network.zones)}
