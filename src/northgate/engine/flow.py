"""The solver: rates at one moment, given truth and belief. Nothing else in North Gate computes a rate."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from northgate.engine.load import AT_BOUND_S, Queue, queue_under
from northgate.engine.network import Network
from northgate.engine.truth import ANSWERS, REFUSES, SILENT, Encounter, Truth
from northgate.engine.types import Bools, Floats, Ints, total_by
from northgate.plan.drills import CAUSES

REFUSED, TIMED_OUT, OVERLOADED, NONE_HEALTHY, BLOCKED, BAD_STATUS, DEAD_FRONT, RESET = range(len(CAUSES))
NOT_PROMISED = -1
NEVER = np.inf


@dataclass(frozen=True)
class Moment:
    """Everything that rates depend on: truth and what requests meet under it, what each pair's front believes, which
    fronts are in their address, the rate of each call (requests/s), the backlog of each machine (seconds of work)."""

    truth: Truth
    encounter: Encounter
    in_use: Bools
    in_address: Bools
    call_rps: Floats
    backlog_s: Floats


@dataclass(frozen=True)
class Choice:
    """How each front chooses: per cell the share of its route, per pair the share of its cell, per route what fails.

    `lane_share[l]` is the share of its route's requests that go through lane l; `route_refused` the share that finds
    nobody (cause none_healthy); `pair_share` sums to 1 over a cell that has anybody to choose.
    """

    route_choice: Ints
    lane_share: Floats
    route_refused: Floats
    pair_share: Floats
    cell_in_use: Floats
    cell_targets: Floats


@dataclass(frozen=True)
class Flow:
    """Rates (requests/s) at one moment; arrays over the network's indices.

    `pair_served` is what is served of each pair's `pair_rps`. Causes run as in `plan.drills.CAUSES`.
    """

    network: Network
    moment: Moment
    choice: Choice
    queue: Queue
    front_rps: Floats
    front_dead_rps: Floats
    front_served: Floats
    call_served: Floats
    call_cause: Floats
    entry_rps: Floats
    entry_served: Floats
    cell_rps: Floats
    cell_served: Floats
    lane_rps: Floats
    lane_served: Floats
    route_rps: Floats
    pair_rps: Floats
    pair_served: Floats
    zone_served: Floats
    zone_from_elsewhere: Floats
    latency_sum: float

    @cached_property
    def requests(self) -> float:
        """Calls offered per second."""
        return float(self.moment.call_rps.sum())

    @cached_property
    def cause_rps(self) -> Floats:
        """Failed calls per second by cause."""
        return np.asarray(self.call_cause.sum(axis=0))

    @cached_property
    def served(self) -> float:
        """Served calls per second."""
        return float(self.call_served.sum())

    @cached_property
    def cross_zone(self) -> float:
        """Served calls per second whose front and target stand in different zones."""
        return float(self.pair_served[~self.network.pairs.same_zone].sum())

    @cached_property
    def mean_latency_s(self) -> float:
        """The mean latency of served calls, the client's round trip included; 0 when nothing is served."""
        return self.latency_sum / self.served if self.served > 0 else 0.0


def choose(network: Network, in_use: Bools) -> Choice:
    """Tiers, groups and targets as each front sees them (pools in order, groups by weight, targets by weight)."""
    pairs, routes = network.pairs, network.routes
    cells = len(routes.cell_front)
    counted = pairs.weight > 0
    cell_in_use = total_by(pairs.cell, in_use & counted, cells)
    cell_targets = total_by(pairs.cell, counted, cells)
    choice_in_use = _sum_of_lanes(network, cell_in_use)
    route_choice = _serving_choice(network, choice_in_use, _sum_of_lanes(network, cell_targets))
    serving = route_choice[routes.lane_route] == routes.lane_choice
    anyway = serving & (choice_in_use == 0)[routes.lane_choice] & _sends_anyway(network)
    anyway &= (cell_targets > 0)[routes.lane_cell]
    lane_share, refused = _lane_shares(network, serving, (cell_in_use > 0)[routes.lane_cell] | anyway, choice_in_use)
    cell_anyway = total_by(routes.lane_cell, anyway, cells) > 0
    candidate = counted & (in_use | cell_anyway[pairs.cell])
    return Choice(route_choice, lane_share, refused, _pair_shares(network, candidate), cell_in_use, cell_targets)


def _sum_of_lanes(network: Network, of_cell: Floats) -> Floats:
    """Sums a value of cells over the lanes of each choice."""
    routes = network.routes
    return total_by(routes.lane_choice, of_cell[routes.lane_cell], len(routes.choice_route))


def _serving_choice(network: Network, known: Floats, whole: Floats) -> Ints:
    """Per route the first choice with enough targets in use, else the first with any, else the first."""
    routes = network.routes
    choices = len(routes.choice_route)
    enough = (known >= routes.choice_min_count) & (known >= routes.choice_min_share * whole - 1e-9) & (known > 0)
    best = routes.first_choice.copy()
    for fitting in (known > 0, enough):
        first = np.full(len(best), choices)
        np.minimum.at(first, routes.choice_route[fitting], np.flatnonzero(fitting))
        best = np.where(first < choices, first, best)
    return best


def _sends_anyway(network: Network) -> Bools:
    """Per lane: its group sends to all its targets when none is healthy."""
    groups = network.plan.target_groups
    anyway = np.array([group.when_none_healthy == "send-anyway" for group in groups], dtype=bool)
    return anyway[network.routes.cell_group[network.routes.lane_cell]] if len(anyway) else np.zeros(0, dtype=bool)


def _lane_shares(network: Network, serving: Bools, lane_serves: Bools, choice_in_use: Floats) -> tuple[Floats, Floats]:
    """The share of each route's requests per lane, and per route the share that finds nobody.

    An empty group's weight is shared out, or fails, as its tier says; when the whole tier is empty, each group's
    weight is its own affair.
    """
    routes = network.routes
    count = len(routes.route_front)
    weight = np.where(serving, routes.lane_weight, 0.0)
    filled = np.where(lane_serves, weight, 0.0)
    shares_out = routes.choice_shares_out & (choice_in_use > 0)
    based_on = np.where(shares_out[routes.lane_choice], filled, weight)
    base = total_by(routes.lane_route, based_on, count)[routes.lane_route]
    share = np.divide(filled, base, out=np.zeros_like(filled), where=base > 0)
    refused = np.divide(based_on - filled, base, out=np.zeros_like(filled), where=base > 0)
    lost = total_by(routes.lane_route, refused, count)
    given = total_by(routes.lane_route, share, count)
    return share, np.where(given + lost > 0, lost, 1.0)


def _pair_shares(network: Network, candidate: Bools) -> Floats:
    """Round robin: each candidate's share of its cell, by weight; `prefer-zone` cells keep to their zone if any."""
    pairs, routes = network.pairs, network.routes
    cells = len(routes.cell_front)
    weight = np.where(candidate, pairs.weight, 0.0)
    prefers = np.array([group.reach == "prefer-zone" for group in network.plan.target_groups], dtype=bool)
    if prefers.any():
        own = np.where(pairs.same_zone, weight, 0.0)
        has_own = total_by(pairs.cell, own, cells) > 0
        weight = np.where((prefers[routes.cell_group] & has_own)[pairs.cell], own, weight)
    whole = total_by(pairs.cell, weight, cells)[pairs.cell]
    return np.divide(weight, whole, out=np.zeros_like(weight), where=whole > 0)


def solve(network: Network, moment: Moment) -> Flow:
    """The rates of this moment: where every request goes, and what becomes of it."""
    choice = choose(network, moment.in_use)
    arrivals = _arrivals(network, moment)
    lanes = _through_lanes(network, choice, arrivals, moment.encounter.fate)
    met = moment.encounter.met
    pair_rps = (lanes.cell.sum(axis=0))[network.pairs.cell] * choice.pair_share
    queue = _queues(network, moment, np.where(met == ANSWERS, pair_rps, 0.0))
    fates = _fates(network, moment, queue)
    return _gather(network, moment, choice, queue, arrivals, lanes, pair_rps, fates)


@dataclass(frozen=True)
class _Arrivals:
    """Rates at the fronts: per row of `entry_fronts`, what arrives there and what of it meets a living front."""

    entry_rps: Floats
    row_rps: Floats
    row_living: Floats
    stranded: Floats


def _arrivals(network: Network, moment: Moment) -> _Arrivals:
    """Every entry's requests spread evenly over the fronts that are in the address, dead or alive."""
    entries = network.entries
    entry, front, _ = network.entry_fronts
    rps = moment.call_rps[entries.call] * entries.share
    present = np.where(moment.in_address[front], 1.0, 0.0)
    count = total_by(entry, present, len(rps))
    row_rps = np.divide(rps[entry] * present, count[entry], out=np.zeros(len(entry)), where=count[entry] > 0)
    living = np.where(moment.truth.front_dead[front], 0.0, row_rps)
    return _Arrivals(rps, row_rps, living, np.where(count > 0, 0.0, rps))


@dataclass(frozen=True)
class _Lanes:
    """Rates per fate (first axis) by route, lane and cell."""

    route: Floats
    lane: Floats
    cell: Floats


def _through_lanes(network: Network, choice: Choice, arrivals: _Arrivals, fate: Ints) -> _Lanes:
    entry, _, route = network.entry_fronts
    outcomes, routes = int(fate.max(initial=0)) + 1, len(network.routes.route_front)
    outcome = fate[network.calls.outcome[network.entries.call]][entry]
    routed = route >= 0
    flat = outcome[routed] * routes + route[routed]
    by_route = total_by(flat, arrivals.row_living[routed], outcomes * routes)
    by_route = by_route.reshape(outcomes, routes)
    by_lane = by_route[:, network.routes.lane_route] * choice.lane_share
    return _Lanes(by_route, by_lane, _sum_by(network.routes.lane_cell, by_lane, len(network.routes.cell_front)))


def _sum_by(index: Ints, values: Floats, count: int) -> Floats:
    """Sums the columns of `values` that have the same index: (rows, len(index)) to (rows, count)."""
    rows = values.shape[0]
    flat = (np.arange(rows)[:, None] * count + index).ravel()
    return total_by(flat, values.ravel(), rows * count).reshape(rows, count)


def _queues(network: Network, moment: Moment, arriving: Floats) -> Queue:
    machines = network.machines
    offered = total_by(network.pairs.machine, arriving, len(machines.names))
    slowness = moment.truth.slowness
    return queue_under(
        machines.capacity / slowness, machines.service_s * slowness, machines.queue_s, offered, moment.backlog_s
    )


@dataclass(frozen=True)
class _Fates:
    """What becomes of a request of each fate at each pair: served share, and the share lost per cause."""

    served: Floats
    refused: Floats
    timed_out: Floats
    overloaded: Floats
    bad_status: Floats


def too_late(latency_s: Floats, slope: Floats, bound_s: Floats) -> Bools:
    """Whether a latency is beyond a bound; exactly at it, whether it is about to be."""
    return (latency_s > bound_s + AT_BOUND_S) | ((np.abs(latency_s - bound_s) <= AT_BOUND_S) & (slope > 0))


def _fates(network: Network, moment: Moment, queue: Queue) -> _Fates:
    pairs = network.pairs
    latency, slope, excess = (values[pairs.machine] for values in (queue.latency_s, queue.slope, queue.excess))
    met = moment.encounter.met
    answers = met == ANSWERS
    late = too_late(latency, slope, moment.encounter.patience_s)
    bad = moment.encounter.bad_page
    taken = np.where(answers, 1 - excess, 0.0)
    return _Fates(
        served=np.where(late | bad, 0.0, taken),
        refused=np.broadcast_to(np.where(met == REFUSES, 1.0, 0.0), late.shape),
        timed_out=np.where(late, taken, 0.0) + np.where(met == SILENT, 1.0, 0.0),
        overloaded=np.broadcast_to(np.where(answers, excess, 0.0), late.shape),
        bad_status=np.where(bad & ~late, taken, 0.0),
    )


def _gather(
    network: Network,
    moment: Moment,
    choice: Choice,
    queue: Queue,
    arrivals: _Arrivals,
    lanes: _Lanes,
    pair_rps: Floats,
    fates: _Fates,
) -> Flow:
    """Sums the rates that readings and views ask for."""
    pairs, routes = network.pairs, network.routes
    cells = len(routes.cell_front)
    shares = {
        cause: _sum_by(pairs.cell, choice.pair_share * values, cells)
        for cause, values in (
            (None, fates.served),
            (REFUSED, fates.refused),
            (TIMED_OUT, fates.timed_out),
            (OVERLOADED, fates.overloaded),
            (BAD_STATUS, fates.bad_status),
        )
    }
    per_route = {cause: _route_share(network, choice, share) for cause, share in shares.items()}
    rows = _rows(network, moment, choice, arrivals, per_route)
    pair_served = (lanes.cell[:, pairs.cell] * choice.pair_share * fates.served).sum(axis=0)
    latency = float(pair_served @ queue.latency_s[pairs.machine]) + _round_trips(network, rows.served)
    zones = len(network.zones)
    target_zone = network.machines.zone[pairs.machine]
    crossing = np.where(pairs.same_zone, 0.0, pair_served)
    fixed_zone = total_by(network.fronts.zone[rows.front], rows.fixed_served, zones)
    entries, fronts = len(network.entries.call), len(network.fronts.zone)
    return Flow(
        network=network,
        moment=moment,
        choice=choice,
        queue=queue,
        front_rps=total_by(rows.front, arrivals.row_rps, fronts),
        front_dead_rps=total_by(rows.front, arrivals.row_rps - arrivals.row_living, fronts),
        front_served=total_by(rows.front, rows.served, fronts),
        call_served=total_by(network.entries.call[rows.entry], rows.served, len(moment.call_rps)),
        call_cause=rows.cause,
        entry_rps=arrivals.entry_rps,
        entry_served=total_by(rows.entry, rows.served, entries),
        cell_rps=lanes.cell.sum(axis=0),
        cell_served=total_by(pairs.cell, pair_served, cells),
        lane_rps=lanes.lane.sum(axis=0),
        lane_served=(lanes.lane * shares[None][:, routes.lane_cell]).sum(axis=0),
        route_rps=lanes.route.sum(axis=0),
        pair_rps=pair_rps,
        pair_served=pair_served,
        zone_served=total_by(target_zone, pair_served, zones) + fixed_zone,
        zone_from_elsewhere=total_by(target_zone, crossing, zones),
        latency_sum=latency,
    )


def _route_share(network: Network, choice: Choice, cell_share: Floats) -> Floats:
    """From shares of a cell's requests to shares of a route's: (outcomes, cells) to (outcomes, routes)."""
    routes = network.routes
    return _sum_by(routes.lane_route, cell_share[:, routes.lane_cell] * choice.lane_share, len(routes.route_front))


@dataclass(frozen=True)
class _Rows:
    """Per row of `entry_fronts` what is served, in all and by the balancer itself; per call what fails by cause."""

    entry: Ints
    front: Ints
    served: Floats
    fixed_served: Floats
    cause: Floats


def _rows(
    network: Network, moment: Moment, choice: Choice, arrivals: _Arrivals, per_route: dict[int | None, Floats]
) -> _Rows:
    entry, front, route = network.entry_fronts
    entries = network.entries
    call = entries.call[entry]
    outcome = moment.encounter.fate[network.calls.outcome[call]]
    routed, living = route >= 0, arrivals.row_living
    at = np.where(routed, route, 0)

    def of_route(share: Floats) -> Floats:
        return np.where(routed, living * share[outcome, at], 0.0) if share.shape[1] else np.zeros(len(entry))

    fixed = np.where(routed, 0.0, living)
    fixed_served = np.where(entries.fixed_cause[entry] == NOT_PROMISED, fixed, 0.0)
    cause = np.zeros((len(moment.call_rps), len(CAUSES)))
    for number, share in per_route.items():
        if number is not None:
            np.add.at(cause[:, number], call, of_route(share))
    refused = choice.route_refused[at] if len(choice.route_refused) else np.zeros(len(entry))
    np.add.at(cause[:, NONE_HEALTHY], call, np.where(routed, living * refused, 0.0))
    np.add.at(cause[:, DEAD_FRONT], call, arrivals.row_rps - living)
    failing = entries.fixed_cause[entry] != NOT_PROMISED
    np.add.at(cause, (call[failing], entries.fixed_cause[entry][failing]), fixed[failing])
    stuck = np.where(entries.balancer >= 0, DEAD_FRONT, entries.fixed_cause)
    np.add.at(cause, (entries.call, stuck), arrivals.stranded)
    served = of_route(per_route[None]) + fixed_served
    return _Rows(entry, front, served, fixed_served, cause)


def _round_trips(network: Network, row_served: Floats) -> float:
    """Served rate times the client's round trip, summed (requests, as rate times seconds)."""
    entry, front, _ = network.entry_fronts
    region = network.zone_region[network.fronts.zone[front]]
    return float(row_served @ network.calls.round_trip_s[network.entries.call[entry], region])
