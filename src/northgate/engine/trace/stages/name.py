"""The first stage: which addresses the sender goes by."""

from collections.abc import Sequence

import numpy as np
from msgspec.structs import replace

from northgate.engine.base import Bools, Floats
from northgate.engine.matching import Request, is_address, plain_host
from northgate.engine.network import NOWHERE, Leaf
from northgate.engine.trace.answer import Candidate, Hop
from northgate.engine.trace.history import told_now
from northgate.engine.trace.question import Sender
from northgate.engine.trace.stages.way import Context, End, Hops, Way
from northgate.plan.problems import did_you_mean, pointer

Leaves = tuple[Leaf, ...]
Held = Sequence[tuple[float, Leaves]]


class NameStage:
    """Which sets of addresses senders hold, each with the share of them who do."""

    def __init__(self, context: Context) -> None:
        self.context, self.flow, self.network, self.plan = context, context.flow, context.network, context.plan

    def ways(self, request: Request, sender: Sender) -> list[Way[Leaves]]:
        """The sets of addresses by which the sender may go: those of the answers that clients like him hold."""
        name = self.network.names.index(request.host)
        if name is None and is_address(request.host):
            return [Way(1.0, (self.network.names.leaf_of_address(request.host),))]
        if name is None:
            return [self._unknown(request.host)]
        held = self.held(name, sender)
        if not held:
            return [self._without_answer(request.host)]
        kept = self.context.kept_at(*self.point(name, sender))
        whole = sum(share for share, _ in held)
        return [
            self._way(share / whole if kept is None else 1.0, name, leaves, sender, held)
            for share, leaves in held
            if kept is None or leaves == kept
        ]

    def point(self, name: int | None, sender: Sender) -> tuple[object, ...]:
        """The point at which a sender chooses among the answers of a name."""
        return "name", name, sender.area

    def held(self, name: int, sender: Sender) -> Held:
        """The sets of addresses that clients like the sender hold now, with the share of them who do."""
        every = self.network.names.leaves[name]
        sets = self.context.history.held_sets(name, sender.area, sender.over_share, sender.over_s)
        return [(share, tuple(every[one] for one in places)) for places, share in sets.items() if places and share > 0]

    def _unknown(self, host: str) -> Way[Leaves]:
        known = [plain_host(entry.name) for entry in self.plan.names]
        because = f"no name of the plan answers for {host}{did_you_mean(host, known)}"
        hop = Hop(kind="name", about=host, ok=False, because=because, where="/names")
        return Way(1.0, end=End(because, error="no_such_name"), hops=lambda: [hop])

    def _way(self, share: float, name: int, leaves: Leaves, sender: Sender, held: Held) -> Way[Leaves]:
        if leaves[0].balancer == NOWHERE:
            return replace(self._without_answer(self.plan.names[name].name), share=share)
        return Way(share, leaves, hops=self._hops(name, leaves, sender, held))

    def _without_answer(self, host: str) -> Way[Leaves]:
        because = "it has no answer to give"
        hop = Hop(kind="name", about=host, ok=False, because=because, link=f"name:{host}")
        return Way(1.0, end=End(f"{host}: {because}", error="no_address", cause="blocked"), hops=lambda: [hop])

    # Words

    def _hops(self, name: int, leaves: Leaves, sender: Sender, held: Held) -> Hops:
        entry = self.plan.names[name]
        return lambda: [
            Hop(
                kind="name",
                about=entry.name,
                ok=True,
                because=self._why(name, leaves, sender.area),
                detail=" · ".join(dict.fromkeys(self._word(name, leaf.path[0][1]) for leaf in leaves)),
                candidates=self._candidates(name, leaves, sender.area, self._leaf_shares(name, held)),
                link=f"name:{entry.name}",
                where=pointer(("names", name)),
            )
        ]

    def _leaf_shares(self, name: int, held: Held) -> Floats:
        """The share of connects that set out for each leaf of a name."""
        every = self.network.names.leaves[name]
        made = np.zeros(len(every))
        for share, leaves in held:
            for leaf in leaves:
                made[every.index(leaf)] += share / len(leaves)
        return made

    def _word(self, name: int, answer: int) -> str:
        entry = self.plan.names[name]
        given = entry.answers[answer] if answer < len(entry.answers) else entry.when_none_healthy
        return (given.balancer or given.address or given.host or "") if given else ""

    def _candidates(self, name: int, chosen: Leaves, area: int, shares: Floats) -> list[Candidate]:
        entry, healthy = self.plan.names[name], self.flow.state.healthy[name]
        latency, every = self.network.names.latency_s(name, area), self.network.names.leaves[name]
        found = []
        for number, answer in enumerate(entry.answers):
            mine = [leaf.path[0] == (name, number) for leaf in every]
            share = float(shares[np.array(mine, dtype=bool)].sum())
            given = self._given(name)
            if share == 0 and not given[number]:
                continue
            trip = "" if not np.isfinite(latency[number]) else f"{latency[number] * 1000:g} ms away"
            why = None
            if share == 0:
                why = self._why_not(name, area, trip) if healthy[number] else "its probes believe it out"
            found.append(
                Candidate(
                    name=self._word(name, number), zone=trip or None, share=share, excluded=why,
                    chosen=any(leaf.path[0] == (name, number) for leaf in chosen),
                    belief="in use" if healthy[number] else "out",
                    note=f"for {', '.join(answer.areas)}" if answer.areas else None,
                )
            )  # fmt: skip
        return found

    def _why_not(self, name: int, area: int, trip: str) -> str:
        word = self.plan.areas[area].name if area >= 0 else "nowhere"
        return {
            "order": "stands by: an earlier answer is healthy",
            "nearest": f"further from {word}" + (f": {trip}" if trip else ""),
            "area": f"not meant for {word}",
            "share": "weight 0",
        }.get(self.plan.names[name].choose, "has no address now")

    def _why(self, name: int, leaves: Leaves, area: int) -> str:
        entry, healthy = self.plan.names[name], self.flow.state.healthy[name]
        number = leaves[0].path[0][1]
        word = self.plan.areas[area].name if area >= 0 else "a client of no area"
        watched = "" if entry.probe else "; nobody probes its answers"
        kept = f" · kept up to {entry.ttl_s:g} s"
        given = self._given(name)
        healthy, place = healthy & given, int(given[:number].sum())
        if not self._still_told(name, leaves, area):
            return f"an old answer: who asks now is told another, but this one may be kept up to {entry.ttl_s:g} s"
        if number >= len(entry.answers):
            return f"none of its answers is healthy, so its last resort answers{kept}"
        if not healthy.any():
            return f"none of its answers is healthy, so all are taken to be{kept}"
        words = {
            "order": f"{'first' if place == 0 else f'number {place + 1}'} in order and healthy",
            "nearest": f"nearest to {word}",
            "area": f"meant for {word}" if entry.answers[number].areas else f"no answer is meant for {word}",
            "share": f"one of {int(healthy.sum())} by weight",
            "all": f"one of {int(healthy.sum())}: clients pick among them",
        }
        return words[entry.choose] + watched + kept

    def _given(self, name: int) -> Bools:
        """Which answers are in a name's record now."""
        every = self.flow.state.given
        return np.ones(len(self.plan.names[name].answers), dtype=bool) if every is None else every[name]

    def _still_told(self, name: int, leaves: Leaves, area: int) -> bool:
        """Whether those who ask now are told these addresses."""
        every = self.network.names.leaves[name]
        return tuple(every.index(leaf) for leaf in leaves) in told_now(self.flow, name, area)
