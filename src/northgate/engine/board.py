"""The state of the whole plan at one moment, as the board shows it."""

import math
from collections.abc import Collection, Sequence
from typing import Literal

import numpy as np

from northgate.engine.answers import AnswerModel, member_states, truth_word
from northgate.engine.flow import Flow
from northgate.engine.network import Network
from northgate.engine.truth import ANSWERS
from northgate.engine.types import Floats, Ints, total_by
from northgate.plan.drills import CAUSES


class Rates(AnswerModel):
    """Requests per second: offered, served and failing."""

    rps: float
    served_rps: float
    failed_rps: float


class ZoneState(Rates):
    """A zone: what its targets serve, what of it came through fronts of other zones, whether it is lost."""

    name: str
    region: str
    lost: bool
    from_elsewhere_rps: float


class NamedRates(Rates):
    """Rates of a name, or of what has one."""

    name: str


class ClientState(NamedRates):
    """A client group, and the target groups that its requests can reach, whoever is healthy."""

    reaches: list[str]


class RegionState(ZoneState):
    """A region as one column: what its zones do together, and how many of them are lost."""

    zones: int
    lost_zones: int


class FrontState(Rates):
    """A front: dead or alive, and whether requests are still sent to it."""

    balancer: str
    zone: str
    dead: bool
    in_address: bool
    dead_rps: float


class ListenerState(Rates):
    """Rates of a listener."""

    balancer: str
    name: str


class BalancerState(NamedRates):
    """A balancer with its fronts and listeners."""

    fronts: list[FrontState]
    listeners: list[ListenerState]


class GroupState(NamedRates):
    """A target group: its targets, how many all fronts believe in use, how many beliefs are wrong."""

    targets: int
    in_use: int
    unnoticed: int
    peak_utilisation: float
    busiest: str | None
    touched: bool


class CellState(Rates):
    """What of a group stands in one zone, or in one region: then `zone` is the region's name."""

    group: str
    zone: str
    targets: int
    in_use: int
    unnoticed: int
    mean_rps: float
    peak_utilisation: float


class BerthState(Rates):
    """One target of one group: truth, and how many of the living fronts that may use it believe it in use."""

    group: str
    target: str
    zone: str
    truth: Literal["answers", "slow", "refuses", "silent"]
    belief: Literal["in use", "out", "split", "unknown"]
    believed_in: int
    believed_of: int
    share: float
    utilisation: float
    capacity_rps: float | None
    backlog_s: float
    latency_ms: float


class Ribbon(Rates):
    """A flow between two parts of the board: `client:walkers` to `name:www…`, and so on down."""

    source: str
    to: str


class BoardState(Rates):
    """Everything on the board at one moment; `second` is the time within the drill.

    `berths` may hold those of some groups only: a board with very many is asked for them group by group.
    """

    second: float
    failed_by_cause: dict[str, float]
    mean_latency_ms: float
    zones: list[ZoneState]
    regions: list[RegionState]
    clients: list[ClientState]
    names: list[NamedRates]
    balancers: list[BalancerState]
    groups: list[GroupState]
    cells: list[CellState]
    region_cells: list[CellState]
    berths: list[BerthState]
    ribbons: list[Ribbon]


# A board with more berths than this shows them group by group.
MOST_BERTHS = 400


def board_state(flow: Flow, second: float = 0.0, groups: Collection[str] | None = None) -> BoardState:
    """The board at the moment of a flow, with the berths of these groups (of all, when they are few)."""
    network = flow.network
    berths = _Berths(flow)
    zones = _zones(flow, berths)
    if groups is None and berths.count <= MOST_BERTHS:
        groups = [group.name for group in network.plan.target_groups]
    return BoardState(
        second=second,
        **_rates(flow.requests, flow.served),
        failed_by_cause={cause: float(rate) for cause, rate in zip(CAUSES, flow.cause_rps, strict=True)},
        mean_latency_ms=flow.mean_latency_s * 1000,
        zones=zones,
        regions=_regions(flow, zones),
        clients=_clients(flow),
        names=_names(flow),
        balancers=[_balancer(flow, index) for index in range(len(network.plan.balancers))],
        groups=[_group(flow, berths, index) for index in range(len(network.plan.target_groups))],
        cells=berths.cells(),
        region_cells=berths.region_cells(),
        berths=berths.states(groups or ()),
        ribbons=_ribbons(flow),
    )


def _rates(offered: float, served: float) -> dict[str, float]:
    """Offered, served and failing; rounding in the last digit does not count as failing."""
    failing = float(offered) - float(served)
    return {
        "rps": float(offered),
        "served_rps": float(served),
        "failed_rps": failing if failing > 1e-9 * max(float(offered), 1.0) else 0.0,
    }


class _Berths:
    """Sums of a flow by member, and by group and zone."""

    def __init__(self, flow: Flow) -> None:
        network = flow.network
        self.flow, self.network = flow, network
        self.count = len(network.members.group)
        self.machine = network.members.machine
        self.zone = network.machines.zone[self.machine] if self.count else self.machine
        self.rps = self._sum(flow.places.pair_rps)
        self.served = self._sum(flow.pair_served)
        self.met, self.believed, self.fronts = member_states(
            network, flow.moment.in_use, flow.moment.encounter.met, flow.moment.truth.front_dead
        )
        self.here = flow.moment.present(self.machine)
        usable = self.met == 0
        self.wrong = np.where(usable, self.believed < self.fronts, self.believed > 0)
        self.group_rps = total_by(network.members.group, self.rps, len(network.plan.target_groups))

    def _sum(self, values: Floats) -> Floats:
        return total_by(self.network.pairs.member, values, self.count)

    def states(self, groups: Collection[str]) -> list[BerthState]:
        """Every member of these groups in plan order."""
        names = [group.name for group in self.network.plan.target_groups]
        of_group = [names[int(group)] in groups for group in self.network.members.group]
        return [self._state(member) for member in range(self.count) if of_group[member] and self.here[member]]

    def _state(self, member: int) -> BerthState:
        network, queue = self.network, self.flow.queue
        group, machine = int(network.members.group[member]), int(self.machine[member])
        believed, fronts = int(self.believed[member]), int(self.fronts[member])
        total = float(self.group_rps[group])
        capacity = float(network.machines.capacity[machine])
        return BerthState(
            **_rates(self.rps[member], self.served[member]),
            group=network.plan.target_groups[group].name,
            target=network.machines.names[machine],
            zone=network.zones[int(self.zone[member])],
            truth=truth_word(int(self.met[member]), float(self.flow.moment.truth.slowness[machine])),
            belief=_belief(believed, fronts),
            believed_in=believed,
            believed_of=fronts,
            share=float(self.rps[member]) / total if total > 0 else 0.0,
            utilisation=float(queue.utilisation[machine]),
            capacity_rps=capacity if np.isfinite(capacity) else None,
            backlog_s=float(self.flow.moment.backlog_s[machine]),
            latency_ms=float(queue.latency_s[machine]) * 1000,
        )

    def cells(self) -> list[CellState]:
        """Every group and zone in which it has targets, in plan order."""
        return self._by_place(self.zone, self.network.zones)

    def region_cells(self) -> list[CellState]:
        """Every group and region in which it has targets, in plan order."""
        return self._by_place(self.network.zone_region[self.zone], self.network.regions)

    def _by_place(self, place: Ints, names: Sequence[str]) -> list[CellState]:
        """Sums by group and place, for those that have any target."""
        groups = self.network.plan.target_groups
        at, count = self.network.members.group * len(names) + place, len(groups) * len(names)
        used = self.believed > 0
        rps, served = total_by(at, self.rps, count), total_by(at, self.served, count)
        targets, in_use = total_by(at, self.here, count), total_by(at, used, count)
        unnoticed, peak = total_by(at, self.wrong, count), np.zeros(count)
        np.maximum.at(peak, at, self.flow.queue.utilisation[self.machine])
        return [
            CellState(
                **_rates(rps[cell], served[cell]),
                group=groups[cell // len(names)].name,
                zone=names[cell % len(names)],
                targets=int(targets[cell]),
                in_use=int(in_use[cell]),
                unnoticed=int(unnoticed[cell]),
                mean_rps=float(rps[cell]) / max(int(in_use[cell]), 1),
                peak_utilisation=float(peak[cell]),
            )
            for cell in np.flatnonzero(targets).tolist()
        ]


def _belief(believed: int, fronts: int) -> Literal["in use", "out", "split", "unknown"]:
    if fronts == 0:
        return "unknown"
    if believed == fronts:
        return "in use"
    return "out" if believed == 0 else "split"


def _zones(flow: Flow, berths: _Berths) -> list[ZoneState]:
    network = flow.network
    count = len(network.zones)
    rps = total_by(berths.zone, berths.rps, count)
    served = total_by(berths.zone, berths.served, count)
    fixed = flow.zone_served - served
    lost = _lost_zones(flow)
    return [
        ZoneState(
            **_rates(rps[zone] + fixed[zone], flow.zone_served[zone]),
            name=name,
            region=network.regions[int(network.zone_region[zone])],
            lost=bool(lost[zone]),
            from_elsewhere_rps=float(flow.places.zone_from_elsewhere[zone]),
        )
        for zone, name in enumerate(network.zones)
    ]


def _regions(flow: Flow, zones: Sequence[ZoneState]) -> list[RegionState]:
    """Each region's zones together; what crosses zones within the region counts as well."""
    states = []
    for region in flow.network.regions:
        mine = [zone for zone in zones if zone.region == region]
        lost = sum(zone.lost for zone in mine)
        states.append(
            RegionState(
                **_rates(math.fsum(zone.rps for zone in mine), math.fsum(zone.served_rps for zone in mine)),
                name=region,
                region=region,
                lost=lost == len(mine),
                from_elsewhere_rps=math.fsum(zone.from_elsewhere_rps for zone in mine),
                zones=len(mine),
                lost_zones=lost,
            )
        )
    return states


def _lost_zones(flow: Flow) -> list[bool]:
    """A zone in which machines or fronts stand and none of them lives."""
    network, truth = flow.network, flow.moment.truth
    count = len(network.zones)
    zones = np.concatenate([network.machines.zone, network.fronts.zone])
    living = np.concatenate([~truth.machine_silent, ~truth.front_dead])
    there = np.bincount(zones, minlength=count)
    return list((there > 0) & (total_by(zones, living, count) == 0))


def _reached(network: Network, client: int) -> list[str]:
    """The target groups of every pool that a client group's requests are sent to."""
    entries, plan = network.entries, network.plan
    pools = entries.pool[network.calls.client[entries.call] == client]
    tiers = [tier for pool in dict.fromkeys(int(p) for p in pools) if pool >= 0 for tier in plan.pools[pool].tiers]
    return list(dict.fromkeys(group for tier in tiers for group in tier.groups))


def _clients(flow: Flow) -> list[ClientState]:
    calls, plan = flow.network.calls, flow.network.plan
    offered = total_by(calls.client, flow.moment.call_rps, len(plan.clients))
    served = total_by(calls.client, flow.call_served, len(plan.clients))
    return [
        ClientState(name=client.name, **_rates(offered[index], served[index]), reaches=_reached(flow.network, index))
        for index, client in enumerate(plan.clients)
    ]


def _names(flow: Flow) -> list[NamedRates]:
    network = flow.network
    asked = network.entries.name
    offered = total_by(asked, flow.places.entry_rps, len(network.plan.names))
    served = total_by(asked, flow.places.entry_served, len(network.plan.names))
    return [
        NamedRates(name=name.name, **_rates(offered[index], served[index]))
        for index, name in enumerate(network.plan.names)
    ]


def _balancer(flow: Flow, index: int) -> BalancerState:
    network, entries = flow.network, flow.network.entries
    balancer = network.plan.balancers[index]
    mine = entries.balancer == index
    truth, present = flow.moment.truth, flow.moment.in_address
    fronts = [
        FrontState(
            **_rates(flow.places.front_rps[front], flow.places.front_served[front]),
            balancer=balancer.name,
            zone=network.front_name(int(front)),
            dead=bool(truth.front_dead[front]),
            in_address=bool(present[front]),
            dead_rps=float(flow.places.front_dead_rps[front]),
        )
        for front in np.flatnonzero(network.fronts.balancer == index)
    ]
    listeners = [
        ListenerState(
            **_rates(
                flow.places.entry_rps[mine & (entries.listener == number)].sum(),
                flow.places.entry_served[mine & (entries.listener == number)].sum(),
            ),
            balancer=balancer.name,
            name=listener.name,
        )
        for number, listener in enumerate(balancer.listeners)
    ]
    rates = _rates(flow.places.entry_rps[mine].sum(), flow.places.entry_served[mine].sum())
    return BalancerState(name=balancer.name, **rates, fronts=fronts, listeners=listeners)


def _group(flow: Flow, berths: _Berths, index: int) -> GroupState:
    network = flow.network
    mine = np.flatnonzero((network.members.group == index) & berths.here)
    load = flow.queue.utilisation[berths.machine[mine]] if len(mine) else np.zeros(0)
    busiest = int(load.argmax()) if len(mine) else None
    return GroupState(
        name=network.plan.target_groups[index].name,
        **_rates(berths.rps[mine].sum(), berths.served[mine].sum()),
        targets=len(mine),
        in_use=int((berths.believed[mine] > 0).sum()),
        unnoticed=int(berths.wrong[mine].sum()),
        peak_utilisation=float(load.max(initial=0.0)),
        busiest=network.machines.names[int(berths.machine[mine[busiest]])] if busiest is not None else None,
        touched=bool((berths.met[mine] != ANSWERS).any() or berths.wrong[mine].any()),
    )


def _ribbons(flow: Flow) -> list[Ribbon]:
    """Flows from clients to names, on to balancers and their fronts, and from fronts to the zones of their targets."""
    network = flow.network
    plan, entries, pairs = network.plan, network.entries, network.pairs
    client = network.calls.client[entries.call]
    flows: list[Ribbon] = []

    def add(source: str, to: str, offered: float, served: float) -> None:
        if offered > 0:
            flows.append(Ribbon(source=source, to=to, **_rates(offered, served)))

    for one, asked, mine in _groups_of(client, network.entries.name):
        if one >= len(plan.clients):
            continue
        name = plan.names[asked].name if asked < len(plan.names) else "address"
        add(
            f"client:{plan.clients[one].name}", f"name:{name}",
            float(flow.places.entry_rps[mine].sum()), float(flow.places.entry_served[mine].sum()),
        )  # fmt: skip
    for asked, balancer, mine in _groups_of(network.entries.name, entries.balancer):
        if balancer >= 0 and asked < len(plan.names):
            add(
                f"name:{plan.names[asked].name}", f"balancer:{plan.balancers[balancer].name}",
                float(flow.places.entry_rps[mine].sum()), float(flow.places.entry_served[mine].sum()),
            )  # fmt: skip
    for front in range(len(network.fronts.zone)):
        balancer_name, zone = network.balancer_of(front), network.front_name(front)
        add(
            f"balancer:{balancer_name}", f"front:{balancer_name}/{zone}",
            float(flow.places.front_rps[front]), float(flow.places.front_served[front]),
        )  # fmt: skip
    for front, zone_index, mine in _groups_of(pairs.front, network.machines.zone[pairs.machine]):
        add(
            f"front:{network.balancer_of(front)}/{network.front_name(front)}", f"zone:{network.zones[zone_index]}",
            float(flow.places.pair_rps[mine].sum()), float(flow.pair_served[mine].sum()),
        )  # fmt: skip
    return flows


def _groups_of(one: Ints, other: Ints) -> list[tuple[int, int, Ints]]:
    """The positions of each combination of two indices that occurs, in rising order."""
    combined = np.stack([one, other], axis=1)
    if not len(combined):
        return []
    kinds, where = np.unique(combined, axis=0, return_inverse=True)
    return [(int(a), int(b), np.flatnonzero(where.ravel() == number)) for number, (a, b) in enumerate(kinds)]
