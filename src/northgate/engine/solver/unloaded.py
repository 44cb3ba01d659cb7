"""What rates depend on besides load: who is chosen, who is met, which fronts stand in which address.

All of it stays as it is while load alone changes, as when old answers fade; so a solver keeps the last one.
"""

import numpy as np
from msgspec import Struct

from northgate.engine.balancing import Choice, KeyTable, busy_cells, choose, even_shares, filled, fills
from northgate.engine.base import (
    Bools,
    Derives,
    Floats,
    Ints,
    bools,
    cached,
    distinct,
    floats,
    ints,
    same,
    sum_columns,
    total_by,
    where_true,
)
from northgate.engine.formulas import METHODS, LastStops
from northgate.engine.network import Network, keyed_cells
from northgate.engine.solver.state import State
from northgate.engine.truth import ANSWERS, BARRED, REFUSES, SILENT


class Others(Struct, frozen=True):
    """Cells whose requests may go on to other targets: the pairs that each has, side by side (`begin` to `end`), how
    often they do, and whether keys decide who is tried."""

    begin: Ints
    end: Ints
    tries: Ints
    hashed: Bools

    @property
    def most_tries(self) -> int:
        """How often requests go on at most."""
        return int(self.tries.max(initial=0))


class Frame:
    """What of a network never changes, as the solver looks at it. Rows are those of `Network.arrivals`."""

    def __init__(self, network: Network) -> None:
        self.network = network
        pairs, entries = network.pairs, network.entries
        arrivals = network.arrivals
        self.entry, self.front, self.route = arrivals.entry, arrivals.front, arrivals.route
        self.call = entries.call[self.entry]
        self.routed = self.route >= 0
        self.some_route = np.where(self.routed, self.route, 0)
        self.routes, self.cells = len(network.routes.front), len(network.cells.front)
        self.of_client = entries.member < 0
        self.inner = where_true(entries.member >= 0)
        self.leads_on: Bools = network.members.leads_on[pairs.member]
        self.onward = where_true(self.leads_on)
        # Where each front has an address of its own, those who were told it come to it, in the answer or not.
        self.own_address = entries.front[self.entry] >= 0
        self.anycast = np.array([one.address_kind == "anycast" for one in network.plan.balancers], dtype=bool)
        self.by_busy = bools(METHODS[method].depends_on_load for method in network.cells.method)[pairs.cell]
        self.place_of_pair = np.zeros(len(pairs.cell), dtype=np.int64)
        for mine in network.cells.pairs:
            self.place_of_pair[mine] = np.arange(len(mine))
        self.busy, self.busy_cells = bool(self.by_busy.any()), busy_cells(network)
        self.busy_machines = distinct(pairs.machine[self.by_busy])
        self.hashed, self.keyed = network.cells.by_key, ints(keyed_cells(network.kept))
        self.fills = fills(network)
        cause = entries.fixed_cause
        self.fixed = where_true(~self.routed)
        self.fixed_cause: Ints = cause[self.entry][self.fixed]
        self.outside = where_true((entries.balancer < 0) & (cause < 0))
        self.outside_end = [_end_of(network, int(entry)) for entry in self.outside]
        self.nowhere = where_true((entries.balancer < 0) & (cause >= 0))
        self.at_4: Bools = network.fronts.layer[self.front] == 4
        # Rows at which nothing listens.
        self.unheard = where_true(entries.listener[self.entry] < 0)
        self.behind_front = entries.balancer >= 0
        self.every_row = np.ones(len(self.entry), dtype=bool)
        # Whether any balancer's bandwidth is limited.
        self.limited = bool(np.isfinite(network.balancers.bandwidth_mbps).any())
        self._find_others(network)
        self._find_trips(network)

    @cached
    def retries(self) -> Floats:
        """How often each client group repeats a failed call; past the last: those who only probe."""
        return floats([*(client.retries for client in self.network.plan.clients), 0])

    @cached
    def goes_on_by_key(self) -> Bools:
        """Per call: whether a session may hold it at a target, after which it goes on to others by its key."""
        network = self.network
        both = np.zeros(self.cells, dtype=bool)
        for cell, _ in self.with_others:
            both[cell] = cell in network.cells.by_key
        kept = np.zeros_like(both)
        for kind in network.kept.sessions:
            kept[kind.cells] = True
        of_client = network.calls.client < len(network.plan.clients)
        return np.asarray(of_client & (network.kept.at_cells[:, both & kept]).any(axis=1))

    @cached
    def tried_again(self) -> Bools:
        """Per call: whether it is repeated, or goes on by its key."""
        return np.asarray((self.retries[self.network.calls.client] > 0) | self.goes_on_by_key)

    @cached
    def may_be_held(self) -> Bools:
        """Per call: whether a key or a session may hold it at a target when it is tried again."""
        network, sticky = self.network, np.zeros(self.cells, dtype=bool)
        sticky[list(network.cells.by_key)] = True
        for kind in network.kept.sessions:
            sticky[kind.cells] = True
        # Who only takes next addresses meets his target again at layer 4 alone.
        at_4 = sticky & (network.fronts.layer[network.cells.front] == 4)
        again, through = (self.retries[network.calls.client] > 0) | self.goes_on_by_key, network.kept.at_cells
        return np.asarray(np.where(again, through[:, sticky].any(axis=1), through[:, at_4].any(axis=1)))

    @cached
    def goes_on(self) -> Bools:
        """Per call: whether its client takes the next address after a failed connect."""
        takes = np.array([*(client.tries_next_address for client in self.network.plan.clients), False], dtype=bool)
        return takes[self.network.calls.client]

    @cached
    def open_rows(self) -> Ints:
        """Per kind of connection and pair its row of `Network.arrivals`, -1 where there is none."""
        rows = np.array([kind.row_of_front for kind in self.network.kept.connections], dtype=np.int64)
        by_front = rows.reshape(len(rows), len(self.network.fronts.zone))
        return np.ascontiguousarray(by_front[:, self.network.pairs.front])

    @cached
    def keeps(self) -> Bools:
        """Per kind of session and cell: whether that keeps it."""
        made = np.zeros((len(self.network.kept.sessions), self.cells), dtype=bool)
        for number, kind in enumerate(self.network.kept.sessions):
            made[number, kind.cells] = True
        return made

    def _find_others(self, network: Network) -> None:
        tries = network.groups.try_others
        # The cells, at layer 7, whose requests may go on to other targets; and how often.
        self.with_others: list[tuple[int, int]] = [
            # Nobody tries more others than there are.
            (cell, min(int(tries[group]), max(len(network.cells.pairs[cell]) - 1, 1)))
            for cell, group in enumerate(network.cells.group)
            if tries[group] and network.fronts.layer[network.cells.front[cell]] == 7 and len(network.cells.pairs[cell])
        ]
        # Of those the pairs that each has, from one on up to another; how often; and whether keys decide there.
        self.others = Others(
            ints(network.cells.pairs[cell][0] for cell, _ in self.with_others),
            ints(network.cells.pairs[cell][-1] + 1 for cell, _ in self.with_others),
            ints(tries for _, tries in self.with_others),
            bools(cell in self.hashed for cell, _ in self.with_others),
        )  # fmt: skip

    def _find_trips(self, network: Network) -> None:
        """Per row the client's round trip (s), 0 behind another balancer; and whether it alone is beyond his
        patience."""
        calls, region = network.calls, network.zone_region[network.fronts.zone[self.front]]
        trip_s = np.where(self.of_client[self.entry], network.calls.round_trip_s[self.call, region], 0.0)
        self.too_far: Bools = trip_s > calls.timeout_s[self.call]
        # Who waits for an answer from too far away waits as long as his patience lasts.
        self.trip_s: Floats = np.where(self.too_far, calls.timeout_s[self.call], trip_s)


class OpenWays(Struct, frozen=True):
    """Where calls over open connections go, by kind of connection: its call, how often that is repeated, and its fate;
    and by kind and pair: its row of `Network.arrivals` (-1: none), whether its front is dead or blocked, and the
    client's round trip there (s)."""

    calls: Ints
    row: Ints
    retries: Floats
    fate: Ints
    dead: Bools
    blocked: Bools
    trip_s: Floats


class Unloaded(Derives):
    """One truth, and one set of beliefs and addresses under it."""

    def __init__(self, frame: Frame, keys: KeyTable, state: State) -> None:
        self.network, self.state, self.frame, self.keys = frame.network, state, frame, keys
        network = frame.network
        encounter = state.encounter
        self.choice = choose(network, state.in_use, state.warmth, state.present(network.pairs.machine))
        self.fates = int(encounter.fate.max(initial=0)) + 1
        self.fate_of_call: Ints = encounter.fate[network.calls.outcome]
        self.answers: Bools = encounter.fate_met == ANSWERS
        self.refuses, self.silent, self.blocked = (
            np.asarray(met, dtype=np.float64) if met.any() else None
            for met in (encounter.fate_met == REFUSES, encounter.fate_met == SILENT, encounter.fate_met == BARRED)
        )

        if frame.fills:
            self.choice = self._filled(self.choice)
        # Where keys end that go on in an order of their own, as found so far: by fate and cell.
        self.stops_in_order: dict[tuple[int, int], LastStops] = {}
        # To which targets the keys of a call fall at cells whose targets keys decide, those left out that are held
        # already: the classes, per cell, and their shares.
        self.falls: dict[tuple[int, int, int, tuple[int, ...], tuple[int, ...]], tuple[Ints, Floats]] = {}

    def holds(self, state: State) -> bool:
        """Whether all is still so in another state."""
        mine = self.state
        return (
            state.truth is mine.truth
            and state.encounter is mine.encounter
            and _same(state.in_use, mine.in_use)
            and _same(state.in_address, mine.in_address)
            and _same(state.warmth, mine.warmth)
            and _same(state.exists, mine.exists)
            and (not self.frame.fills or self._asks_alike(state))
        )

    def _asks_alike(self, state: State) -> bool:
        mine = self.state
        return _same(state.call_rps, mine.call_rps) and _same(state.dns_share, mine.dns_share)

    def _filled(self, first: Choice) -> Choice:
        """Groups filled, one level of balancers after the other: what the first ones pass on comes to those behind."""
        network, choice = self.network, first
        even, in_use = even_shares(network, first.pair_weight), self.state.living_in_use(network.pairs.front)
        for _ in range(network.balancers.levels if len(self.frame.inner) else 1):
            choice = filled(network, first, self._demand_rps(choice, even), in_use)
        return choice

    def _demand_rps(self, choice: Choice, even: Floats) -> Floats:
        """Per route what comes to it at first, from clients and through other balancers; groups share it out evenly."""
        frame, network, entries = self.frame, self.network, self.network.entries
        pairs, weighted, onward, inner = network.pairs, network.weighted, frame.onward, frame.inner
        rps = np.where(frame.of_client, self.state.call_rps[entries.call] * self.state.dns_share, 0.0)
        by_route = self._by_route(rps)
        for _ in range(network.balancers.levels - 1 if len(inner) else 0):
            cell = sum_columns(weighted.cell, by_route[:, weighted.route] * choice.weighted_share, frame.cells)
            rate = cell[:, pairs.cell[onward]] * even[onward]
            by_member = sum_columns(pairs.member[onward], rate, len(network.members.group))
            passed = by_member[self.fate_of_call[entries.call[inner]], entries.member[inner]]
            rps[inner] = passed * self.state.dns_share[inner]
            by_route = self._by_route(rps)
        return np.asarray(by_route.sum(axis=0))

    def _by_route(self, rps: Floats) -> Floats:
        """Rates of entries as they come to routes, by fate."""
        frame = self.frame
        rows = np.where(self.arrives, rps[frame.entry] * self.row_part, 0.0)[frame.routed]
        return total_by(self.flat_route, rows, self.fates * frame.routes).reshape(self.fates, frame.routes)

    @cached
    def may_lead(self) -> Bools:
        """Per pair: whether who is bound to its target is sent there: a session, as long as the front believes it in
        use; a key that leads connections, as long as the target may be chosen at all."""
        by_key = np.isin(self.network.pairs.cell, self.frame.keyed)
        return np.asarray(np.where(by_key, self.choice.pair_weight > 0, self.state.in_use))

    @cached
    def first_shares(self) -> Floats:
        """Shares by weight, by hash where the group wants that: one row, or one a fate where sources matter."""
        network = self.network
        even = even_shares(network, self.choice.pair_weight)
        if not self.frame.hashed:
            return even[None, :]
        table, share = self.keys, np.repeat(even[None, :], self.fates, axis=0)
        segments = self.state.encounter.fate_segment
        asked = distinct(segments)
        of_segment = [network.segments[int(number)] for number in asked]
        for cell in self.frame.hashed:
            mine = network.cells.pairs[cell]
            fallen = table.shares(cell, of_segment, self.choice.pair_weight[mine])
            for number, shares in zip(asked, fallen, strict=True):
                share[np.ix_(segments == number, mine)] = shares
        return share

    @cached
    def row_part(self) -> Floats:
        """The share of an entry's requests that each of its fronts gets: even over those in the address.

        An anycast address leads each area to the nearest region that has a front in it.
        """
        frame = self.frame
        present = (self.state.in_address[frame.front] | frame.own_address).astype(np.float64)
        if frame.anycast.any():
            present *= self._nearest(present > 0)
        count = total_by(frame.entry, present, len(self.network.entries.call))[frame.entry]
        return np.divide(present, count, out=np.zeros_like(present), where=count > 0)

    def _nearest(self, present: Bools) -> Floats:
        network, frame = self.network, self.frame
        region = network.zone_region[network.fronts.zone[frame.front]]
        # Regions that are equally near, or equally unknown: the first in the plan.
        rank = np.where(present, network.calls.distance_s[frame.call, region], np.inf)
        best = np.full(len(network.entries.call), np.inf)
        np.minimum.at(best, frame.entry, rank)
        near = present & (rank == best[frame.entry])
        first = np.full(len(best), len(network.regions))
        np.minimum.at(first, frame.entry[near], region[near])
        near &= region == first[frame.entry]
        return np.where(frame.anycast[network.fronts.balancer[frame.front]], near, True).astype(np.float64)

    @cached
    def stranded(self) -> Ints:
        """The entries at balancers without any front in the address, and those outside where nobody answers."""
        count = total_by(self.frame.entry, self.row_part, len(self.network.entries.call))
        nobody = (count == 0) & self.frame.behind_front
        lost = [end in self.state.truth.lost_outside for end in self.frame.outside_end]
        nobody[self.frame.outside] |= np.array(lost, dtype=bool)
        return where_true(nobody)

    @cached
    def dead(self) -> Bools:
        """Which rows meet a dead front."""
        return np.asarray(self.state.truth.front_dead[self.frame.front])

    @cached
    def arrives(self) -> Bools:
        """Which rows meet a living front, are let in, and do not turn away."""
        return ~self.dead & ~self.state.encounter.row_blocked & ~self.state.encounter.row_turned

    @cached
    def open_ways(self) -> "OpenWays":
        """Where calls over open connections go."""
        network, calls, row = self.network, self.network.kept.calls, self.frame.open_rows
        dead = self.state.truth.front_dead[network.pairs.front][None, :] & (row >= 0)
        blocked, trip_s = np.zeros_like(dead), np.zeros(row.shape)
        if len(self.frame.entry):
            blocked = self.state.encounter.row_blocked[np.maximum(row, 0)] & (row >= 0) & ~dead
            trip_s = np.where(row >= 0, self.frame.trip_s[np.maximum(row, 0)], 0.0)
        fate, retries = self.fate_of_call[calls], self.frame.retries[network.calls.client[calls]]
        return OpenWays(calls, row, retries, fate, dead, blocked, trip_s)

    @cached
    def takes(self) -> Bools:
        """Per fate and pair: whether a connect is taken."""
        return self.answers | self.frame.leads_on

    @cached
    def not_refused(self) -> Bools:
        """Per fate and pair: whether a connect that is not taken takes its time-out."""
        return np.asarray(self.state.encounter.fate_met != REFUSES)

    @cached
    def fate_of_row(self) -> Ints:
        """The fate of each row's call."""
        return np.asarray(self.fate_of_call[self.frame.call])

    @cached
    def asks_pool(self) -> Bools:
        """Which rows' requests come to a pool."""
        return self.frame.routed & self.arrives

    @cached
    def goes_on(self) -> Bools:
        """Per call: whether it may fail to connect (at a dead front, at none, behind a firewall, at layer 4) and its
        client then takes the next address."""
        frame, network, entries = self.frame, self.network, self.network.entries
        at_row = ~self.arrives | frame.at_4
        at_row = (at_row | (entries.listener[frame.entry] < 0)) & (self.row_part > 0)
        at_entry = total_by(frame.entry, at_row, len(entries.call)) > 0
        at_entry[self.stranded] = True
        at_entry &= entries.member < 0
        return frame.goes_on & (total_by(entries.call, at_entry, len(network.calls.client)) > 0)

    @cached
    def flat_route(self) -> Ints:
        """Per routed row the place of its fate and route in an array of all fates' routes."""
        frame = self.frame
        flat: Ints = self.fate_of_call[frame.call[frame.routed]] * frame.routes + frame.route[frame.routed]
        return flat


def _same(one: Bools | Floats | None, other: Bools | Floats | None) -> bool:
    return one is other or (one is not None and other is not None and same(one, other))


def _end_of(network: Network, entry: int) -> str:
    """The address or host to which an entry leads that goes outside the plan."""
    entries, names = network.entries, network.names
    asker, name, leaf = int(entries.asker[entry]), int(entries.name[entry]), int(entries.leaf[entry])
    if asker >= 0:
        return names.end(names.leaves_for(names.askers[asker])[leaf])
    if name < len(network.plan.names):
        return names.end(names.leaves[name][leaf])
    return network.calls.requests[int(entries.call[entry])].host
