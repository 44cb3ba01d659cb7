"""What happened before a moment, in words: since when something is lost, who has noticed, and by when others must."""

import numpy as np

from northgate.engine.drill import BlindRow, DrillRun, Story
from northgate.engine.network import Asker, Sets
from northgate.engine.solver import Flow
from northgate.engine.trace.format import clock, short
from northgate.engine.truth import ANSWERS, Paths, encounter, truth_under
from northgate.plan.models.faults import Part


def told_now(flow: Flow, name: int, area: int) -> Sets:
    """The sets that those who ask a name from an area are told now."""
    names, state = flow.network.names, flow.state
    who = Asker(name, -1, area)
    return names.sets(who, lambda one: [(1.0, names.record(one, state.healthy[one], state.in_address, state.given))])


class History:
    """The story of a drill up to a second; without a drill nothing has happened, and it says what stands."""

    def __init__(self, flow: Flow, run: DrillRun | Story | None = None, second: float = 0.0) -> None:
        self.flow, self.network, self.run, self.second = flow, flow.network, run, second
        self._faults = _faults_until(run, second)
        self._paths = Paths.of(self.network)
        self._effects: list[tuple[float, Part, frozenset[int]]] | None = None

    def held_sets(self, name: int, area: int, over_share: float, over_s: float) -> Sets:
        """The sets of addresses that clients of an area hold of a name at this second, as places among its leaves."""
        who = Asker(name, -1, area)
        if self.run is not None:
            return self.run.history.sets(who, over_share, over_s, self.second)
        return told_now(self.flow, name, area)

    # Fronts

    def why_front(self, front: int, *, dead: bool) -> str:
        """Why a request meets a dead front."""
        since = self._front_lost_s(front)
        if not dead or since is None:
            return "its front is dead and still in the address"
        leaves = since + float(self.network.fronts.failover_s[front])
        return f"its front is dead since {clock(since)}, and leaves the address at {clock(leaves)}"

    def why_front_left(self, front: int) -> str:
        """Why a front is not in its address."""
        since = self._front_lost_s(front)
        balancer = self.network.plan.balancers[int(self.network.fronts.balancer[front])]
        if balancer.address_kind == "floating" and since is None:
            return "stands by: one front at a time holds the address"
        if since is None:
            return "not in the address"
        left = since + float(self.network.fronts.failover_s[front])
        return f"dead since {clock(since)}: left the address at {clock(left)}"

    def lately_left(self) -> str:
        """Which front left its address last, where one has."""
        if self.run is None:
            return ""
        left = [
            one for one in self.run.events if one.kind == "front" and one.at_s <= self.second and not one.facts["joins"]
        ]
        if not left:
            return ""
        return f"; the {left[-1].about[1]} front left the address {short(self.second - left[-1].at_s)} ago"

    def _front_lost_s(self, front: int) -> float | None:
        for at_s, fault in self._faults:
            if truth_under(self.network, [fault]).front_dead[front]:
                return at_s
        return None

    # Targets

    def why_down(self, pair: int) -> str:
        """Which fault makes a target silent or refusing, and since when."""
        if self._effects is None:
            self._effects = []
            for at_s, fault in self._faults:
                met = encounter(self._paths, truth_under(self.network, [fault])).met
                pairs = frozenset(int(one) for one in (met != ANSWERS).nonzero()[0])
                self._effects.append((at_s, fault, pairs))
        found = [f"{fault.words} is lost since {clock(at_s)}" for at_s, fault, pairs in self._effects if pair in pairs]
        return " and ".join(found) or "it does not answer"

    def why_out(self, pair: int) -> str:
        """Why a front believes a target out."""
        row = self._last_row(pair, "down")
        probe = self.network.groups.probe[int(self.network.pairs.group[pair])]
        if row is None or row.believed_at_s is None or probe is None:
            return "its probe finds it failing, so it is out"
        failed = probe.unhealthy_after
        back = self._open_row(pair, "up")
        coming = f" · back at the latest in {short(self._latest_s(back))}" if back else ""
        return f"{failed} probe{'s' if failed > 1 else ''} failed: out since {clock(row.believed_at_s)}{coming}"

    def when_noticed(self, pair: int, *, wrong: bool) -> str | None:
        """By when a wrong belief must have turned."""
        row = self._open_row(pair, "down") if wrong else None
        if row is None:
            return None
        left = self._latest_s(row)
        due = row.believed_at_s - self.second if row.believed_at_s is not None else None
        return (
            f"out in {short(due)}, at the latest in {short(left)}"
            if due is not None
            else f"out at the latest in {short(left)}"
        )

    def _latest_s(self, row: BlindRow) -> float:
        """In how many seconds a belief must have turned."""
        return row.true_at_s + (row.bounds.latest_s if row.bounds else np.inf) - self.second

    def not_noticed(self, pair: int) -> str:
        """That a front has not noticed yet that a target is down."""
        if not self.flow.state.in_use[pair]:
            return ""
        front = int(self.network.pairs.front[pair])
        member = self.network.pairs.member[pair]
        if self.network.groups.probe[int(self.network.members.group[member])] is None:
            return ", and nobody probes it"
        return f", and {self.network.balancer_of(front)} has not noticed yet" if self.run else ""

    def _last_row(self, pair: int, change: str) -> BlindRow | None:
        """The last change of belief about a pair up to now."""
        past = [
            row
            for row in self._rows(pair, change)
            if row.believed_at_s is not None and row.believed_at_s <= self.second
        ]
        return past[-1] if past else None

    def _rows(self, pair: int, change: str) -> list[BlindRow]:
        rows = self.run.blind if self.run else ()
        return [row for row in rows if row.pair == pair and row.change == change and not row.unseen]

    def _open_row(self, pair: int, change: str) -> BlindRow | None:
        """The wrong belief about a pair that stands now."""
        return next((row for row in self._rows(pair, change) if row.true_at_s <= self.second < row.ended_at_s), None)


def _faults_until(run: DrillRun | Story | None, second: float) -> list[tuple[float, Part]]:
    """The faults in force at a second, with when each came."""
    standing: list[tuple[float, Part]] = []
    for step in sorted(run.drill.steps, key=lambda one: one.at_s) if run else ():
        if step.at_s > second:
            break
        if step.fail:
            standing.append((step.at_s, step.fail))
        elif step.restore:
            standing.remove(next(one for one in standing if one[1] == step.restore))
    return standing
