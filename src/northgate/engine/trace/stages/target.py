"""In a group: which target gets the request, and which one comes after it."""

from collections.abc import Sequence

import numpy as np

from northgate.engine.base import Bools, Floats, Ints
from northgate.engine.formulas import METHODS, address_keys, flow_key, winners
from northgate.engine.matching import Check, Request, span_of
from northgate.engine.network import address_text
from northgate.engine.trace.answer import Candidate, Hop
from northgate.engine.trace.question import Sender
from northgate.engine.trace.stages.way import Context, Here, Hops
from northgate.engine.truth import ANSWERS, BARRED, truth_word
from northgate.plan.problems import pointer

# Of so many targets it is said how many do not answer.
MOST_LOOKED_AT = 2000


class TargetStage:
    """The shares of a cell's pairs, by which requests are sent and others are drawn. Arrays are per pair of the
    cell."""

    def __init__(self, context: Context) -> None:
        self.context, self.flow, self.network, self.plan = context, context.flow, context.network, context.plan
        self.question, self.paths = context.question, context.paths

    def tries(self, cell: int) -> int:
        """How many other targets a cell's balancer tries after a failed connect."""
        network = self.network
        at_7 = network.fronts.layer[network.cells.front[cell]] == 7
        return int(network.groups.try_others[network.cells.group[cell]]) if at_7 else 0

    def drawn(self, cell: int, request: Request, here: Here) -> tuple[Floats, str]:
        """The shares of a cell's pairs for one request without a session, and the reason in words."""
        network, choice, sender = self.network, self.flow.choice, here.sender
        mine = network.cells.pairs[cell]
        weight, method = choice.pair_weight[mine], METHODS[network.cells.method[cell]]
        order = here.holds.orders.get(cell)
        if order is not None:
            return (np.arange(len(mine)) == order[0]).astype(np.float64), ""
        if not (method.sticky_by_key or method.by_flow):
            return self.flow.pair_share[0][mine], f"{method.because} {self._among(cell)}"
        if method.sticky_by_key:
            key = int(address_keys([sender.span[1]])[0])
            words = f"hash of {address_text(sender.span[0], sender.span[1])} {self._among(cell)}"
        else:
            address = network.book.balancers[network.balancer_of(int(network.cells.front[cell]))][0]
            protocol = "udp" if request.scheme == "udp" else "tcp"
            key = flow_key(sender.span[1], sender.port, span_of(address)[1], request.port, protocol)
            words = f"hash of this connection (port {sender.port}) {self._among(cell)}"
        share, keys = np.zeros(len(mine)), network.members.keys[network.pairs.member[mine]]
        share[winners(np.array([key], dtype=np.uint64), keys, weight)[0]] = 1.0
        return share, words

    def _among(self, cell: int) -> str:
        count = int((self.flow.choice.pair_weight[self.network.cells.pairs[cell]] > 0).sum())
        anyway = " (none is believed in use, so all are sent to)" if self.flow.choice.cell_anyway[cell] else ""
        return f"over {count}{anyway or ' believed in use'}"

    def others(self, cell: int, request: Request, here: Here, met: Sequence[int]) -> Floats:
        """The shares when the pairs that were met have taken no connect: as drawn, or in a hash's order."""
        network, mine = self.network, self.network.cells.pairs[cell]
        left = ~np.isin(mine, met)
        if cell in network.cells.by_key:
            weight, made = np.where(left, self.flow.choice.pair_weight[mine], 0.0), np.zeros(len(mine))
            if weight.any():
                key, keys = address_keys([here.sender.span[1]]), network.members.keys[network.pairs.member[mine]]
                made[winners(key, keys, weight)[0]] = 1.0
            return made
        drawn = np.where(left, self.drawn(cell, request, here)[0], 0.0)
        return np.asarray(drawn / drawn.sum()) if drawn.sum() > 1e-12 else np.zeros(len(mine))

    # Sessions

    def sessions(self, cell: int) -> Floats | None:
        """The share of the client group's sources that a session binds to each pair of a cell; None where it sees
        none."""
        network, state, mine = self.network, self.flow.state, self.network.cells.pairs[cell]
        by = self.plan.target_groups[int(network.cells.group[cell])].affinity.by
        asks = by == "source" or (self.question.session == "kept" and self.question.vary == "source")
        if self.context.client is None or state.held is None or not asks:
            return None
        for number, kind in enumerate(network.kept.sessions):
            if kind.client == self.context.client and cell in kind.cells and not kind.by_key:
                return np.asarray(state.held.sessions[number][network.pairs.member[mine]] * state.in_use[mine])
        return None

    def with_sessions(self, cell: int, drawn: Floats) -> Floats:
        """The shares for a source of the client group that may hold a session, as the group's do now: sessions by
        source; cookies, where each is asked for with its own. `drawn` is where those without are sent."""
        held = self.sessions(cell)
        return drawn if held is None else np.asarray(held + max(1 - float(held.sum()), 0.0) * drawn)

    def stays(self, cell: int) -> tuple[int, str] | None:
        """The place in a cell at which the client stays who has been there before, and what keeps it; None where
        nothing does."""
        mine, why = self.network.cells.pairs[cell], self._sticks(cell)
        member = self.context.kept.get(("target", int(self.network.cells.group[cell])))
        if not why or not isinstance(member, int):
            return None
        found = np.flatnonzero(self.network.pairs.member[mine] == member)
        if not len(found) or not self.flow.state.in_use[mine[found[0]]]:
            return None
        held = int(found[0])
        label = self.paths.front(int(self.network.cells.front[cell])).label
        return held, f"{why} keeps it here while {label} believes it in use"

    def _sticks(self, cell: int) -> str | None:
        """What makes the next request of this client meet the same target."""
        by = self.plan.target_groups[int(self.network.cells.group[cell])].affinity.by
        layer = self.network.fronts.layer[self.network.cells.front[cell]]
        same_source = self.question.vary in ("connection", "kept")
        if by == "source" and same_source:
            return "its session by source"
        if by == "cookie" and layer == 7 and self.question.session == "kept" and same_source:
            return "its session cookie"
        return "its connection" if layer == 4 and self.context.keeps and self.context.same_connection else None

    # What they meet

    def met(self, pair: int, sender: Sender) -> int:
        """What a sender's request meets at a pair."""
        met = int(self.flow.state.encounter.met[pair])
        by_source = len(self.plan.firewalls) > 0 and self.paths.sees_client(int(self.network.pairs.front[pair]))
        if met == BARRED or not by_source:
            return met
        return met if all(check.ok for check in self.checks_to(pair, sender)) else BARRED

    def bad(self, cell: int, sender: Sender) -> tuple[Bools, Ints]:
        """Which pairs of a cell take no connect, and what each meets (as in `truth`)."""
        mine = self.network.cells.pairs[cell]
        met = np.array([self.met(int(pair), sender) for pair in mine], dtype=np.int64)
        onward = self.network.members.leads_on[self.network.pairs.member[mine]]
        return (met != ANSWERS) & ~onward, met

    def checks_to(self, pair: int, sender: Sender) -> list[Check]:
        """What stands between a pair's front and its target, for one sender."""
        seen = self.paths.end_of_source(sender.label, sender.span)
        return self.paths.to_machine_from(pair, seen, self.flow.state.truth.gone_rules)

    # Words

    def hops(self, pair: int, shares: Floats, why: str, sender: Sender) -> Hops:
        """What is to be said of the pair that is chosen."""

        def hops() -> Sequence[Hop]:
            network, cell = self.network, int(self.network.pairs.cell[pair])
            mine, place = network.cells.pairs[cell], int(network.cells.group[cell])
            name, group = network.machines.names[int(network.pairs.machine[pair])], self.plan.target_groups[place].name
            some = mine[shares > 0] if len(mine) < MOST_LOOKED_AT else mine[:0]
            bad = sum(self.met(int(one), sender) != ANSWERS for one in some)
            not_answering = f"; {bad} of them {'does' if bad == 1 else 'do'} not answer" if bad else ""
            return [
                Hop(
                    kind="target", about=name, ok=self.met(pair, sender) == ANSWERS, because=why + not_answering,
                    detail=network.zones[int(network.machines.zone[network.pairs.machine[pair]])],
                    candidates=self._candidates(cell, pair, shares, sender),
                    link=f"berth:{group}/{name}", where=pointer(("target_groups", place)),
                )
            ]  # fmt: skip

        return hops

    def _candidates(self, cell: int, chosen: int, shares: Floats, sender: Sender) -> list[Candidate]:
        """Every target of the group: in reach with its share, or why it has none."""
        network, group = self.network, int(self.network.cells.group[cell])
        mine = network.cells.pairs[cell]
        at_member = {int(network.pairs.member[pair]): at for at, pair in enumerate(mine)}
        here = self.flow.state.present(network.members.machine)
        return [
            self._candidate(int(mine[at]), chosen, float(shares[at]), sender)
            if (at := at_member.get(member)) is not None
            else self._out_of_reach(member)
            for member in np.flatnonzero((network.members.group == group) & here).tolist()
        ]

    def _out_of_reach(self, member: int) -> Candidate:
        network, machine = self.network, int(self.network.members.machine[member])
        reach = network.groups.reach[int(network.members.group[member])]
        return Candidate(
            name=network.machines.names[machine],
            zone=network.zones[int(network.machines.zone[machine])],
            excluded=f"out of reach: this front uses its {reach}’s",
        )

    def _candidate(self, pair: int, chosen: int, share: float, sender: Sender) -> Candidate:
        network, state, machine = self.network, self.flow.state, int(self.network.pairs.machine[pair])
        met, in_use = self.met(pair, sender), bool(state.in_use[pair])
        truth = "blocked" if met == BARRED else truth_word(met, float(state.truth.slowness[machine]))
        return Candidate(
            name=network.machines.names[machine], zone=network.zones[int(network.machines.zone[machine])],
            chosen=pair == chosen, share=share, truth=truth, belief="in use" if in_use else "out",
            excluded=None if share > 0 or pair == chosen else self._why_no_share(pair, in_use=in_use),
            note=self.context.history.when_noticed(pair, wrong=in_use != (met == ANSWERS)),
        )  # fmt: skip

    def _why_no_share(self, pair: int, *, in_use: bool) -> str:
        network = self.network
        if network.pairs.weight[pair] == 0:
            return "weight 0"
        if not in_use:
            return self.context.history.why_out(pair)
        if not self.flow.choice.pair_weight[pair]:
            return "another zone: this front keeps to its own"
        method = METHODS[network.cells.method[int(network.pairs.cell[pair])]]
        return "the hash falls to another" if method.sticky_by_key or method.by_flow else "busier than the others"
