"""The berths of the board: sums by target, and by group and place."""

from collections.abc import Collection, Mapping, Sequence
from typing import Literal

import numpy as np

from northgate.engine.base import Floats, Ints, total_by
from northgate.engine.drill import DrillRun
from northgate.engine.reports.beliefs import leaves, member_states
from northgate.engine.reports.board.model import BerthState, CellState, rates_of
from northgate.engine.solver import Flow
from northgate.engine.truth import truth_word

# Members that answer and are not yet proven to every front that asks: the second at which the last will have seen
# enough; None where that is not within the drill.
Proofs = Mapping[int, float | None]


def proofs_at(run: DrillRun, second: float) -> Proofs:
    """The members that are not yet proven at a second of a drill, and when they will be."""
    proofs: dict[int, float | None] = {}
    for row in run.blind:
        if row.change == "up" and row.true_at_s <= second < row.ended_at_s:
            member = int(run.network.pairs.member[row.pair])
            latest, believed_s = proofs.get(member, 0.0), row.believed_at_s
            proofs[member] = None if latest is None or believed_s is None else max(latest, believed_s)
    return proofs


class Berths:
    """Sums of a flow by member, and by group and zone."""

    def __init__(self, flow: Flow, proofs: Proofs) -> None:
        network = flow.network
        self.flow, self.network = flow, network
        self.count = len(network.members.group)
        self.machine = network.members.machine
        self.zone = network.machines.zone[self.machine] if self.count else self.machine
        self.rps = self._sum(flow.places.pair_rps)
        self.served = self._sum(flow.pair_served)
        self.met, self.believed, self.fronts, mistaken = member_states(network, flow.state)
        self.leaves = leaves(network, flow.state)
        self.here = flow.state.present(self.machine)
        self.proofs, self.unproven = proofs, np.isin(np.arange(self.count), np.array([*proofs], dtype=np.int64))
        self.wrong = mistaken > 0
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
            **rates_of(self.rps[member], self.served[member]),
            group=network.plan.target_groups[group].name,
            target=network.machines.names[machine],
            zone=network.zones[int(self.zone[member])],
            truth=truth_word(int(self.met[member]), float(self.flow.state.truth.slowness[machine])),
            belief="leaving" if self.leaves[member] else _belief(believed, fronts),
            believed_in=believed,
            believed_of=fronts,
            wrong=bool(self.wrong[member]),
            share=float(self.rps[member]) / total if total > 0 else 0.0,
            utilisation=float(queue.utilisation[machine]),
            capacity_rps=capacity if np.isfinite(capacity) else None,
            backlog_s=float(self.flow.state.backlog_s[machine]),
            latency_ms=float(queue.latency_s[machine]) * 1000,
            unproven=member in self.proofs,
            proven_at_s=self.proofs.get(member),
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
        unproven = total_by(at, self.unproven, count)
        unnoticed, peak = total_by(at, self.wrong, count), np.zeros(count)
        np.maximum.at(peak, at, self.flow.queue.utilisation[self.machine])
        return [
            CellState(
                **rates_of(rps[cell], served[cell]),
                group=groups[cell // len(names)].name,
                zone=names[cell % len(names)],
                targets=int(targets[cell]),
                in_use=int(in_use[cell]),
                unnoticed=int(unnoticed[cell]),
                unproven=int(unproven[cell]),
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
