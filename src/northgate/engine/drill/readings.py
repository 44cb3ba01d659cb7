"""Readings of a drill: what its flows add up to."""

import math
from dataclasses import dataclass

from northgate.engine.base import DIGITS, MECHANISMS, Floats
from northgate.engine.solver import Flow
from northgate.plan.drills import CAUSES


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
        self._requests.append(flow.requests * seconds)
        self._served.append(flow.served * seconds)
        self._cross_zone.append(flow.cross_zone * seconds)
        self._causes.append(flow.cause_rps * seconds)
        self.failed += float(self._causes[-1].sum())
        self._mechanisms.append(flow.mechanism_rps * seconds)
        utilisation = flow.queue.utilisation
        self._peak_utilisation = max(self._peak_utilisation, float(utilisation.max(initial=0.0)))
        self._peak_latency_s = max(self._peak_latency_s, flow.mean_latency_s, _mean_latency_at_end(flow, later_s))

    def readings(
        self, sessions_moved: float, connections_reset: float, worst_blind_s: float, settled_s: float, machines: int,
        *, settled: bool,
    ) -> Readings:  # fmt: skip
        """The drill's readings; sums are exactly rounded (Shewchuk's algorithm, as in `math.fsum`)."""
        requests, served = math.fsum(self._requests), math.fsum(self._served)
        causes = [math.fsum(stretch[number] for stretch in self._causes) for number in range(len(CAUSES))]
        failed = math.fsum(causes)
        return Readings(
            requests=requests,
            failed=failed,
            failed_share=failed / requests if requests else 0.0,
            failed_by_mechanism={
                name: math.fsum(stretch[number] for stretch in self._mechanisms)
                for number, name in enumerate(MECHANISMS)
            },
            failed_by_cause=dict(zip(CAUSES, causes, strict=True)),
            worst_blind_s=round(worst_blind_s, DIGITS),
            settled_s=round(settled_s, DIGITS),
            peak_utilisation=self._peak_utilisation,
            peak_latency_ms=self._peak_latency_s * 1000,
            cross_zone_share=math.fsum(self._cross_zone) / served if served else 0.0,
            sessions_moved=sessions_moved,
            connections_reset=connections_reset,
            peak_targets=machines,
            settled=settled,
        )


def _mean_latency_at_end(flow: Flow, later_s: Floats) -> float:
    if flow.served <= 0:
        return 0.0
    more_s = (later_s - flow.state.backlog_s)[flow.network.pairs.machine]
    return flow.mean_latency_s + float(flow.pair_served @ more_s) / flow.served
