"""Readings of a drill: what its flows add up to."""

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, TypeVar

import numpy as np
from msgspec import Struct

from northgate.engine.base import DIGITS, MECHANISMS, Floats
from northgate.engine.drill.ahead.steps import Step, Stretch
from northgate.engine.solver import Flow
from northgate.plan.models.drills import CAUSES

# A peak is looked for where rates are led on to this part less than the highest.
NEARLY = 1e-3
# What rates come to at the end of a stretch: of the stretch, the rates of a flow, and the second.
EndOf = Callable[[Stretch, Callable[[Flow], Floats], float], Floats]


# A dataclass, as the models of answers hold it.
@dataclass(frozen=True)
class Readings:
    """The readings of one drill; units by suffix, shares and utilisation as fractions of 1."""

    requests: float
    failed: float
    failed_share: float
    failed_by_cause: dict[str, float]
    failed_by_mechanism: dict[str, float]
    worst_blind_s: float
    settled_s: float
    peak_utilisation: float
    peak_latency_ms: float
    cross_zone_share: float
    sessions_moved: float
    connections_reset: float
    peak_targets: int
    settled: bool

    def value(self, reading: str) -> float:
        """The value of a reading by its name, `failed_by_cause.timed_out` included."""
        name, _, cause = reading.partition(".")
        found = getattr(self, name)
        return float(found[cause] if cause else found)


class Ended(Struct, frozen=True):
    """What a drill came to, before it is read: sums over its stretches (requests), peaks, what holdings, blind rows and
    autoscalers have counted, and until when something changed."""

    requests: float
    served: float
    cross_zone: float
    causes: Sequence[float]
    mechanisms: Sequence[float]
    peak_utilisation: float
    peak_latency_s: float
    sessions_moved: float
    connections_reset: float
    worst_blind_s: float
    settled_s: float
    most_targets: int
    settled: bool

    @property
    def failed(self) -> float:
        """The calls that failed."""
        return math.fsum(self.causes)


class Reading(Struct, frozen=True):
    """A reading: its unit ("" for a count), and how it is read."""

    unit: str
    read: Callable[[Ended], Any]


# By the name of a field of `Readings`, which is what an expectation asks for.
READINGS: dict[str, Reading] = {}
Read = TypeVar("Read", bound=Callable[[Ended], Any])


def reading(name: str, unit: str) -> Callable[[Read], Read]:
    """Registers how a reading is read; every field of `Readings` needs one."""

    def register(read: Read) -> Read:
        READINGS[name] = Reading(unit, read)
        return read

    return register


@reading("requests", "requests")
def _requests(ended: Ended) -> float:
    return ended.requests


@reading("failed", "requests")
def _failed(ended: Ended) -> float:
    return ended.failed


@reading("failed_share", "share")
def _failed_share(ended: Ended) -> float:
    return ended.failed / ended.requests if ended.requests else 0.0


@reading("failed_by_cause", "requests")
def _failed_by_cause(ended: Ended) -> dict[str, float]:
    return dict(zip(CAUSES, ended.causes, strict=True))


@reading("failed_by_mechanism", "requests")
def _failed_by_mechanism(ended: Ended) -> dict[str, float]:
    return dict(zip(MECHANISMS, ended.mechanisms, strict=True))


@reading("worst_blind_s", "s")
def _worst_blind_s(ended: Ended) -> float:
    return round(ended.worst_blind_s, DIGITS)


@reading("settled_s", "s")
def _settled_s(ended: Ended) -> float:
    return round(ended.settled_s, DIGITS)


@reading("peak_utilisation", "share")
def _peak_utilisation(ended: Ended) -> float:
    return ended.peak_utilisation


@reading("peak_latency_ms", "ms")
def _peak_latency_ms(ended: Ended) -> float:
    return ended.peak_latency_s * 1000


@reading("cross_zone_share", "share")
def _cross_zone_share(ended: Ended) -> float:
    return ended.cross_zone / ended.served if ended.served else 0.0


@reading("sessions_moved", "sessions")
def _sessions_moved(ended: Ended) -> float:
    return ended.sessions_moved


@reading("connections_reset", "connections")
def _connections_reset(ended: Ended) -> float:
    return ended.connections_reset


@reading("peak_targets", "")
def _peak_targets(ended: Ended) -> int:
    return ended.most_targets


@reading("settled", "")
def _settled(ended: Ended) -> bool:
    return ended.settled


def readings_of(ended: Ended) -> Readings:
    """Everything that is read of a drill."""
    return Readings(**{name: one.read(ended) for name, one in READINGS.items()})


class Totals:
    """Sums over the stretches between events (requests), and the peaks of a drill."""

    def __init__(self) -> None:
        self._requests: list[float] = []
        self._served: list[float] = []
        self._cross_zone: list[float] = []
        self._causes: list[Floats] = []
        self._mechanisms: list[Floats] = []
        self._peak_utilisation = 0.0
        self._peak_latency_s = 0.0
        # The calls that have failed so far.
        self.failed = 0.0

    def add(self, flow: Flow, seconds: float, later_s: Floats) -> None:
        """Adds a stretch of constant rates, after which backlogs are `later_s`; none of them turns within it, so that
        the peak of latency is at one of its ends."""
        self.count(flow, seconds)
        self._rise(peaking(flow))
        self._peak_latency_s = max(self._peak_latency_s, latency_at_end_s(flow, later_s))

    def count(self, flow: Flow, seconds: float) -> None:
        """Adds what happens in so many seconds."""
        self._requests.append(flow.requests * seconds)
        self._served.append(flow.served * seconds)
        self._cross_zone.append(flow.cross_zone * seconds)
        self._causes.append(flow.cause_rps * seconds)
        self.failed += float(self._causes[-1].sum())
        self._mechanisms.append(flow.mechanism_rps * seconds)

    def rise_through(
        self, first: Flow, ahead: Stretch, second: float, backlogs_s: tuple[Floats, Floats], end_of: EndOf
    ) -> None:  # fmt: skip
        """Notes what rates come to in a stretch, until a second, with these backlogs half-way and then; `end_of` finds
        those there, where none of its flows is the last."""
        half_way_s, later_s = backlogs_s
        # What stands for all that goes evenly has not come to the backlogs that there are half-way.
        rates_of = peaking_with(ahead.parts[0][0], half_way_s) if ahead.evenly else peaking
        rates = peaking_in(ahead.step) if ahead.step else rates_of
        self._rise(peaking(first))
        self._rise(ahead.most(rates))
        if ahead.evenly and ahead.then:
            self._rise(peaking(ahead.then))
        if ahead.soon:
            self._peak_latency_s = max(self._peak_latency_s, latency_at_end_s(ahead.parts[0][0], later_s))
        if ahead.leads_on(second) and self._may_rise(ahead.led_on(first, rates, second), ahead, later_s):
            self._rise(end_of(ahead, rates_of, second))

    def _rise(self, peaks: Floats) -> None:
        """Notes what rates have come to (see `peaking`)."""
        self._peak_utilisation = max(self._peak_utilisation, float(peaks[1:].max(initial=0.0)))
        self._peak_latency_s = max(self._peak_latency_s, float(peaks[0]))

    def _may_rise(self, led_on: Floats, ahead: Stretch, later_s: Floats) -> bool:
        """Whether a peak may be reached at the second to which a stretch leads on, with these backlogs."""
        led_on = led_on * (1 + NEARLY)
        slowest_s = max(float(led_on[0]), latency_at_end_s(ahead.parts[-1][0], later_s))
        return bool(led_on[1:].max(initial=0.0) > self._peak_utilisation or slowest_s > self._peak_latency_s)

    def ended(
        self, sessions_moved: float, connections_reset: float, worst_blind_s: float, settled_s: float, machines: int,
        *, settled: bool,
    ) -> Ended:  # fmt: skip
        """What the drill came to; sums are exactly rounded (Shewchuk's algorithm, as in `math.fsum`)."""
        return Ended(
            requests=math.fsum(self._requests),
            served=math.fsum(self._served),
            cross_zone=math.fsum(self._cross_zone),
            causes=_sums(self._causes, len(CAUSES)),
            mechanisms=_sums(self._mechanisms, len(MECHANISMS)),
            peak_utilisation=self._peak_utilisation,
            peak_latency_s=self._peak_latency_s,
            sessions_moved=sessions_moved,
            connections_reset=connections_reset,
            worst_blind_s=worst_blind_s,
            settled_s=settled_s,
            most_targets=machines,
            settled=settled,
        )


def _sums(stretches: Sequence[Floats], count: int) -> list[float]:
    return [math.fsum(stretch[number] for stretch in stretches) for number in range(count)]


def peaking(flow: Flow) -> Floats:
    """The rates whose peaks are read: the mean latency (s), then utilisations."""
    return np.concatenate([[flow.mean_latency_s], flow.queue.utilisation])


def peaking_with(one: Flow, later_s: Floats) -> Callable[[Flow], Floats]:
    """As `peaking`; of one flow once backlogs are `later_s`."""
    return lambda flow: (
        np.concatenate([[latency_at_end_s(flow, later_s)], flow.queue.utilisation]) if flow is one else peaking(flow)
    )


def peaking_in(step: Step) -> Callable[[Flow], Floats]:
    """As `peaking`, of the flows of a step, with the backlogs to which it comes there."""
    latencies_s = map(latency_at_end_s, step.flows, step.backlogs_s)
    peaks = [
        np.concatenate([[latency_s], flow.queue.utilisation])
        for flow, latency_s in zip(step.flows, latencies_s, strict=True)
    ]
    return lambda flow: peaks[next(place for place, one in enumerate(step.flows) if one is flow)]


def latency_at_end_s(flow: Flow, later_s: Floats) -> float:
    """The mean latency (s) once backlogs are `later_s`, all going as in a flow; 0 when nothing is served."""
    if flow.served <= 0:
        return 0.0
    more_s = (later_s - flow.state.backlog_s)[flow.network.pairs.machine]
    return flow.mean_latency_s + float(flow.pair_served @ more_s) / flow.served
