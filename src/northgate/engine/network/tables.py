"""A plan compiled into frozen tables of index arrays, on which everything else in the engine works.

Objects become positions in plan order; names return only at the edges. The tables, by what their arrays run over:

    machine   one instance (fleets expanded)
    service   one port that a machine serves
    member    one target of one group (a berth of the board)
    group     one target group
    front     the part of a balancer that stands in one zone
    cell      one front and one group that it may use
    pair      one front and one member within its reach: who is chosen, and who probes whom
    route     one front and one pool
    tier      one tier of a route
    weighted  one group of a tier, with its weight
    segment   the sources of a client group that every rule and firewall of the plan treats alike
    call      one kind of request of a segment, or of a prober of names
    entry     one call and one place to which its name may lead: the rule that takes it there
    arrival   one entry and one front that may take its requests

A target that is another balancer (or a host name that leads to some) is a placeholder machine; requests passed on are
entries with member >= 0, one level deeper.
"""

from collections.abc import Sequence

import numpy as np
from msgspec import Struct

from northgate.engine.base import Bools, Derives, Floats, Ints, cached, finite, ints
from northgate.engine.formulas import METHODS, Keys, Stations
from northgate.engine.matching import Request
from northgate.engine.network.names import NameBook
from northgate.engine.network.sources import Segment
from northgate.plan import Plan
from northgate.plan.models.addressing import AddressBook
from northgate.plan.models.groups import Probe

CLIENTS_JUDGE = -1
NO_PATH = -1


class Machines(Struct, frozen=True, dict=True):
    """Per machine: zone, capacity (requests/s, inf when no limit is known), idle service time and queue (s).

    `real` ones are instances of the plan, which come first; the others are placeholders of what targets lead to
    elsewhere, `outside` ones of what no part of the plan owns. `spare` ones are not there from the start: places for
    what an autoscaler may launch.
    """

    names: tuple[str, ...]
    zone: Ints
    capacity: Floats
    service_s: Floats
    queue_s: Floats
    real: Bools
    outside: Bools
    spare: Bools

    def stations(self, slowness: Floats) -> Stations:
        """They as they work while so many times as slow as planned, (machines,)."""
        return Stations(self.capacity / slowness, self.service_s * slowness, self.queue_s)

    @cached
    def _positions(self) -> dict[str, int]:
        return {name: position for position, name in enumerate(self.names)}

    def index(self, name: str) -> int:
        """The position of a machine; raises KeyError."""
        return self._positions[name]


class Services(Struct, frozen=True):
    """Per service: its machine, port and protocol; `status[s, p]` is what it answers to path p."""

    machine: Ints
    port: Ints
    protocol: tuple[str, ...]
    pages: tuple[dict[str, int], ...]
    status: Ints

    def speaks(self, protocols: Sequence[str]) -> Bools:
        """Per service: whether it speaks one of these protocols."""
        return np.isin(np.array(self.protocol), protocols)


class Groups(Struct, frozen=True, dict=True):
    """Per target group its settings, times in seconds; `probe` is None where nobody watches it.

    `network.groups.drain_s[network.pairs.group]` is a setting per pair.
    """

    probe: tuple[Probe | None, ...]
    method: tuple[str, ...]
    reach: tuple[str, ...]
    try_others: Ints
    connect_timeout_s: Floats
    response_timeout_s: Floats
    drain_s: Floats
    slow_start_s: Floats
    resets_when_out: Bools
    sends_anyway: Bools

    @cached
    def prefers_zone(self) -> Bools:
        """Per group: whether fronts keep to their own zone while it has targets in use."""
        return np.array([reach == "prefer-zone" for reach in self.reach], dtype=bool)


class Members(Struct, frozen=True):
    """Per member: group, machine, weight, place within its group, and service (-1: nothing serves its port).

    `port` is the one that requests ask, `probe_port` the one that the group's probe asks; `leads_on` ones are no
    machines: what they get goes on to another balancer. `keys` are the hashes of their names.
    """

    group: Ints
    machine: Ints
    weight: Floats
    place: Ints
    service: Ints
    probe_service: Ints
    port: Ints
    probe_port: Ints
    leads_on: Bools
    keys: Keys


class Balancers(Struct, frozen=True, dict=True):
    """Per balancer: its layer (4 or 7), how deep it stands behind others (0: only clients ask it), what its answers may
    take together (megabits/s; inf where no limit is known), and whether it leaves its address without usable
    targets."""

    layer: Ints
    level: Ints
    bandwidth_mbps: Floats
    withdraws: Bools

    @cached
    def levels(self) -> int:
        """How many balancers stand behind each other at most."""
        return int(self.level.max(initial=0)) + 1


class Fronts(Struct, frozen=True):
    """Per front; `failover_s`: until a dead one leaves the address, a returned one joins; `own`: an instance's."""

    balancer: Ints
    layer: Ints
    zone: Ints
    failover_s: Floats
    own: Bools


class Cells(Struct, frozen=True, dict=True):
    """Per cell: front, group, and how its targets are chosen; `pairs` are its pairs, in order."""

    front: Ints
    group: Ints
    method: tuple[str, ...]
    pairs: tuple[Ints, ...]

    @cached
    def by_key(self) -> tuple[int, ...]:
        """The cells whose targets a source's key decides."""
        return tuple(cell for cell, method in enumerate(self.method) if METHODS[method].sticky_by_key)


class Pairs(Struct, frozen=True):
    """Per pair: front, member, cell, group, machine, weight; whether both stand in one zone; the region of its front.

    `connect_timeout_s`: how long a request hangs on a silent target (at layer 4 the clients' own mean patience);
    `response_timeout_s`: how long its balancer waits for the target's answer to begin (inf at layer 4). `first`:
    clients ask its balancer themselves, so that their round trip leads to its front. `behind`: for each balancer that
    no client asks itself, the nearest to clients first, its pairs and those that lead to it.
    """

    front: Ints
    member: Ints
    cell: Ints
    group: Ints
    machine: Ints
    weight: Floats
    same_zone: Bools
    region: Ints
    connect_timeout_s: Floats
    response_timeout_s: Floats
    first: Bools
    behind: tuple[tuple[Ints, Ints], ...]


class Probed(Struct, frozen=True):
    """The pairs whose group has a probe, and how long that waits for an answer (s). `onward` are places among them of
    those whose target leads on, `onward_call` the calls that stand for their probes."""

    pair: Ints
    timeout_s: Floats
    onward: Ints
    onward_call: Ints


class Routes(Struct, frozen=True):
    """Per route: front and pool."""

    front: Ints
    pool: Ints


class Tiers(Struct, frozen=True, dict=True):
    """Per tier: its route, its number there (from 0), what it needs in use to serve, and whether the weight of an empty
    group is shared out among the others. `first` is the first tier of each route."""

    route: Ints
    number: Ints
    min_count: Floats
    min_share: Floats
    shares_out: Bools

    @cached
    def first(self) -> Ints:
        """The first tier of each route."""
        return np.flatnonzero(self.number == 0)


class WeightedGroups(Struct, frozen=True):
    """Per weighted group: its tier, that tier's route, its cell, and its weight."""

    tier: Ints
    route: Ints
    cell: Ints
    weight: Floats


class Calls(Struct, frozen=True, dict=True):
    """Per call: client group (one past the last: a prober), its place in the group, segment, area (-1: none), share of
    the group's rate, and outcome class; what it answers (megabits).

    Calls of one outcome class fare alike at every target: they ask the same path, wait equally long, are judged alike
    (`outcome_judge`: the probe, or `CLIENTS_JUDGE`), come from the same distance (`outcome_trip`, a row of `trips_s`),
    and where it matters from the same sources (`outcome_who`). `distance_s` is the round trip from the call's area to
    each region (s), inf where the plan does not tell it: nobody chooses what is infinitely far while there is anything
    else.
    """

    client: Ints
    number: Ints
    segment: Ints
    area: Ints
    share: Floats
    outcome: Ints
    outcome_path: Ints
    outcome_timeout_s: Floats
    outcome_judge: Ints
    outcome_who: Ints
    outcome_trip: Ints
    outcome_connect_s: Floats
    connect_timeout_s: Floats
    timeout_s: Floats
    distance_s: Floats
    trips_s: Floats
    megabits: Floats
    requests: tuple[Request, ...]

    @cached
    def round_trip_s(self) -> Floats:
        """Per call and region: the round trip as far as it is known (s)."""
        return finite(self.distance_s)


class Entries(Struct, frozen=True, dict=True):
    """Per entry: call, where it comes from and where it leads.

    `member` is the target that passes the request on (-1: the client itself). `name` is the name that was asked (one
    past the last: none), `asker` who asks it in the name book (-1: nobody has to, it is the only way), `leaf` the place
    among that asker's leaves.
    `balancer` is -1 outside the plan, `front` the only one with that address (-1: any). `pool` is -1 when no pool
    serves: then `fixed_cause` is the cause of failure, or -1 when the answer is a good one of status `fixed_status`.
    """

    call: Ints
    member: Ints
    name: Ints
    asker: Ints
    leaf: Ints
    balancer: Ints
    front: Ints
    listener: Ints
    rule: Ints
    pool: Ints
    fixed_cause: Ints
    fixed_status: Ints

    @cached
    def of_call(self) -> tuple[Ints, ...]:
        """The entries by which each call itself sets out."""
        own = self.member < 0
        return tuple(np.flatnonzero(own & (self.call == call)) for call in range(int(self.call.max(initial=-1)) + 1))


class Arrivals(Struct, frozen=True):
    """Per arrival: the entry, a front that may take its requests, and the route that they take there (-1: none)."""

    entry: Ints
    front: Ints
    route: Ints


class SessionKind(Struct, frozen=True):
    """The sessions of one client group with one target group: its sources, the cells that keep them, and with what rate
    they end (1/s; 0: each call renews them), never for being idle. `by_key`: a key leads connections (layer 4)."""

    client: int
    group: int
    sources: float
    cells: Ints
    ends: float
    idle_s: float = np.inf
    by_key: bool = False


class ConnectionKind(Struct, frozen=True):
    """The layer 4 connections of one call: its sources, with what rate they end by themselves (1/s), after how long
    idle (s: the shortest time-out of the balancers that take it), and the arrivals by which they are opened.

    `row_of_front` and `weighted_of_cell` say by which arrival and weighted group a connection through a front and cell
    goes (-1: none). `session` is the kind of session that says where all of them lead (-1: none does).
    """

    call: int
    sources: float
    ends: float
    idle_s: float
    rows: Ints
    row_of_front: Ints
    weighted_of_cell: Ints
    session: int = -1


class Kept(Struct, frozen=True, dict=True):
    """What clients keep: the kinds of sessions, and of layer 4 connections. `at_cells[k, c]`: whether requests of a
    client's call k may come to cell c, through other balancers too; `unbound`: with what rate the session ends that
    leads a kind of connection (1/s; NaN: none does), of no kinds where none is led."""

    sessions: tuple[SessionKind, ...]
    connections: tuple[ConnectionKind, ...]
    at_cells: Bools
    unbound: Floats

    @cached
    def connection_of_call(self) -> dict[int, int]:
        """The kind of connection of each call that has one."""
        return {kind.call: number for number, kind in enumerate(self.connections)}

    @cached
    def calls(self) -> Ints:
        """The call of each kind of connection."""
        return ints(kind.call for kind in self.connections)

    @cached
    def terms(self) -> tuple[Floats, ...]:
        """Of the kinds of sessions, and of connections: how many sources, and how masses end (see `Openings.ends`)."""
        kinds = (self.sessions, self.connections)
        found = ([(float(one.sources), one.ends, one.idle_s) for one in some] for some in kinds)
        return tuple(np.array(rows, dtype=np.float64).reshape(-1, 3).T.copy() for rows in found)


class Network(Struct, Derives, frozen=True, eq=False, dict=True):
    """A plan as tables; see the module for what their arrays run over. Immutable."""

    plan: Plan
    zones: tuple[str, ...]
    zone_region: Ints
    regions: tuple[str, ...]
    paths: tuple[str, ...]
    machines: Machines
    services: Services
    groups: Groups
    members: Members
    balancers: Balancers
    fronts: Fronts
    cells: Cells
    pairs: Pairs
    probed: Probed
    routes: Routes
    tiers: Tiers
    weighted: WeightedGroups
    calls: Calls
    entries: Entries
    arrivals: Arrivals
    kept: Kept
    segments: tuple[Segment, ...]
    names: NameBook
    book: AddressBook

    def front_name(self, front: int) -> str:
        """The zone in which a front stands, which names it within its balancer."""
        return self.zones[int(self.fronts.zone[front])]

    def balancer_of(self, front: int) -> str:
        """The name of a front's balancer."""
        return self.plan.balancers[int(self.fronts.balancer[front])].name
