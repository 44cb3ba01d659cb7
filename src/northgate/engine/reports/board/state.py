"""The state of the whole plan at one moment, as the board shows it."""

import math
from collections.abc import Collection, Sequence

import numpy as np

from northgate.engine.balancing import Room, rooms
from northgate.engine.base import total_by
from northgate.engine.network import Network, remarks
from northgate.engine.reports.board.berths import Berths, Proofs
from northgate.engine.reports.board.model import (
    BalancerState,
    BoardState,
    ClientState,
    FrontState,
    GroupState,
    ListenerState,
    NamedRates,
    RegionState,
    Remark,
    RoomState,
    ZoneState,
    rates_of,
)
from northgate.engine.reports.board.ribbons import ribbons
from northgate.engine.reports.board.watching import pool_states, probe_states
from northgate.engine.solver import Flow
from northgate.engine.truth import ANSWERS
from northgate.plan.models.drills import CAUSES

# A board with more berths than this shows them group by group.
MOST_BERTHS = 400


def board_state(
    flow: Flow, second: float = 0.0, groups: Collection[str] | None = None, proofs: Proofs | None = None
) -> BoardState:
    """The board at the moment of a flow, with the berths of these groups (of all, when they are few).

    `proofs`: when targets that answer again will be in use, by member.
    """
    network = flow.network
    berths = Berths(flow, proofs or {})
    zones = _zones(flow, berths)
    if groups is None and berths.count <= MOST_BERTHS:
        groups = [group.name for group in network.plan.target_groups]
    return BoardState(
        second=second,
        **rates_of(flow.requests, flow.served),
        failed_by_cause={cause: float(rate) for cause, rate in zip(CAUSES, flow.cause_rps, strict=True)},
        mean_latency_ms=flow.mean_latency_s * 1000,
        zones=zones,
        regions=_regions(flow, zones),
        clients=_clients(flow),
        names=_names(flow),
        balancers=[_balancer(flow, index) for index in range(len(network.plan.balancers))],
        groups=_groups(flow, berths),
        pools=pool_states(flow, berths),
        probes=probe_states(flow, berths),
        cells=berths.cells(),
        region_cells=berths.region_cells(),
        berths=berths.states(groups or ()),
        ribbons=ribbons(flow),
        remarks=network.derived(_remarks),
    )


def _remarks(network: Network) -> list[Remark]:
    return [Remark(where=one.where, message=one.message) for one in remarks(network.plan)]


def _zones(flow: Flow, berths: Berths) -> list[ZoneState]:
    network = flow.network
    count = len(network.zones)
    rps = total_by(berths.zone, berths.rps, count)
    served = total_by(berths.zone, berths.served, count)
    fixed = flow.zone_served - served
    lost = _lost_zones(flow)
    return [
        ZoneState(
            **rates_of(rps[zone] + fixed[zone], flow.zone_served[zone]),
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
                **rates_of(math.fsum(zone.rps for zone in mine), math.fsum(zone.served_rps for zone in mine)),
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
    network, truth = flow.network, flow.state.truth
    count = len(network.zones)
    real = ~network.fronts.own
    zones = np.concatenate([network.machines.zone, network.fronts.zone[real]])
    living = np.concatenate([~truth.machine_silent, ~truth.front_dead[real]])
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
    offered = total_by(calls.client, flow.state.call_rps, len(plan.clients))
    served = total_by(calls.client, flow.call_served, len(plan.clients))
    return [
        ClientState(name=client.name, **rates_of(offered[index], served[index]), reaches=_reached(flow.network, index))
        for index, client in enumerate(plan.clients)
    ]


def _names(flow: Flow) -> list[NamedRates]:
    network = flow.network
    asked = network.entries.name
    offered = total_by(asked, flow.places.entry_rps, len(network.plan.names))
    served = total_by(asked, flow.places.entry_served, len(network.plan.names))
    return [
        NamedRates(name=name.name, **rates_of(offered[index], served[index]))
        for index, name in enumerate(network.plan.names)
    ]


def _balancer(flow: Flow, index: int) -> BalancerState:
    network, entries = flow.network, flow.network.entries
    balancer = network.plan.balancers[index]
    mine = entries.balancer == index
    truth, present = flow.state.truth, flow.state.in_address
    fronts = [
        FrontState(
            **rates_of(flow.places.front_rps[front], flow.places.front_served[front]),
            balancer=balancer.name,
            zone=network.front_name(int(front)),
            dead=bool(truth.front_dead[front]),
            in_address=bool(present[front]),
            stands_by=balancer.address_kind == "floating" and not (present[front] or truth.front_dead[front]),
            dead_rps=float(flow.places.front_dead_rps[front]),
        )
        for front in np.flatnonzero(network.fronts.balancer == index)
    ]
    listeners = [
        ListenerState(
            **rates_of(
                flow.places.entry_rps[mine & (entries.listener == number)].sum(),
                flow.places.entry_served[mine & (entries.listener == number)].sum(),
            ),
            balancer=balancer.name,
            name=listener.name,
        )
        for number, listener in enumerate(balancer.listeners)
    ]
    rates = rates_of(flow.places.entry_rps[mine].sum(), flow.places.entry_served[mine].sum())
    return BalancerState(name=balancer.name, **rates, fronts=fronts, listeners=listeners)


def _groups(flow: Flow, berths: Berths) -> list[GroupState]:
    room = rooms(flow.network, flow.choice, flow.state.living_in_use(flow.network.pairs.front))
    return [_group(flow, berths, index, room.get(index)) for index in range(len(flow.network.plan.target_groups))]


def _room(network: Network, room: Room) -> RoomState:
    return RoomState(
        limit_rps=room.limit_rps, taken_rps=room.taken_rps, spills_rps=max(room.offered_rps - room.taken_rps, 0.0),
        to=[network.plan.target_groups[one].name for one in room.then],
        spills_at=room.spills_at if math.isfinite(room.spills_at) else None,
    )  # fmt: skip


def _group(flow: Flow, berths: Berths, index: int, room: Room | None) -> GroupState:
    network = flow.network
    mine = np.flatnonzero((network.members.group == index) & berths.here)
    load = flow.queue.utilisation[berths.machine[mine]] if len(mine) else np.zeros(0)
    busiest = int(load.argmax()) if len(mine) else None
    return GroupState(
        name=network.plan.target_groups[index].name,
        **rates_of(berths.rps[mine].sum(), berths.served[mine].sum()),
        targets=len(mine),
        in_use=int((berths.believed[mine] > 0).sum()),
        unnoticed=int(berths.wrong[mine].sum()),
        peak_utilisation=float(load.max(initial=0.0)),
        busiest=network.machines.names[int(berths.machine[mine[busiest]])] if busiest is not None else None,
        touched=bool((berths.met[mine] != ANSWERS).any() or berths.wrong[mine].any()),
        room=room and _room(network, room),
    )
