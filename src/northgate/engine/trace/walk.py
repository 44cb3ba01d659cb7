"""One request on its way: at every stage one of the ways is picked, by turns.

A trace reads the shares that the solver found; it computes none of its own, except where a hash decides for one source.
"""

from collections.abc import Sequence

import numpy as np

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
from northgate.engine.trace.stages.way import Context, End, Here, address_point
from northgate.engine.trace.turns import Choosing, Ended, Trail, Turns
from northgate.plan.models.balancers import Action

MOST_REDIRECTS = 10


class Walker:
    """Sends requests one after the other, and remembers whose turn it is."""

    def __init__(self, context: Context) -> None:
        self.context, self.flow, self.network, self.plan = context, context.flow, context.network, context.plan
        self.names, self.fronts, self.entrance = NameStage(context), FrontStage(context), Entrance(context)
        self.pools, self.targets = PoolStage(context), TargetStage(context)
        self.services = ServiceStage(context, self.targets)
        self.turns = Turns(context)
        self.choosing = Choosing(context, self.targets, self.turns)

    # One request

    def send(self, number: int) -> tuple[Outcome, list[Hop]]:
        """One request to its end; only the one that is to be shown says its way."""
        question = self.context.question
        shown = min(question.show, question.times - 1)
        trail, sender, request = Trail(quiet=number != shown), self.context.asking.sender(number), self.context.request
        self.context.same_connection = number % self.context.asking.per_connection > 0
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
        self.turns.new_call()
        number = 0
        while True:
            trail.began_s = trail.latency_s
            try:
                return self._attempt(leaves, request, sender, trail)
            except Ended as ended:
                if number == sender.retries or not ended.end.failed:
                    raise
                number += 1
                self.turns.note_failure(ended.end)
                because = f"{ended.end.reason}: the client repeats its call, {number} of {sender.retries} times"
                trail.note("repeat", "again", because, "a fresh budget")

    def _addresses(self, request: Request, sender: Sender, trail: Trail) -> Leaves:
        """The addresses by which a sender goes."""
        point = self.names.point(self.network.names.index(request.host), sender)
        leaves = self.turns.pick(point, self.names.ways(request, sender), trail)
        self.turns.keep(leaves, *point)
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
                self.turns.note_failure(ended.end)
                because = f"{ended.end.reason}: the client takes the next of {len(leaves)} addresses"
                trail.note("next", "next address", because)

    def _address(self, left: Sequence[Leaf], request: Request, sender: Sender) -> int:
        """Whose turn it is of the addresses that are left; whoever keeps his connection keeps its address."""
        point = address_point(request, sender)
        kept = self.context.kept_at(*point)
        if len(left) == 1 or kept in left:
            return left.index(kept) if kept in left else 0
        chosen = self.turns.turn((*point, tuple(left)), np.full(len(left), 1 / len(left)))
        self.turns.keep(left[chosen], *point)
        return chosen

    # Balancers

    def _at_balancer(self, leaf: Leaf, request: Request, here: Here, trail: Trail) -> Request:
        point = ("front", leaf.balancer, leaf.front, here.sender.area)
        front = self.turns.pick(point, self.fronts.ways(leaf, request, trail.at(here)), trail)
        self.turns.keep(front, "front", leaf.balancer)
        try:
            found = self._in_balancer(front, request, here, trail)
        except Ended as ended:
            ended.trip_s += self.fronts.trip_s(front, here)
            if not ended.end.failed:
                self.turns.pick(("bandwidth", front), self.fronts.through(front), trail)
            raise
        self.turns.pick(("bandwidth", front), self.fronts.through(front), trail)
        return found

    def _in_balancer(self, front: int, request: Request, here: Here, trail: Trail) -> Request:
        action = self.turns.pick((), [self.entrance.way(front, request, trail.at(here))], trail)
        if isinstance(action, Request):
            return action
        return self._to_target(front, action, request, here, trail)

    # Targets

    def _to_target(self, front: int, action: Action, request: Request, here: Here, trail: Trail) -> Request:
        pool = action.pool or ""
        route = self.turns.pick(("fail", self.pools.route(front, pool)), self.pools.ways(front, pool), trail)
        cell = self.turns.pick(("weighted", route), self.pools.groups(route), trail)
        group = self.plan.target_groups[int(self.network.cells.group[cell])]
        pair, met = self.choosing.first(cell, request, here, trail), list[int]()
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
                self.turns.note_failure(ended.end)
                pair = int(self.network.cells.pairs[cell][self.turns.turn(("others", cell, tuple(met)), others)])
                tries = f"{group.try_others} other{'s' if group.try_others > 1 else ''}"
                self.choosing.say(pair, others, f"{ended.end.reason}: {group.name} tries {tries} at most", here, trail)

    def _at_pair(self, pair: int, request: Request, here: Here, trail: Trail) -> Request:
        """At a target: its answer, or what stands behind it."""
        if self.services.leads_on(pair):
            return self._behind(pair, request, here, trail)
        machine = int(self.network.pairs.machine[pair])
        self.turns.pick(("full", machine), self.services.ways(pair, request, trail.at(here)), trail)
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
        fronts = self.network.fronts.own[self.network.cells.front]
        cells = [cell for cell in dict.fromkeys(self.choosing.cells_met) if not fronts[cell]]
        return explanations(self.flow, self.context.history, cells, area, self.context.request.host)
