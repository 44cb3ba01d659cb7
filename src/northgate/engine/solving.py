"""The solver: rates at one moment, given truth and belief. Nothing else in North Gate computes a rate.

Requests go forward, from entries to fronts, lanes, cells and pairs, one level of balancers after the other; what
becomes of them goes back the same way, as shares of what is sent. Where the choice of a target depends on how busy it
is, both are solved together.
"""

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from northgate.engine.connected import Connected
from northgate.engine.flow import (
    BAD_STATUS,
    BLOCKED,
    DEAD_FRONT,
    KINDS,
    LATE,
    NONE_HEALTHY,
    OVERLOADED,
    REFUSED,
    RESET,
    SERVED,
    TIMED_OUT,
    WORK,
    Flow,
    Moment,
)
from northgate.engine.load import AT_BOUND_S, Queue, queue_under
from northgate.engine.network import Network
from northgate.engine.others import LastStops, last_stops, last_stops_in_order
from northgate.engine.repeats import Repeats
from northgate.engine.shares import Choice, busy_shares, choose, even_shares, hash_table
from northgate.engine.truth import ANSWERS, REFUSES, SILENT
from northgate.engine.truth import BLOCKED as BLOCKED_WAY
from northgate.engine.types import Bools, Floats, Ints, sum_columns, total_by
from northgate.plan.drills import CAUSES

# Shares that depend on the load that they make are settled when none changes by more than this.
SETTLED, ROUNDS, SHORTEST_STEP, LONGEST_STEP = 1e-13, 400, 1 / 64, 2.0
# Attempts are led on every so many rounds, once they change by less than that, where their changes shrink steadily.
EVERY, NEAR, STEADY = 5, 1e-2, 0.98


def solve(network: Network, moment: Moment) -> Flow:
    """The rates of this moment: where every request goes, and what becomes of it."""
    choice = choose(network, moment.in_use, moment.warmth, moment.present(network.pairs.machine))
    solving = _Solving(network, moment, choice)
    share, sent, queue, back = _settled(solving, solving.first_shares())
    return solving.flow(share, sent, queue, back)


def _settled(solving: "_Solving", share: Floats) -> tuple[Floats, "_Sent", Queue, "_Back"]:
    """The fixed point of the shares that depend on load and of the attempts that depend on failures, from the state
    before on."""
    step, before, moved = 1.0, np.zeros(0), np.zeros(0)
    for number in range(ROUNDS):
        sent, queue, back = solving.go(share)
        wanted = solving.busy_shares(share, sent, queue, back) if solving.busy else share
        off = (wanted - share).ravel()
        change = float(np.abs(off).max(initial=0.0))
        more = solving.tries_wanted(share, back) if solving.repeats.any else None
        if max(change, more.change if more else 0.0) <= SETTLED or number == ROUNDS - 1:
            break
        if len(before) and change > SETTLED:
            step = _next_step(step, before, off)
        share, before = (wanted if change <= SETTLED else share + step * (wanted - share)), off
        if more:
            moved, last = more.entry - solving.repeats.attempts, moved
            solving.take(more, _stretch(number, moved, last))
    return share, sent, queue, back


def _next_step(step: float, before: Floats, off: Floats) -> float:
    """How far to go towards what is wanted: Aitken's rule, by what the last step has changed of what is off.

    Source: B. M. Irons and R. C. Tuck, "A version of the Aitken accelerator for computer iteration" (1969).
    """
    moved = off - before
    size = float(moved @ moved)
    wanted = -step * float(before @ moved) / size if size > 0 else step
    return min(max(wanted, SHORTEST_STEP), LONGEST_STEP)


def _stretch(number: int, moved: Floats, last: Floats) -> float:
    """How far to go towards the attempts that are wanted: mostly there; every so often, once they change little, as far
    as the series of their changes leads (Aitken)."""
    size = float(last @ last) if len(last) else 0.0
    if number % EVERY or size <= 0 or np.abs(moved).max() > NEAR:
        return 1.0
    ratio = float(moved @ last) / size
    return 1 / (1 - ratio) if 0 < ratio < STEADY else 1.0


@dataclass(frozen=True)
class _Tries:
    """How often calls are tried: by entry, by class, by entry when one attempt is spent, over open connections; and
    the share of calls whose connection has ended under them. `change`: how far that is from before."""

    entry: Floats
    by_class: list[Floats]
    after_one: Floats
    over_open: Floats
    anew: Floats
    change: float


@dataclass(frozen=True)
class _Sent:
    """Rates on the way forward: per entry and row, and per fate (first axis) by route, lane and cell."""

    entry: Floats
    row: Floats
    route: Floats
    lane: Floats
    cell: Floats


@dataclass(frozen=True)
class _Stop:
    """Requests of one fate at one cell's pairs that have tried others: which of them are bad, and where it ends."""

    fate: int
    pairs: Ints
    bad: Bools
    found: LastStops


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
        self.repeats = Repeats(network, moment, choice, self.fate_of_call, self.row_part)
        self.connected = Connected(network, moment, self.repeats.of_client)
        # Per front: the share of its answers that its balancer's bandwidth does not let through.
        self.over = np.zeros(len(network.fronts.zone))

    def go(self, share: Floats) -> tuple["_Sent", Queue, "_Back"]:
        """Forward with these shares of those who are free to be sent anywhere, through the queues, and back."""
        ends, stops = self.trying(self.mixed(share), share)
        sent = self.forward(ends)
        queue = self.queues(ends, sent)
        return sent, queue, self.backward(ends, sent, queue, stops)

    def tries_wanted(self, share: Floats, back: "_Back") -> _Tries:
        """How often calls would be tried, given what becomes of one attempt: 1 + p + ... + p^r."""
        repeats, connected = self.repeats, self.connected
        entry, by_class = repeats.again(back.entry, share, back.pair, back.row)
        after_one = repeats.after_one
        if connected.kinds:
            after_one, _ = repeats.again(back.entry, share, back.pair, back.row, spent=1)
        open_now = connected.outcome(back.pair)
        over_open, anew = connected.attempts(open_now), connected.starts_anew(open_now)
        moved = [entry - repeats.attempts, after_one - repeats.after_one]
        moved += [over_open - connected.tries, anew - connected.anew]
        moved += [new - one.attempts for new, one in zip(by_class, repeats.stuck, strict=True)]
        change = max(float(np.abs(one).max(initial=0.0)) for one in moved)
        return _Tries(entry, by_class, after_one, over_open, anew, change)

    def take(self, tries: _Tries, stretch: float) -> None:
        """From now on calls are tried that often: `stretch` times as far from before as wanted."""
        repeats, connected = self.repeats, self.connected

        def to(before: Floats, wanted: Floats) -> Floats:
            return wanted if stretch == 1 else np.maximum(before + stretch * (wanted - before), 0.0)

        by_class = [to(one.attempts, of) for one, of in zip(repeats.stuck, tries.by_class, strict=True)]
        repeats.take(to(repeats.attempts, tries.entry), by_class, to(repeats.after_one, tries.after_one))
        connected.tries = to(connected.tries, tries.over_open)
        connected.anew = to(connected.anew, tries.anew)

    def trying(self, first: Floats, drawn: Floats) -> tuple[Floats, list["_Stop"]]:
        """Where requests end that go on to other targets when connects fail, given where they are first sent."""
        if not self.with_others:
            return first, []
        ends, stops = np.repeat(first, self.fates, axis=0) if len(first) == 1 else first.copy(), []
        met = self.moment.encounter.fate_met
        for cell, tries in self.with_others:
            mine = self.network.cell_pairs[cell]
            bad = (met[:, mine] != ANSWERS) & ~self.network.members.leads_on[self.network.pairs.member[mine]]
            for fate in np.flatnonzero((ends[:, mine] * bad).sum(axis=1) > 0):
                silent = met[fate, mine] != REFUSES
                own = drawn[min(int(fate), len(drawn) - 1), mine]
                found = self._by_hash(cell, int(fate), bad[fate], silent, tries, ends[fate, mine], own)
                ends[fate, mine] = found.share
                stops.append(_Stop(int(fate), mine, bad[fate], found))
        return ends, stops

    @cached_property
    def with_others(self) -> list[tuple[int, int]]:
        """The cells, at layer 7, whose requests may go on to other targets; and how often."""
        network = self.network
        tries = [group.try_others for group in network.plan.target_groups]
        return [
            (cell, tries[int(group)])
            for cell, group in enumerate(network.routes.cell_group)
            if tries[int(group)] and network.front_layer[network.routes.cell_front[cell]] == 7
        ]

    def _by_hash(
        self, cell: int, fate: int, bad: Bools, silent: Bools, tries: int, first: Floats, drawn: Floats
    ) -> LastStops:  # fmt: skip
        """Of a hash's keys each goes on in its own order; everybody else as they are drawn."""
        segment = self.network.segments[int(self.moment.encounter.fate_segment[fate])]
        if self.network.cell_method[cell] != "source-hash" or not len(segment.keys) or (first != drawn).any():
            return last_stops(first, drawn, bad, silent, tries)
        weight = self.choice.pair_weight[self.network.cell_pairs[cell]]
        return last_stops_in_order(hash_table(self.network).orders(cell, segment, weight, tries), bad, silent)

    # Who is chosen

    def mixed(self, share: Floats) -> Floats:
        """The shares of all requests: of those that a session binds, while the front believes its target in use, and
        of the others."""
        held, network, stuck = self.moment.held, self.network, self.repeats.stuck
        if not stuck and (held is None or not len(held.sessions)):
            return share
        made = np.repeat(share, self.fates, axis=0) if len(share) == 1 else share.copy()
        for number, (fates, cells) in enumerate(self.of_sessions):
            of_kind = held.sessions[number] if held else np.zeros(0)
            for cell in cells:
                mine = network.cell_pairs[int(cell)]
                bound = of_kind[network.pairs.member[mine]] * self.moment.in_use[mine]
                free = max(1 - float(bound.sum()), 0.0)
                for fate in fates:
                    made[fate, mine] = bound + free * made[fate, mine]
        self.repeats.mix(made)
        return made

    @cached_property
    def of_sessions(self) -> list[tuple[list[int], Ints]]:
        """Per kind of session: the fates of its client's calls, and the cells that keep it; without those calls whose
        classes are followed because they are repeated."""
        network, by_class = self.network, {one.fate for one in self.repeats.stuck}
        if self.moment.held is None:
            return []
        return [
            (
                [
                    int(one)
                    for one in np.unique(self.fate_of_call[network.calls.client == client])
                    if one not in by_class
                ],
                cells,
            )
            for client, cells in network.session_kinds
        ]

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
        free = self.connected.free[entries.call]
        often = free * self.repeats.attempts + self.connected.anew[entries.call] * self.repeats.after_one
        rps = np.where(of_client, self.moment.call_rps[entries.call] * self.told * often, 0.0)
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
        if self.connected.any:
            rate = rate + self.connected.arriving(self.fates)[:, onward]
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
        if self.connected.any:
            arriving = arriving + (self.connected.arriving(self.fates) * met).sum(axis=0)
        arriving = np.where(network.members.leads_on[network.pairs.member], 0.0, arriving)
        offered = total_by(network.pairs.machine, arriving, len(machines.names))
        slowness = self.moment.truth.slowness
        return queue_under(
            machines.capacity / slowness, machines.service_s * slowness, machines.queue_s, offered,
            self.moment.backlog_s,
        )  # fmt: skip

    # Back

    def backward(self, share: Floats, sent: _Sent, queue: Queue, stops: list["_Stop"]) -> _Back:
        """What becomes of requests, from the deepest level up."""
        pair = self._at_machines(queue)
        for stop in stops:
            self._after_others(pair, queue, stop)
        onward = np.flatnonzero(self.network.members.leads_on[self.network.pairs.member])
        back = self._to_rows(share, pair, sent)
        for _ in range(self.network.levels - 1 if len(self.inner) else 0):
            self._take_back(pair, back, onward)
            back = self._to_rows(share, pair, sent)
        return back

    def _cap(self, row: Floats, sent: _Sent, pair: dict[int, Floats]) -> None:
        """Answers beyond a balancer's bandwidth are lost: the excess share 1 - 1/u of what would be served."""
        limit = self.network.bandwidth_mbps
        if not np.isfinite(limit).any():
            return
        balancer = self.network.fronts.balancer
        megabits = self.network.call_megabits
        served = row[:, SERVED] * sent.row * megabits[self.call]
        if self.connected.any:
            self.connected.over = np.zeros(len(balancer))
            bound = self.connected.ended(self.connected.outcome(pair))
            served = served + bound.row[:, SERVED] * megabits[self.call]
        demand = total_by(balancer[self.front], served, len(limit))
        over = np.where(demand > limit, 1 - limit / np.maximum(demand, limit), 0.0)
        self.over = self.repeats.over = self.connected.over = over[balancer]
        excess = self.over[self.front]
        row[:, OVERLOADED] += row[:, SERVED] * excess
        row[:, [SERVED, WORK]] *= (1 - excess)[:, None]

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

    def _after_others(self, pair: dict[int, Floats], queue: Queue, stop: "_Stop") -> None:
        """What becomes of requests that have waited for silent targets before: those connect time-outs count."""
        network, encounter, found = self.network, self.moment.encounter, stop.found
        good = ~stop.bad & (found.share > 0)
        mine, share, waited = stop.pairs[good], found.share[good], found.waited[:, good]
        machine = network.pairs.machine[mine]
        wait_s = np.arange(len(waited))[:, None] * network.pair_connect_timeout_s[mine]
        latency_s = queue.latency_s[machine] + wait_s
        late = too_late(latency_s, queue.slope[machine], encounter.patience_s[stop.fate, mine])
        taken = 1 - queue.excess[machine]
        on_time = np.where(late, 0.0, waited)
        liked = np.where(encounter.bad_page[stop.fate, mine], 0.0, taken / share)
        values = {
            SERVED: on_time.sum(axis=0) * liked,
            WORK: (on_time * latency_s).sum(axis=0) * liked,
            TIMED_OUT: taken * np.where(late, waited, 0.0).sum(axis=0) / share,
            BAD_STATUS: on_time.sum(axis=0) * (taken / share - liked),
            LATE: np.where(late[0], taken, 0.0),
        }
        for kind, value in values.items():
            pair.setdefault(kind, np.zeros((self.fates, len(network.pairs.front))))[stop.fate, mine] = value

    def _to_rows(self, share: Floats, pair: dict[int, Floats], sent: _Sent) -> _Back:
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
        self._cap(row, sent, pair)
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
        share, _ = self.trying(self.mixed(share), share)
        opens, _ = self.trying(free_share, free_share)
        pairs, routes, entries = network.pairs, network.routes, network.entries
        row_kind = back.row * sent.row[:, None]
        pair_rate = sent.cell[:, pairs.cell] * share if len(share) > 1 else None
        if pair_rate is None:
            pair_rps = sent.cell.sum(axis=0)[pairs.cell] * share[0]
            pair_served = (sent.cell[:, pairs.cell] * back.pair[SERVED]).sum(axis=0) * share[0]
        else:
            pair_rps, pair_served = pair_rate.sum(axis=0), (pair_rate * back.pair[SERVED]).sum(axis=0)
        calls, becomes, lost = self._calls(sent, share=free_share, back=back)
        tried = sent.row
        through = 1 - self.over
        pair_served = pair_served * through[pairs.front]
        cell_served = (back.cell[SERVED] * sent.cell).sum(axis=0) * through[routes.cell_front]
        lane_rps, lane_served = sent.lane.sum(axis=0), (sent.lane * back.cell[SERVED][:, routes.lane_cell]).sum(axis=0)
        lane_served = lane_served * through[routes.cell_front[routes.lane_cell]]
        cell_rps, route_rps = sent.cell.sum(axis=0), sent.route.sum(axis=0)
        over_open = np.zeros_like(becomes)
        if self.connected.any:
            open_now = self.connected
            bound = open_now.ended(open_now.outcome(back.pair))
            coming = open_now.coming
            by_cell, cell_ok = open_now.by_cell(coming), open_now.by_cell(bound.served)
            row_kind, tried = row_kind + bound.row, tried + bound.row_rps
            np.add.at(over_open, self.entry, bound.row)
            pair_rps, pair_served = pair_rps + coming.sum(axis=0), pair_served + bound.served.sum(axis=0)
            cell_rps, cell_served = cell_rps + by_cell.sum(axis=0), cell_served + cell_ok.sum(axis=0)
            lanes = open_now.by_lane(by_cell)
            lane_rps, lane_served = lane_rps + lanes, lane_served + open_now.by_lane(cell_ok)
            route_rps = route_rps + total_by(routes.lane_route, lanes, self.routes)
        served = row_kind[:, SERVED]
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
        ended = becomes + over_open
        np.add.at(by_call, entries.call[of_client], ended[of_client])
        by_call[:, DEAD_FRONT] += lost
        fronts = len(network.fronts.zone)
        dead = np.where(self.moment.truth.front_dead[self.front], tried, 0.0)
        free_factor = self.repeats.free_factor(self.fates) if self.repeats.stuck else 1.0
        return Flow(
            network=network,
            moment=self.moment,
            choice=self.choice,
            queue=queue,
            pair_share=free_share,
            attempts=self.repeats.attempts,
            opening=np.broadcast_to(opens * back.pair[SERVED] * free_factor, (self.fates, len(pairs.front))),
            connecting=self._connecting(free_share, back),
            ending=self.connected.ends_at_first_failure(),
            fate_cell_rps=sent.cell,
            row_part=self.row_part,
            row_fate=back.row,
            entry_fate=back.entry,
            entry_accepts=self.accepts() if network.checks else np.zeros(len(entries.call)),
            front_rps=total_by(self.front, tried, fronts),
            front_dead_rps=total_by(self.front, dead, fronts),
            front_served=total_by(self.front, served, fronts),
            call_served=by_call[:, SERVED],
            call_cause=by_call[:, : len(CAUSES)],
            mechanism_rps=self._mechanisms(ended, lost),
            entry_rps=self._ended(calls, back.entry) + over_open[:, : SERVED + 1].sum(axis=1),
            entry_served=ended[:, SERVED],
            cell_rps=cell_rps,
            cell_served=cell_served,
            lane_rps=lane_rps,
            lane_served=lane_served,
            route_rps=route_rps,
            pair_rps=pair_rps,
            pair_served=pair_served,
            zone_served=total_by(target_zone, ends, zones) + fixed_zone,
            zone_from_elsewhere=total_by(target_zone, np.where(pairs.same_zone, 0.0, ends), zones),
            latency_sum=float(by_call[:, WORK].sum()) + self._round_trips(served),
        )

    def _calls(self, sent: _Sent, share: Floats, back: _Back) -> tuple[Floats, Floats, Floats]:
        """The calls/s by entry that go no way that is open already; what becomes of them by kind; and per call what is
        lost to dead fronts at every address."""
        entries, repeats, moment = self.network.entries, self.repeats, self.moment
        rate = moment.call_rps[entries.call]
        calls = np.where(entries.member < 0, rate * self.told * self.connected.free[entries.call], sent.entry)
        becomes, lost = repeats.of_calls(back.entry, share, back.pair, back.row)
        becomes, lost = becomes * calls[:, None], moment.call_rps * lost * self.connected.free
        if self.connected.anew.any():
            # Those whose connection has ended under them: one attempt is spent.
            more = np.where(entries.member < 0, rate * self.told * self.connected.anew[entries.call], 0.0)
            then, gone = repeats.of_calls(back.entry, share, back.pair, back.row, spent=1)
            calls, becomes = calls + more, becomes + then * more[:, None]
            lost = lost + moment.call_rps * gone * self.connected.anew
        return calls, becomes, lost

    def _connecting(self, share: Floats, back: _Back) -> Floats:
        """Per kind of connection and pair: the share of calls that would open one there, by sources without one."""
        routes, made = self.network.routes, np.zeros(self.connected.rps.shape)
        for number, kind in enumerate(self.connected.kinds):
            fate = int(self.connected.fate[number])
            entry = self.entry[kind.rows]
            part = self.told[entry] * self.repeats.attempts[entry] * self.row_part[kind.rows] * self.arrives[kind.rows]
            by_route = total_by(self.route[kind.rows], part, self.routes)
            by_lane = by_route[routes.lane_route] * self.choice.lane_share
            by_cell = total_by(routes.lane_cell, by_lane, self.cells)
            drawn = share[min(fate, len(share) - 1)]
            made[number] = by_cell[self.network.pairs.cell] * drawn * back.pair[SERVED][fate]
        return made

    def _ended(self, tried: Floats, entry: Floats) -> Floats:
        """Calls per second by the entry where they end: one that goes on to the next address is counted there, one
        that meets dead fronts to the end where it did, so that each call is counted once."""
        if not self.repeats.in_sets.any():
            return tried
        call, count = self.network.entries.call, len(self.moment.call_rps)
        dead = np.where(self.repeats.in_sets, tried * entry[:, DEAD_FRONT], 0.0)
        whole = total_by(call, dead, count)[call]
        assert self.moment.lost is not None
        lost = np.where(self.repeats.in_sets, self.moment.call_rps[call] * np.nan_to_num(self.moment.lost)[call], 0.0)
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
