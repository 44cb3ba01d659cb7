"""Backlogs between events: how far they have come, and when the next one meets a bound.

A bound is a full queue, an empty one, or a latency beyond which a client or a probe no longer waits.
"""

from dataclasses import dataclass

import numpy as np

from northgate.engine.flow import Flow
from northgate.engine.load import AT_BOUND_S
from northgate.engine.network import Network
from northgate.engine.types import Floats, Ints

NEVER = np.inf


@dataclass(frozen=True)
class Crossing:
    """The next meeting of a backlog with a bound: when, which machines, and the backlog that they then have."""

    at_s: float
    machines: Ints
    backlog_s: Floats


NO_CROSSING = Crossing(NEVER, np.zeros(0, dtype=np.int64), np.zeros(0))


def patience_bounds(network: Network) -> Floats:
    """Every latency (s) beyond which some client, balancer or probe gives up, once each."""
    patience = np.minimum.outer(np.unique(network.calls.outcome_timeout_s), np.unique(network.pair_response_timeout_s))
    # Whoever has waited for silent targets before has so much less patience.
    spent = {0.0} | {
        number * group.connect_timeout_s
        for group in network.plan.target_groups
        for number in range(1, group.try_others + 1)
    }
    left = np.subtract.outer(patience.ravel(), np.array(sorted(spent))).ravel()
    probes = np.array([probe.timeout_s for probe in network.plan.probes], dtype=np.float64)
    return np.unique(np.concatenate([left[left > 0], probes]))


def next_crossing(flow: Flow, bounds_s: Floats, now: float) -> Crossing:
    """When, from `now` on, a backlog next meets a bound; the slopes hold until then."""
    moving = np.flatnonzero(flow.queue.slope)
    if not len(moving):
        return NO_CROSSING
    slope, backlog = flow.queue.slope[moving], flow.moment.backlog_s[moving]
    end = np.where(slope > 0, flow.network.machines.queue_s[moving], 0.0)
    late = bounds_s[None, :] - (flow.queue.latency_s[moving] - backlog)[:, None]
    aims = np.concatenate([end[:, None], late], axis=1)
    way = (aims - backlog[:, None]) * np.sign(slope)[:, None]
    reachable = (way > AT_BOUND_S) & (aims >= 0) & (aims <= np.maximum(end, backlog)[:, None] + AT_BOUND_S)
    seconds = np.where(reachable, way / np.abs(slope)[:, None], NEVER)
    nearest = seconds.argmin(axis=1)
    each = seconds[np.arange(len(moving)), nearest]
    soonest = float(each.min())
    if soonest == NEVER:
        return NO_CROSSING
    meets = each <= soonest + AT_BOUND_S
    return Crossing(now + soonest, moving[meets], aims[np.arange(len(moving)), nearest][meets])


def advance(flow: Flow, seconds: float) -> Floats:
    """The backlogs `seconds` later, kept between empty and full."""
    later = flow.moment.backlog_s + flow.queue.slope * seconds
    return np.clip(later, 0.0, np.maximum(flow.network.machines.queue_s, flow.moment.backlog_s))
