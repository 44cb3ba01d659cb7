"""What the board shows, as a document."""

from typing import Literal

from northgate.engine.reports.model import AnswerModel


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
    """A front: dead or alive, and whether requests are still sent to it. `stands_by`: another holds the address that
    it could hold."""

    balancer: str
    zone: str
    dead: bool
    in_address: bool
    stands_by: bool
    dead_rps: float


class ListenerState(Rates):
    """Rates of a listener."""

    balancer: str
    name: str


class BalancerState(NamedRates):
    """A balancer with its fronts and listeners."""

    fronts: list[FrontState]
    listeners: list[ListenerState]


class RoomState(AnswerModel):
    """How far a group is filled: what it may take, and takes within that; what goes on from it (requests/s), to which
    groups, and at what factor of today's load that begins (None: never)."""

    limit_rps: float
    taken_rps: float
    spills_rps: float
    to: list[str]
    spills_at: float | None


class GroupState(NamedRates):
    """A target group: its targets, how many all fronts believe in use, how many beliefs are wrong; its room, where it
    is filled only so far."""

    targets: int
    in_use: int
    unnoticed: int
    peak_utilisation: float
    busiest: str | None
    touched: bool
    room: RoomState | None = None


class TierState(AnswerModel):
    """A tier of a pool: its groups, their targets, and how many of these some front believes in use."""

    groups: list[str]
    targets: int
    in_use: int


class PoolState(NamedRates):
    """A pool with its tiers, the first choice first."""

    tiers: list[TierState]


class ProbeState(AnswerModel):
    """A probe of targets: how many it watches, how many of these are in use, about how many it is wrong, and how many
    probes all living fronts send in a second when answers come at once."""

    name: str
    targets: int
    in_use: int
    unnoticed: int
    probes_per_s: float


class CellState(Rates):
    """What of a group stands in one zone, or in one region: then `zone` is the region's name."""

    group: str
    zone: str
    targets: int
    in_use: int
    unnoticed: int
    unproven: int
    mean_rps: float
    peak_utilisation: float


class BerthState(Rates):
    """One target of one group: the worst that a living front meets there, how many of these believe it in use, and
    whether some believe what is not so for themselves.

    `unproven`: it answers, and has yet to pass as many probes as the group's probe asks for. `proven_at_s`: the second
    of the drill at which the last front will have seen that; none where that is after its end, or without a drill.
    """

    group: str
    target: str
    zone: str
    truth: Literal["answers", "slow", "refuses", "silent"]
    belief: Literal["in use", "out", "split", "unknown", "leaving"]
    believed_in: int
    believed_of: int
    wrong: bool
    share: float
    utilisation: float
    capacity_rps: float | None
    backlog_s: float
    latency_ms: float
    unproven: bool
    proven_at_s: float | None


class Ribbon(Rates):
    """A flow between two parts of the board: `client:walkers` to `name:www…`, and so on down."""

    source: str
    to: str


class Remark(AnswerModel):
    """What the plan leaves open that this needs: where, and what is taken for it."""

    where: str
    message: str


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
    pools: list[PoolState]
    probes: list[ProbeState]
    cells: list[CellState]
    region_cells: list[CellState]
    berths: list[BerthState]
    ribbons: list[Ribbon]
    remarks: list[Remark]


def rates_of(offered: float, served: float) -> dict[str, float]:
    """Offered, served and failing; rounding in the last digit does not count as failing."""
    failing = float(offered) - float(served)
    return {
        "rps": float(offered),
        "served_rps": float(served),
        "failed_rps": failing if failing > 1e-9 * max(float(offered), 1.0) else 0.0,
    }
