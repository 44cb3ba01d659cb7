"""One request on its way: at every stage one of the ways is picked, by turns.

A trace reads the shares that the solver found; it computes none of its own, except where a hash decides for one source.
"""

from collections.abc import Hashable, Sequence
from dataclasses import dataclass, field, replace
from typing import TypeVar

import numpy as np

from northgate.engine.base import Floats
from northgate.engine.formulas import SmoothRoundRobin
from northgate.engine.matching import Request, url_of
from northgate.engine.network import Leaf
from northgate.engine.trace.answer import Explained, Hop, Outcome
from northgate.engine.trace.explanations import explanations
from northgate.engine.trace.question import Sender
from northgate.engine.trace.stages.entrance import Entrance
from northgate.engine.trace.stages.front import FrontStage
from northgate.engine.trace.stages.name import Leaves, NameStage
from northgate.engine.trace.stages.pool import PoolStage
from northgate.engine.trace.stages.service import ServiceStage
from northgate.engine.trace.stages.target import TargetStage
from northgate.engine.trace.stages.way import Context, End, Here, Way, address_point, shares_of
from northgate.plan.balancers import Action

MOST_REDIRECTS = 10
Next = TypeVar("Next")


@dataclass
class Trail:
    """A request on its way: its hops so far, and the time it took; when its present attempt began (s)."""

    hops: list[Hop] = field(default_factory=list)
    latency_s: float = 0.0
    quiet: bool = False
    began_s: float = 0.0
    # Per group the member to which the source's session binds it (-1: it has none), once that is known.
    sessions: dict[int, int] = field(default_factory=dict)

    def at(self, here: Here) -> Here:
        """Where it is now: so much of the budget of its attempt has passed."""
        return replace(here, spent_s=self.latency_s - self.began_s)

    def note(self, kind: str, about: str, because: str, detail: str = "") -> None:
        """Notes something that is no stage; one of many requests is only followed, without a word about its way."""
        if not self.quiet:
            self.hops.append(Hop(kind=kind, about=about, ok=True, because=because, detail=detail))


class Ended(Exception):
    """The request ends here; `trip_s` is what the way to the front had added to a failed connect, which a client who
    goes on to the next address has not spent."""

    def __init__(self, end: End) -> None:
        super().__init__(end.reason)
        self.end, self.trip_s = end, 0.0


class Walker:
    """Sends requests one after the other, and remembers whose turn it is."""

    def __init__(self, context: Context) -> None:
        self.context, self.flow, self.network, self.plan = context, context.flow, context.network, context.plan
        self.names, self.fronts, self.entrance = NameStage(context), FrontStage(context), Entrance(context)
        self.pools, self.targets = PoolStage(context), TargetStage(context)
        self.services = ServiceStage(context, self.targets)
        self.turns = SmoothRoundRobin()
        # How the attempts, connects and targets before have failed in the call that is on its way.
        self.failures: list[tuple[str | None, ...]] = []
        self.cells_met: list[int] = []

    def _turn(self, point: tuple[Hashable, ...], shares: Floats, start: int = 0) -> int:
        """Whose turn it is at a point of choice. What has failed before in the same call makes it another point: an
        attempt does not depend on which turn the one before it took."""
        return self.turns.next((*point, *self.failures), shares, start, anywhere=bool(self.failures))

    def _pick(self, point: tuple[Hashable, ...], ways: Sequence[Way[Next]], trail: Trail) -> Next:
        """Takes one of the ways, by turns; raises Ended where it ends."""
        way = ways[self._turn(point, shares_of(ways)) if len(ways) > 1 else 0]
        trail.latency_s += way.takes_s
        if not trail.quiet:
            trail.hops += way.hops()
        if way.end:
            raise Ended(way.end)
        return way.next  # type: ignore[return-value]

    def _keep(self, chosen: object, *point: object) -> None:
        self.context.kept[point] = chosen

    # One request

    def send(self, number: int) -> tuple[Outcome, list[Hop]]:
        """One request to its end; only the one that is to be shown says its way."""
        question = self.context.question
        shown = min(question.show, question.times - 1)
        trail, sender, request = Trail(quiet=number != shown), self.context.asking.sender(number), self.context.request
        end = self._followed(request, sender, trail)
        latency_ms = round(trail.latency_s * 1000, 6)
        outcome = Outcome(
            status=end.status, error=end.error, latency_ms=latency_ms, target=end.target, cause=end.cause,
            zone=end.zone, reason=end.reason,
        )  # fmt: skip
        return outcome, trail.hops

    def _followed(self, request: Request, sender: Sender, trail: Trail) -> End:
        """Where a request ends, redirects included."""
        seen: list[tuple[str, str, int, str]] = []
        for _ in range(MOST_REDIRECTS + 1):
            place = (request.scheme, request.host, request.port, request.path)
            if place in seen:
                return End(f"it is redirected back to {url_of(request)}", error="redirect_loop")
            seen.append(place)
            try:
                request = self._call(request, sender, trail)
            except Ended as ended:
                return ended.end
        return End(f"more than {MOST_REDIRECTS} redirects", error="too_many_redirects")

    def _call(self, request: Request, sender: Sender, trail: Trail) -> Request:
        """One call, with its repeats; returns where a redirect sends it."""
        leaves = self._addresses(request, sender, trail)
        trail.sessions = {}
        self.failures.clear()
        number = 0
        while True:
            trail.began_s = trail.latency_s
            try:
                return self._attempt(leaves, request, sender, trail)
            except Ended as ended:
                if number == sender.retries or not ended.end.failed:
                    raise
                number += 1
                self._note_failure(ended.end)
                because = f"{ended.end.reason}: the client repeats its call, {number} of {sender.retries} times"
                trail.note("repeat", "again", because, "a fresh budget")

    def _note_failure(self, end: End) -> None:
        self.failures.append((end.target, end.cause, end.zone))

    def _addresses(self, request: Request, sender: Sender, trail: Trail) -> Leaves:
        """The addresses by which a sender goes."""
        point = self.names.point(self.network.names.index(request.host), sender)
        leaves = self._pick(point, self.names.ways(request, sender), trail)
        self._keep(leaves, *point)
        return leaves

    def _attempt(self, leaves: Leaves, request: Request, sender: Sender, trail: Trail) -> Request:
        """One attempt: at one of the addresses, and at the next after a failed connect, if the client goes on to it."""
        left, waits = list(leaves), 0
        while True:
            leaf = left.pop(self._address(left, request, sender))
            try:
                return self._at_balancer(leaf, request, Here(sender), trail)
            except Ended as ended:
                waits += ended.end.connect == "quiet"
                failed = ended.end.connect in ("quiet", "away")
                if not failed or not sender.tries_next or not left or waits >= sender.most_waits:
                    raise
                trail.latency_s -= ended.trip_s
                self._note_failure(ended.end)
                because = f"{ended.end.reason}: the client takes the next of {len(leaves)} addresses"
                trail.note("next", "next address", because)

    def _address(self, left: Sequence[Leaf], request: Request, sender: Sender) -> int:
        """Whose turn it is of the addresses that are left; whoever keeps his connection keeps its address."""
        point = address_point(request, sender)
        kept = self.context.kept_at(*point)
        if len(left) == 1 or kept in left:
            return left.index(kept) if kept in left else 0
        chosen = self._turn((*point, tuple(left)), np.full(len(left), 1 / len(left)))
        self.context.kept.setdefault(point, left[chosen])
        return chosen

    # Balancers

    def _at_balancer(self, leaf: Leaf, request: Request, here: Here, trail: Trail) -> Request:
        point = ("front", leaf.balancer, leaf.front, here.sender.area)
        front = self._pick(point, self.fronts.ways(leaf, request, trail.at(here)), trail)
        self._keep(front, "front", leaf.balancer)
        try:
            found = self._in_balancer(front, request, here, trail)
        except Ended as ended:
            ended.trip_s += self.fronts.trip_s(front, here)
            if not ended.end.failed:
                self._pick(("bandwidth", front), self.fronts.through(front), trail)
            raise
        self._pick(("bandwidth", front), self.fronts.through(front), trail)
        return found

    def _in_balancer(self, front: int, request: Request, here: Here, trail: Trail) -> Request:
        action = self._pick((), [self.entrance.way(front, request, trail.at(here))], trail)
        if isinstance(action, Request):
            return action
        return self._to_target(front, action, request, here, trail)

    # Targets

    def _to_target(self, front: int, action: Action, request: Request, here: Here, trail: Trail) -> Request:
        pool = action.pool or ""
        route = self._pick(("fail", self.pools.route(front, pool)), self.pools.ways(front, pool), trail)
        cell = self._pick(("weighted", route), self.pools.groups(route), trail)
        group = self.plan.target_groups[int(self.network.cells.group[cell])]
        pair, met = self._target(cell, request, here, trail), list[int]()
        while True:
            met.append(pair)
            try:
                return self._at_pair(pair, request, here, trail)
            except Ended as ended:
                if ended.end.connect != "not taken" or len(met) > group.try_others:
                    raise
                others = self.targets.others(cell, request, trail.at(here), met)
                if not others.any():
                    raise
                self._note_failure(ended.end)
                pair = int(self.network.cells.pairs[cell][self._turn(("others", cell, tuple(met)), others)])
                tries = f"{group.try_others} other{'s' if group.try_others > 1 else ''}"
                self._say_target(pair, others, f"{ended.end.reason}: {group.name} tries {tries} at most", here, trail)

    def _target(self, cell: int, request: Request, here: Here, trail: Trail) -> int:
        """The pair that is chosen first."""
        mine = self.network.cells.pairs[cell]
        drawn, why = self.targets.drawn(cell, request, trail.at(here))
        shares, stays = self.targets.with_sessions(cell, drawn), self.targets.stays(cell)
        self.cells_met.append(cell)
        if stays:
            chosen, why = stays
        else:
            bound = self._bound_by_session(cell, trail)
            if bound is not None:
                chosen, why = bound, f"its session, as {shares[bound]:.3g} of all sources are bound to it or sent there"
            else:
                chosen = self._turn(("target", cell, why if "hash" in why else ""), drawn, self._start(cell))
        self._keep(chosen, "target", cell)
        pair = int(mine[chosen])
        self._say_target(pair, shares, why, here, trail)
        return pair

    def _say_target(self, pair: int, shares: Floats, why: str, here: Here, trail: Trail) -> None:
        if not trail.quiet:
            trail.hops += self.targets.hops(pair, shares, why, here.sender)()

    def _start(self, cell: int) -> int:
        """Where turns begin: the fronts of one balancer each take turns on their own, and start elsewhere."""
        front, balancer = int(self.network.cells.front[cell]), self.network.fronts.balancer
        siblings = np.flatnonzero(balancer == balancer[front])
        rank = int(np.flatnonzero(siblings == front)[0])
        return len(self.network.cells.pairs[cell]) * rank // len(siblings)

    def _bound_by_session(self, cell: int, trail: Trail) -> int | None:
        """The place in a cell to which the source's session binds it; None without one that counts here. Whose session
        it has is decided once a call, by turns."""
        network, mine = self.network, self.network.cells.pairs[cell]
        masses, group = self.targets.sessions(cell), int(network.cells.group[cell])
        if masses is None:
            return None
        if group not in trail.sessions:
            every = np.append(masses, max(1 - float(masses.sum()), 0.0))
            place = self._turn(("session", group, cell), every / every.sum())
            trail.sessions[group] = int(network.pairs.member[mine[place]]) if place < len(mine) else -1
        found = np.flatnonzero(network.pairs.member[mine] == trail.sessions[group])
        return int(found[0]) if len(found) and self.flow.state.in_use[mine[found[0]]] else None

    def _at_pair(self, pair: int, request: Request, here: Here, trail: Trail) -> Request:
        """At a target: its answer, or what stands behind it."""
        if self.services.leads_on(pair):
            return self._behind(pair, request, here, trail)
        machine = int(self.network.pairs.machine[pair])
        self._pick(("full", machine), self.services.ways(pair, request, trail.at(here)), trail)
        raise AssertionError("a service always ends a request")

    def _behind(self, pair: int, request: Request, here: Here, trail: Trail) -> Request:
        """At the balancer or name for which a target stands."""
        behind, leads = self.services.behind(pair, trail.at(here)), self.services.onward(pair)
        if isinstance(leads, Request):
            leaves = self._addresses(leads, behind.sender, trail)
            leads = leaves[self._address(leaves, leads, behind.sender)]
        try:
            return self._at_balancer(leads, self.services.inner_request(pair, request), behind, trail)
        except Ended as ended:
            ended.end = self.services.passed_back(pair, ended.end)
            raise

    # Many

    def explained(self) -> list[Explained]:
        """Answers to what puzzles people, for the cells that the traced requests met."""
        area = self.context.asking.sender(0).area
        cells = list(dict.fromkeys(self.cells_met))
        return explanations(self.flow, self.context.history, cells, area, self.context.request.host)
