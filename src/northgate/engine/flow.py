"""The solver: rates at one moment, given truth and belief. Nothing else in North Gate computes a rate.

Requests go forward, from entries to fronts, lanes, cells and pairs, one level of balancers after the other; what
becomes of them goes back the same way, as shares of what is sent. Where the choice of a target depends on how busy it
is, both are solved together.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from northgate.engine.load import AT_BOUND_S, Queue, queue_under
from northgate.engine.network import Network
from northgate.engine.shares import Choice, busy_shares, choose, even_shares, hash_table
from northgate.engine.truth import ANSWERS, REFUSES, SILENT, Encounter, Truth
from northgate.engine.truth import BLOCKED as BLOCKED_WAY
from northgate.engine.types import Bools, Floats, Ints, total_by
from northgate.plan.drills import CAUSES

REFUSED, TIMED_OUT, OVERLOADED, NONE_HEALTHY, BLOCKED, BAD_STATUS, DEAD_FRONT, RESET = range(len(CAUSES))
# After the causes: what is served, and the time that this takes (share times seconds).
SERVED, WORK = len(CAUSES), len(CAUSES) + 1
# Besides: what of TIMED_OUT was answered, but too late.
LATE = len(CAUSES) + 2
KINDS = len(CAUSES) + 3
# Why requests fail: the target is bad and its verdict has not come; the front is dead; the answer is an old one; queues
# are full; nobody is in use; a firewall or route; the balancer itself says no.
MECHANISMS = ("waiting", "dead_front", "old_answers", "overload", "none_healthy", "blocked", "by_rule")
# What a layer 7 balancer answers when it fails by itself.
STATUSES = {REFUSED: 502, NONE_HEALTHY: 503, OVERLOADED: 503, TIMED_OUT: 504}
# Shares that depend on the load that they make are settled when none changes by more than this.
SETTLED, ROUNDS, SHORTEST_STEP = 1e-13, 400, 1 / 64


@dataclass(frozen=True)
class Moment:
    """Everything that rates depend on: truth and what requests meet under it, what each pair's front believes, which
    fronts are in their address, which answers of each name are healthy, the share of its call's
    requests that each entry is told to take, the warmth (0 to 1) of each pair's target,
    the rate of each call (requests/s), the backlog of each machine (seconds of work). `held[k, m]`: the share of the
    sources of the k-th kind of session (`Network.session_kinds`) that are bound to member m.
    `attempts`: how often each entry's calls were tried on average in the state before, from which a retry storm goes
    on. `lost`: per call that goes on to the next address the share that meets dead fronts to the end (NaN: another
    call); `told` then counts every try. `fresh`: what entries would be told if nobody held old answers."""

    truth: Truth
    encounter: Encounter
    in_use: Bools
    in_address: Bools
    healthy: Sequence[Bools]
    told: Floats
    warmth: Floats
    call_rps: Floats
    backlog_s: Floats
    held: Floats | None = None
    attempts: Floats | None = None
    lost: Floats | None = None
    fresh: Floats | None = None


@dataclass(frozen=True)
class Flow:
    """Rates (requests/s) at one moment; arrays over the network's indices.

    `pair_share[f, p]` is the share of its cell that pair p gets of the requests of fate f (one row when all fare
    alike); `pair_served` is what is served of each pair's `pair_rps`. `row_part` is the share of an entry's requests
    that each row of `entry_fronts` gets, `row_fate[r, k]` what becomes of them: the causes as in `plan.drills.CAUSES`,
    then SERVED and WORK. `opening[f, p]` is the share of requests without a session that would be served by pair p,
    `fate_cell_rps[f, c]` the rate of each fate at each cell.
    """

    network: Network
    moment: Moment
    choice: Choice
    queue: Queue
    pair_share: Floats
    attempts: Floats
    opening: Floats
    fate_cell_rps: Floats
    row_part: Floats
    row_fate: Floats
    entry_fate: Floats
    entry_accepts: Floats
    front_rps: Floats
    front_dead_rps: Floats
    front_served: Floats
    call_served: Floats
    call_cause: Floats
    mechanism_rps: Floats
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

    def call_fate(self, call: int) -> Floats:
        """What becomes of a call, by kind, as shares; also of one that nobody makes now."""
        mine = self.network.entries_of_call[call]
        return np.asarray(self.moment.told[mine] @ self.entry_fate[mine])

    def call_accepted(self, call: int) -> float:
        """The share of a call's connections that a living front takes which believes some target in use."""
        mine = self.network.entries_of_call[call]
        return float(self.moment.told[mine] @ self.entry_accepts[mine])

    def fates_of_client(self, client: int) -> Ints:
        """The fates of a client group's calls."""
        calls = self.network.calls
        return np.unique(self.moment.encounter.fate[calls.outcome[calls.client == client]])


def solve(network: Network, moment: Moment) -> Flow:
    """The rates of this moment: where every request goes, and what becomes of it."""
    choice = choose(network, moment.in_use, moment.warmth)
    solving = _Solving(network, moment, choice)
    share = solving.first_shares()
    sent, queue, back = solving.go(share)
    if solving.busy:
        step, before = 1.0, np.inf
        for _ in range(ROUNDS):
            wanted = solving.busy_shares(share, sent, queue, back)
            change = float(np.abs(wanted - share).max(initial=0.0))
            # All the way to what is wanted, and shorter steps once that has been seen to overshoot.
            step = max(step / 2, SHORTEST_STEP) if change > before / 2 else step
            share, before = (wanted if change <= SETTLED else share + step * (wanted - share)), change
            sent, queue, back = solving.go(share)
            if change <= SETTLED:
                break
    if solving.retries.any():
        share, sent, queue, back = _with_retries(solving, share)
    return solving.flow(share, sent, queue, back)


def _with_retries(solving: "_Solving", share: Floats) -> tuple[Floats, "_Sent", Queue, "_Back"]:
    """The fixed point of attempts and the failures that they make, from the state before on.

    A call that fails is tried again up to r times: 1 + p + ... + p^r attempts, p being what fails of one.
    """
    while True:
        sent, queue, back = solving.go(share)
        if solving.busy:
            share = solving.busy_shares(share, sent, queue, back)
        wanted = solving.attempts_for(back)
        change = float(np.abs(wanted - solving.attempts).max(initial=0.0))
        solving.attempts = wanted
        solving.rounds += 1
        if change <= SETTLED or solving.rounds >= ROUNDS:
            return share, sent, queue, back


@dataclass(frozen=True)
class _Sent:
    """Rates on the way forward: per entry and row, and per fate (first axis) by route, lane and cell."""

    entry: Floats
    row: Floats
    route: Floats
    lane: Floats
    cell: Floats


@dataclass(frozen=True)
class _Back:
    """What becomes of a request, as shares by kind: at a pair (kind, fate, pair), at a lane's cell, at a row."""

    pair: dict[int, Floats]
    cell: Floats
    row: Floats
    entry: Floats


def too_late(latency_s: Floats, slope: Floats, bound_s: Floats) -> Bools:
    """Whether a latency is beyond a bound; exactly at it, whether it is about to be."""
    return (latency_s > bound_s + AT_BOUND_S) | ((np.abs(latency_s - bound_s) <= AT_BOUND_S) & (slope > 0))


def sum_columns(index: Ints, values: Floats, count: int) -> Floats:
    """Sums the columns of `values` that have the same index: (rows, len(index)) to (rows, count)."""
    rows = values.shape[0]
    flat = (np.arange(rows)[:, None] * count + index).ravel()
    return total_by(flat, values.ravel(), rows * count).reshape(rows, count)


class _Solving:
    """One moment while it is solved."""

    def __init__(self, network: Network, moment: Moment, choice: Choice) -> None:
        self.network, self.moment, self.choice = network, moment, choice
        self.entry, self.front, self.route = network.entry_fronts
        self.call = network.entries.call[self.entry]
        self.fates = int(moment.encounter.fate.max(initial=0)) + 1
        self.fate_of_call = moment.encounter.fate[network.calls.outcome]
        self.routed = self.route >= 0
        self.routes, self.cells = len(network.routes.route_front), len(network.routes.cell_front)
        self.busy = any(method in ("least-connections", "two-choices") for method in network.cell_method)
        self.inner = np.flatnonzero(network.entries.member >= 0)
        self.told = moment.told
        entries = network.entries
        tries = np.array([*(client.retries for client in network.plan.clients), 0], dtype=np.float64)
        self.retries: Floats = np.where(entries.member < 0, tries[network.calls.client[entries.call]], 0.0)
        self.attempts = np.ones(len(entries.call)) if moment.attempts is None else moment.attempts
        self.rounds = 0

    def go(self, share: Floats) -> tuple["_Sent", Queue, "_Back"]:
        """Forward with these shares of those who are free to be sent anywhere, through the queues, and back."""
        mixed = self.mixed(share)
        sent = self.forward(mixed)
        queue = self.queues(mixed, sent)
        return sent, queue, self.backward(mixed, queue)

    # Who is chosen

    def mixed(self, share: Floats) -> Floats:
        """The shares of all requests: of those that a session binds, while the front believes its target in use, and
        of the others."""
        held, network = self.moment.held, self.network
        if held is None or not len(held):
            return share
        made = np.repeat(share, self.fates, axis=0) if len(share) == 1 else share.copy()
        for (client, cells), of_kind in zip(network.session_kinds, held, strict=True):
            fates = np.unique(self.fate_of_call[network.calls.client == client])
            for cell in cells:
                mine = network.cell_pairs[int(cell)]
                bound = of_kind[network.pairs.member[mine]] * self.moment.in_use[mine]
                made[np.ix_(fates, mine)] = bound + (1 - bound.sum()) * made[np.ix_(fates, mine)]
        return made

    def first_shares(self) -> Floats:
        """Shares by weight, by hash where the group wants that: one row, or one a fate where sources matter."""
        network = self.network
        even = even_shares(network, self.choice.pair_weight)
        hashed = [cell for cell, method in enumerate(network.cell_method) if method == "source-hash"]
        if not hashed:
            return even[None, :]
        table, share = hash_table(network), np.repeat(even[None, :], self.fates, axis=0)
        segments = self.moment.encounter.fate_segment
        for cell in hashed:
            mine = network.cell_pairs[cell]
            asked = np.unique(segments)
            of_segment = [network.segments[int(number)] for number in asked]
            fallen = table.shares(cell, of_segment, self.choice.pair_weight[mine])
            for number, shares in zip(asked, fallen, strict=True):
                share[np.ix_(segments == number, mine)] = shares
        return share

    def busy_shares(self, share: Floats, sent: _Sent, queue: Queue, back: _Back) -> Floats:
        """The shares that would follow from the load that these shares make."""
        network, met = self.network, self.moment.encounter.met
        silent = (met == SILENT) | (met == BLOCKED_WAY)
        hold = np.where(met == ANSWERS, queue.latency_s[network.pairs.machine], 0.0)
        hold = np.where(silent, network.pair_connect_timeout_s, hold)
        onward = network.members.leads_on[network.pairs.member]
        if onward.any():
            worked, served = back.pair[WORK].mean(axis=0), back.pair[SERVED].mean(axis=0)
            hold = np.where(onward, np.divide(worked, served, out=np.zeros_like(hold), where=served > 0), hold)
        made = busy_shares(
            network, self.choice.pair_weight, hold, met == REFUSES, silent, sent.cell.sum(axis=0), share[0]
        )
        by_busy = np.isin(np.array(network.cell_method), ("least-connections", "two-choices"))[network.pairs.cell]
        return np.where(by_busy, made[None, :], share)

    # Forward

    @cached_property
    def row_part(self) -> Floats:
        """The share of an entry's requests that each of its fronts gets: even over those in the address.

        An anycast address leads each area to the nearest region that has a front in it.
        """
        network, moment = self.network, self.moment
        # Where each front has an address of its own, those who were told it come to it, in the answer or not.
        own = network.entries.front[self.entry] >= 0
        present = (moment.in_address[self.front] | own).astype(np.float64)
        anycast = np.array([one.address_kind == "anycast" for one in network.plan.balancers], dtype=bool)
        if anycast.any():
            present *= self._nearest(present > 0, anycast)
        count = total_by(self.entry, present, len(network.entries.call))[self.entry]
        return np.divide(present, count, out=np.zeros_like(present), where=count > 0)

    def _nearest(self, present: Bools, anycast: Bools) -> Floats:
        network = self.network
        region = network.zone_region[network.fronts.zone[self.front]]
        trip = np.where(present, network.calls.round_trip_s[self.call, region], np.inf)
        # Regions that are equally near: the first in the plan.
        rank = np.where(np.isfinite(trip), trip, np.inf)
        best = np.full(len(network.entries.call), np.inf)
        np.minimum.at(best, self.entry, rank)
        near = present & (rank == best[self.entry])
        first = np.full(len(best), len(network.regions))
        np.minimum.at(first, self.entry[near], region[near])
        near &= region == first[self.entry]
        return np.where(anycast[network.fronts.balancer[self.front]], near, True).astype(np.float64)

    @cached_property
    def arrives(self) -> Bools:
        """Which rows meet a living front, and are let in."""
        return ~self.moment.truth.front_dead[self.front] & ~self.moment.encounter.row_blocked

    def forward(self, share: Floats) -> _Sent:
        """Every request's way to the pairs; what leads on from there is sent again, a level deeper."""
        network = self.network
        entries = network.entries
        of_client = entries.member < 0
        rps = np.where(of_client, self.moment.call_rps[entries.call] * self.told * self.attempts, 0.0)
        sent = self._to_cells(rps)
        for _ in range(network.levels - 1 if len(self.inner) else 0):
            rps[self.inner] = self._passed_on(share, sent)[self.inner] * self.told[self.inner]
            sent = self._to_cells(rps)
        return sent

    def _to_cells(self, rps: Floats) -> _Sent:
        routes = self.network.routes
        row = rps[self.entry] * self.row_part
        living = np.where(self.arrives, row, 0.0)
        flat = self.fate_of_call[self.call[self.routed]] * self.routes + self.route[self.routed]
        by_route = total_by(flat, living[self.routed], self.fates * self.routes).reshape(self.fates, self.routes)
        by_lane = by_route[:, routes.lane_route] * self.choice.lane_share
        return _Sent(rps.copy(), row, by_route, by_lane, sum_columns(routes.lane_cell, by_lane, self.cells))

    def _passed_on(self, share: Floats, sent: _Sent) -> Floats:
        """Per entry behind a target: the rate at which its call comes through that target."""
        pairs, entries = self.network.pairs, self.network.entries
        onward = np.flatnonzero(self.network.members.leads_on[pairs.member])
        rate = sent.cell[:, pairs.cell[onward]] * np.broadcast_to(share, (self.fates, share.shape[1]))[:, onward]
        count = len(self.network.members.group)
        by_member = sum_columns(pairs.member[onward], rate, count)
        return by_member[self.fate_of_call[entries.call], np.maximum(entries.member, 0)]

    def queues(self, share: Floats, sent: _Sent) -> Queue:
        """How the machines' queues stand under what reaches them."""
        network, machines = self.network, self.network.machines
        met = self.moment.encounter.fate_met == ANSWERS
        if len(share) == 1 and (met == met[:1]).all():
            arriving = sent.cell.sum(axis=0)[network.pairs.cell] * share[0] * met[0]
        else:
            arriving = (sent.cell[:, network.pairs.cell] * share * met).sum(axis=0)
        arriving = np.where(network.members.leads_on[network.pairs.member], 0.0, arriving)
        offered = total_by(network.pairs.machine, arriving, len(machines.names))
        slowness = self.moment.truth.slowness
        return queue_under(
            machines.capacity / slowness, machines.service_s * slowness, machines.queue_s, offered,
            self.moment.backlog_s,
        )  # fmt: skip

    # Retries

    @cached_property
    def by_key(self) -> Bools:
        """The entries whose repeats meet the same target again, as a hash holds them there."""
        hashed = np.array([group.balance == "source-hash" for group in self.network.plan.target_groups], dtype=bool)
        routes = self.network.routes
        through = np.zeros(self.routes, dtype=bool)
        if self.routes:
            through[routes.lane_route[hashed[routes.cell_group[routes.lane_cell]]]] = True
        made = np.zeros(len(self.network.entries.call), dtype=bool)
        made[self.entry[self.routed]] = through[self.route[self.routed]]
        return made

    @cached_property
    def in_sets(self) -> Bools:
        """The entries of calls that go on to the next address of an answer when they meet a dead front."""
        lost, entries = self.moment.lost, self.network.entries
        if lost is None:
            return np.zeros(len(entries.call), dtype=bool)
        return np.asarray(~np.isnan(lost)[entries.call] & (entries.member < 0))

    def failing(self, entry: Floats) -> Floats:
        """What fails of one attempt: at an entry, or of the whole call where it goes from one address to the next."""
        alone = np.clip(1 - entry[:, SERVED], 0.0, 1.0)
        if not self.in_sets.any():
            return alone
        mine = np.flatnonzero(self.in_sets)
        call = self.network.entries.call
        served = total_by(call[mine], self.told[mine] * entry[mine, SERVED], len(self.moment.call_rps))
        return np.where(self.in_sets, np.clip(1 - served, 0.0, 1.0)[call], alone)

    def attempts_for(self, back: "_Back") -> Floats:
        """How often each entry's calls are tried, given what fails of one attempt."""
        fails = self.failing(back.entry)
        drawn = np.ones(len(fails))
        for number in range(1, int(self.retries.max(initial=0)) + 1):
            drawn += np.where(self.retries >= number, fails**number, 0.0)
        return np.where(self.by_key, 1 + self.retries * fails, drawn)

    def of_calls(self, entry: Floats) -> tuple[Floats, Floats]:
        """What becomes of an entry's calls, counted once by their last attempt; and per call what it loses to dead
        fronts at every address (0 where that stands among the entries)."""
        if not self.retries.any() and self.moment.lost is None:
            return entry, np.zeros(len(self.moment.call_rps))
        fails = self.failing(entry)
        left = np.where(self.by_key, 1.0, fails**self.retries)
        made = entry * left[:, None]
        tries = np.ones(len(fails))
        for number in range(1, int(self.retries.max(initial=0)) + 1):
            tries += np.where((self.retries >= number) & ~self.by_key, fails**number, 0.0)
        made[:, [SERVED, WORK]] = entry[:, [SERVED, WORK]] * tries[:, None]
        lost = np.zeros(len(self.moment.call_rps))
        if self.moment.lost is not None:
            made[self.in_sets, DEAD_FRONT] = 0.0
            calls = self.network.entries.call[self.in_sets]
            lost[calls] = self.moment.lost[calls] * left[self.in_sets]
        return made, lost

    # Back

    def backward(self, share: Floats, queue: Queue) -> _Back:
        """What becomes of requests, from the deepest level up."""
        pair = self._at_machines(queue)
        onward = np.flatnonzero(self.network.members.leads_on[self.network.pairs.member])
        back = self._to_rows(share, pair)
        for _ in range(self.network.levels - 1 if len(self.inner) else 0):
            self._take_back(pair, back, onward)
            back = self._to_rows(share, pair)
        return back

    def _at_machines(self, queue: Queue) -> dict[int, Floats]:
        """Per kind what becomes of a request of each fate at each pair; kinds that do not occur are left out."""
        pairs, encounter = self.network.pairs, self.moment.encounter
        latency, slope, excess = (values[pairs.machine] for values in (queue.latency_s, queue.slope, queue.excess))
        met = encounter.fate_met
        answers = met == ANSWERS
        late = too_late(latency, slope, encounter.patience_s)
        taken = np.where(answers, 1 - excess, 0.0)
        served = np.where(late | encounter.bad_page, 0.0, taken)
        made = {SERVED: served, WORK: served * latency}
        for kind, value in (
            (REFUSED, met == REFUSES),
            (TIMED_OUT, np.where(late, taken, 0.0) + (met == SILENT)),
            (OVERLOADED, np.where(answers, excess, 0.0)),
            (BAD_STATUS, np.where(encounter.bad_page & ~late, taken, 0.0)),
            (BLOCKED, met == BLOCKED_WAY),
            (LATE, np.where(late, taken, 0.0)),
        ):
            if value.any():
                made[kind] = np.asarray(value, dtype=np.float64)
        return made

    def _to_rows(self, share: Floats, pair: dict[int, Floats]) -> _Back:
        network, moment = self.network, self.moment
        routes, entries = network.routes, network.entries
        cell = np.zeros((KINDS, self.fates, self.cells))
        row = np.zeros((len(self.entry), KINDS))
        fate = self.fate_of_call[self.call]
        at = np.where(self.routed, self.route, 0)
        for kind, value in pair.items():
            cell[kind] = sum_columns(network.pairs.cell, share * value, self.cells)
            by_lane = cell[kind][:, routes.lane_cell] * self.choice.lane_share
            by_route = sum_columns(routes.lane_route, by_lane, self.routes)
            if self.routes:
                row[:, kind] = np.where(self.routed, by_route[fate, at], 0.0)
        if self.routes:
            row[:, NONE_HEALTHY] += np.where(self.routed, self.choice.route_refused[at], 0.0)
        cause = entries.fixed_cause[self.entry]
        fixed = np.flatnonzero(~self.routed)
        row[fixed, np.where(cause[fixed] >= 0, cause[fixed], SERVED)] = 1.0
        dead = moment.truth.front_dead[self.front]
        for lost, kind in ((moment.encounter.row_blocked, BLOCKED), (dead, DEAD_FRONT)):
            row[lost] = 0.0
            row[lost, kind] = 1.0
        return _Back(pair, cell, row, self._to_entries(row))

    def _to_entries(self, row: Floats) -> Floats:
        """What becomes of an entry's requests: at its fronts, or outside; without any front they meet a dead one."""
        entries = self.network.entries
        count = len(entries.call)
        made = np.zeros((count, KINDS))
        np.add.at(made, self.entry, row * self.row_part[:, None])
        stranded = total_by(self.entry, self.row_part, count) == 0
        outside = entries.balancer < 0
        made[outside & (entries.fixed_cause < 0), SERVED] = 1.0
        nowhere = np.flatnonzero(outside & (entries.fixed_cause >= 0))
        made[nowhere, entries.fixed_cause[nowhere]] = 1.0
        made[stranded & ~outside, DEAD_FRONT] = 1.0
        return made

    def _take_back(self, pair: dict[int, Floats], back: _Back, onward: Ints) -> None:
        """What becomes of requests that are passed on is what becomes of them at the next balancer."""
        network, entries = self.network, self.network.entries
        members = len(network.members.group)
        inner = self.inner
        flat = self.fate_of_call[entries.call[inner]] * members + entries.member[inner]
        met = np.zeros((KINDS, self.fates, members))
        for kind in range(KINDS):
            values = back.entry[inner, kind] * self.told[inner]
            met[kind] = total_by(flat, values, self.fates * members).reshape(self.fates, members)
        mean = np.divide(met[WORK], met[SERVED], out=np.zeros_like(met[WORK]), where=met[SERVED] > 0)
        member = network.pairs.member[onward]
        late = mean[:, member] > self.moment.encounter.patience_s[:, onward]
        for kind in range(KINDS):
            value = pair.setdefault(kind, np.zeros((self.fates, len(network.pairs.front))))
            value[:, onward] = met[kind][:, member]
        for kind in (TIMED_OUT, LATE):
            pair[kind][:, onward] += np.where(late, pair[SERVED][:, onward], 0.0)
        for kind in (SERVED, WORK):
            pair[kind][:, onward] = np.where(late, 0.0, pair[kind][:, onward])

    def accepts(self) -> Floats:
        """Per entry the share of connections that a living front takes which believes some target in use."""
        entries = self.network.entries
        found = np.where(self.routed, 1.0, entries.listener[self.entry] >= 0)
        if self.routes:
            found -= np.where(self.routed, self.choice.route_refused[np.where(self.routed, self.route, 0)], 0.0)
        at_front = np.where(self.arrives, found, 0.0) * self.row_part
        return total_by(self.entry, at_front, len(entries.call)) + (entries.balancer < 0)

    # Together

    def flow(self, share: Floats, sent: _Sent, queue: Queue, back: _Back) -> Flow:
        """Sums the rates that readings and views ask for."""
        network, free_share = self.network, share
        share = self.mixed(share)
        pairs, routes, entries = network.pairs, network.routes, network.entries
        served = back.row[:, SERVED] * sent.row
        pair_rate = sent.cell[:, pairs.cell] * share if len(share) > 1 else None
        if pair_rate is None:
            pair_rps = sent.cell.sum(axis=0)[pairs.cell] * share[0]
            pair_served = (sent.cell[:, pairs.cell] * back.pair[SERVED]).sum(axis=0) * share[0]
        else:
            pair_rps, pair_served = pair_rate.sum(axis=0), (pair_rate * back.pair[SERVED]).sum(axis=0)
        ends = np.where(network.members.leads_on[pairs.member], 0.0, pair_served)
        zones = len(network.zones)
        target_zone = network.machines.zone[pairs.machine]
        fixed = np.where(self.routed, 0.0, served)
        fixed_zone = total_by(network.fronts.zone[self.front], fixed, zones)
        outside = (entries.balancer < 0) & (entries.fixed_cause < 0)
        if outside.any():
            fixed_zone[-1] += float(sent.entry[outside].sum())
        by_call = np.zeros((len(self.moment.call_rps), KINDS))
        of_client = np.flatnonzero(entries.member < 0)
        calls = np.where(entries.member < 0, self.moment.call_rps[entries.call] * self.told, sent.entry)
        becomes, lost_calls = self.of_calls(back.entry)
        np.add.at(by_call, entries.call[of_client], becomes[of_client] * calls[of_client, None])
        by_call[:, DEAD_FRONT] += self.moment.call_rps * lost_calls
        fronts = len(network.fronts.zone)
        lost = np.where(self.moment.truth.front_dead[self.front], sent.row, 0.0)
        return Flow(
            network=network,
            moment=self.moment,
            choice=self.choice,
            queue=queue,
            pair_share=free_share,
            attempts=self.attempts,
            opening=np.broadcast_to(free_share * back.pair[SERVED], (self.fates, len(pairs.front))),
            fate_cell_rps=sent.cell,
            row_part=self.row_part,
            row_fate=back.row,
            entry_fate=back.entry,
            entry_accepts=self.accepts() if network.checks else np.zeros(len(entries.call)),
            front_rps=total_by(self.front, sent.row, fronts),
            front_dead_rps=total_by(self.front, lost, fronts),
            front_served=total_by(self.front, served, fronts),
            call_served=by_call[:, SERVED],
            call_cause=by_call[:, : len(CAUSES)],
            mechanism_rps=self._mechanisms(becomes * calls[:, None], self.moment.call_rps * lost_calls),
            entry_rps=self._ended(calls, back.entry),
            entry_served=becomes[:, SERVED] * calls,
            cell_rps=sent.cell.sum(axis=0),
            cell_served=(back.cell[SERVED] * sent.cell).sum(axis=0),
            lane_rps=sent.lane.sum(axis=0),
            lane_served=(sent.lane * back.cell[SERVED][:, routes.lane_cell]).sum(axis=0),
            route_rps=sent.route.sum(axis=0),
            pair_rps=pair_rps,
            pair_served=pair_served,
            zone_served=total_by(target_zone, ends, zones) + fixed_zone,
            zone_from_elsewhere=total_by(target_zone, np.where(pairs.same_zone, 0.0, ends), zones),
            latency_sum=float(by_call[:, WORK].sum()) + self._round_trips(served),
        )

    def _ended(self, tried: Floats, entry: Floats) -> Floats:
        """Calls per second by the entry where they end: one that goes on to the next address is counted there, one
        that meets dead fronts to the end where it did, so that each call is counted once."""
        if not self.in_sets.any():
            return tried
        call, count = self.network.entries.call, len(self.moment.call_rps)
        dead = np.where(self.in_sets, tried * entry[:, DEAD_FRONT], 0.0)
        whole = total_by(call, dead, count)[call]
        assert self.moment.lost is not None
        lost = np.where(self.in_sets, self.moment.call_rps[call] * np.nan_to_num(self.moment.lost)[call], 0.0)
        return tried - dead + np.divide(lost * dead, whole, out=np.zeros_like(dead), where=whole > 0)

    def _mechanisms(self, fails: Floats, lost: Floats) -> Floats:
        """Failing calls per second by mechanism, in the order of `MECHANISMS`; `fails` per entry and kind."""
        entries, told = self.network.entries, self.told
        fresh = told if self.moment.fresh is None else self.moment.fresh
        old = np.divide(np.clip(told - fresh, 0, None), told, out=np.zeros_like(told), where=told > 0)
        mine = np.flatnonzero(entries.member < 0)
        fails, old, pool = fails[mine], old[mine], entries.pool[mine] >= 0
        of_old = fails[:, : len(CAUSES)].sum(axis=1) * old
        kept = fails * (1 - old)[:, None]
        waits = kept[:, REFUSED] + kept[:, TIMED_OUT] - kept[:, LATE] + kept[:, RESET] + kept[:, BAD_STATUS]
        share_old = self._old_of_calls(old, mine)
        return np.array(
            [
                waits[pool].sum(),
                kept[:, DEAD_FRONT].sum() + (lost * (1 - share_old)).sum(),
                of_old.sum() + (lost * share_old).sum(),
                (kept[:, OVERLOADED] + kept[:, LATE]).sum(),
                kept[:, NONE_HEALTHY].sum(),
                kept[:, BLOCKED].sum(),
                waits[~pool].sum(),
            ]
        )

    def _old_of_calls(self, old: Floats, mine: Ints) -> Floats:
        """Per call the share of its tries that old answers lead."""
        call, count = self.network.entries.call[mine], len(self.moment.call_rps)
        told = self.told[mine]
        whole = total_by(call, told, count)
        return np.divide(total_by(call, told * old, count), whole, out=np.zeros(count), where=whole > 0)

    def _round_trips(self, row_served: Floats) -> float:
        """Served rate times the client's round trip, summed (requests, as rate times seconds)."""
        network = self.network
        region = network.zone_region[network.fronts.zone[self.front]]
        of_client = np.where(network.entries.member[self.entry] < 0, row_served, 0.0)
        return float(of_client @ network.calls.round_trip_s[self.call, region])
