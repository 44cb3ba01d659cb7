"""Every way that traced requests can take, with its share: what many of them are expected to get."""

from dataclasses import replace

import numpy as np

from northgate.engine.naming import Leaf
from northgate.engine.routing import Request
from northgate.engine.shares import hash_table
from northgate.engine.trace_words import redirected
from northgate.engine.tracing import Outcome
from northgate.engine.truth import ANSWERS, BLOCKED, REFUSES
from northgate.engine.types import Floats
from northgate.engine.walking import MOST_REDIRECTS, Ends, Tracer, Trail


class Ways:
    """Every way that the traced requests can take, with its share."""

    def __init__(self, tracer: Tracer) -> None:
        self.tracer, self.flow, self.network = tracer, tracer.flow, tracer.network
        self.found: dict[tuple[str, str | None], float] = {}
        self.sender = tracer.asking.sender(0)

    def shares(self) -> dict[tuple[str, str | None], float]:
        """The share of each answer: target, and error if it fails."""
        areas = range(len(self.tracer.plan.areas)) if self.tracer.question.vary == "area" else [self.sender.area]
        for area in areas:
            self.sender = replace(self.sender, area=area)
            self._by_host(self.tracer.request, 1 / len(areas), 0)
        return {key: share for key, share in self.found.items() if share > 0}

    def _add(self, answer: str, error: str | None, share: float) -> None:
        self.found[answer, error] = self.found.get((answer, error), 0.0) + share

    def _by_host(self, request: Request, share: float, depth: int) -> None:
        if depth > MOST_REDIRECTS:
            return
        name = self.network.names.index(request.host)
        for leaf, part in self._leaves(name, request):
            self._at(leaf, request, share * part, source=None, depth=depth)

    def _leaves(self, name: int | None, request: Request) -> list[tuple[Leaf, float]]:
        if name is None:
            return [(self.network.names.leaf_of_address(request.host), 1.0)]
        leaves = self.network.names.leaves[name]
        fixed = self.tracer.stuck.get(("name", self.sender.area))
        if fixed is not None and self.tracer.question.vary in ("connection", "kept") and fixed < len(leaves):
            return [(leaves[fixed], 1.0)]
        parts = self.tracer.leaf_shares(name, self.sender.area)
        return [(leaf, float(part)) for leaf, part in zip(leaves, parts, strict=True) if part > 0]

    def _at(self, leaf: Leaf, request: Request, share: float, *, source: int | None, depth: int) -> None:
        if leaf.balancer < 0:
            self._add(request.host, None, share)
            return
        fronts = np.flatnonzero(self.network.fronts.balancer == leaf.balancer)
        parts = self.tracer.front_shares(leaf, fronts, self.sender.area)
        if self.tracer.question.vary == "kept" and ("front", leaf.balancer) in self.tracer.stuck:
            parts = np.zeros(len(fronts))
            parts[self.tracer.stuck["front", leaf.balancer]] = 1.0
        for front, part in zip(fronts, parts, strict=True):
            if part > 0:
                self._at_front(int(front), leaf.balancer, request, share * float(part), source, depth)

    def _at_front(
        self, front: int, balancer: int, request: Request, share: float, source: int | None, depth: int
    ) -> None:
        tracer, trail = self.tracer, Trail(quiet=True)
        if self.flow.moment.truth.front_dead[front]:
            self._add("timed_out", "timed_out", share)
            return
        try:
            tracer.let_in(front, request, self.sender, trail, source)
            listener = tracer.listener(balancer, request, trail)
            action = tracer.rule(balancer, listener, request, self.sender if source is None else None, trail)
            if action.respond:
                tracer.responds(balancer, front, action.respond.status, trail)
        except Ends as end:
            self._add(*answer_key(end.outcome), share)
            return
        if action.redirect:
            self._by_host(redirected(request, action.redirect), share, depth + 1)
            return
        self._to_pool(front, action.pool or "", request, share, depth)

    def _to_pool(self, front: int, pool: str, request: Request, share: float, depth: int) -> None:
        network, choice = self.network, self.flow.choice
        routes = network.routes
        place = [one.name for one in self.tracer.plan.pools].index(pool)
        route = int(np.flatnonzero((routes.route_front == front) & (routes.route_pool == place))[0])
        layer = int(network.front_layer[front])
        if choice.route_refused[route] > 0:
            error = "none_healthy" if layer == 7 else "reset"
            self._add(error, error, share * float(choice.route_refused[route]))
        for lane in np.flatnonzero((routes.lane_route == route) & (choice.lane_share > 0)):
            self._to_cell(int(routes.lane_cell[lane]), front, request, share * float(choice.lane_share[lane]), depth)

    def _to_cell(self, cell: int, front: int, request: Request, share: float, depth: int) -> None:
        tracer, network = self.tracer, self.network
        mine = network.cell_pairs[cell]
        parts = self._cell_shares(cell, front, request)
        held = tracer.stuck.get(("target", cell), -1)
        if tracer.sticks(int(network.routes.cell_group[cell]), front) and held >= 0:
            parts = (np.arange(len(mine)) == held).astype(np.float64)
        for at in np.flatnonzero(parts):
            self._to_pair(int(mine[at]), front, request, share * float(parts[at]), depth)

    def _cell_shares(self, cell: int, front: int, request: Request) -> Floats:
        tracer, network = self.tracer, self.network
        method, mine = network.cell_method[cell], network.cell_pairs[cell]
        if method == "flow-hash" and tracer.question.vary != "kept":
            return self.flow.pair_share[0][mine]
        if method == "source-hash" and tracer.question.vary == "source" and tracer.client is not None:
            segments = [one for one in network.segments if one.client == tracer.client]
            weight = self.flow.choice.pair_weight[mine]
            table = hash_table(network)
            return np.asarray([one.share for one in segments] @ np.array(table.shares(cell, segments, weight)))
        return tracer.pair_shares(cell, front, request, self.sender)[0]

    def _to_pair(self, pair: int, front: int, request: Request, share: float, depth: int) -> None:
        tracer, network = self.tracer, self.network
        member = int(network.pairs.member[pair])
        layer = int(network.front_layer[front])
        if network.members.leads_on[member]:
            scheme = request.scheme
            if layer == 7:
                scheme = tracer.plan.target_groups[int(network.members.group[member])].protocol
            inner = replace(request, scheme=scheme, port=int(network.members.port[member]))
            onward = next(tracer.onward(member))
            for leaf, part in [(onward, 1.0)] if isinstance(onward, Leaf) else self._leaves(onward, inner):
                self._at(leaf, inner, share * part, source=front, depth=depth + 1)
            return
        name = network.machines.names[int(network.pairs.machine[pair])]
        met = tracer.met(pair, self.sender)
        if met != ANSWERS:
            words = {REFUSES: "refused", BLOCKED: "blocked"} if layer == 7 else {REFUSES: "reset"}
            self._add(name, words.get(met, "timed_out"), share)
            return
        excess = float(self.flow.queue.excess[int(network.pairs.machine[pair])])
        status = tracer.status(pair, request)
        late = float(self.flow.queue.latency_s[int(network.pairs.machine[pair])]) > min(
            float(network.pair_response_timeout_s[pair]), self.sender.timeout_s
        )
        error = "timed_out" if late else f"status {status}" if status is not None and status >= 400 else None
        self._add(name, error, share * (1 - excess))
        if excess > 0:
            self._add(name, "overloaded" if layer == 7 else "reset", share * excess)


def answer_key(end: Outcome) -> tuple[str, str | None]:
    """What came back: the target that answered, or failed to, and the error; a status of 400 or more is one."""
    error = end.error or (f"status {end.status}" if end.cause else None)
    return end.target or end.error or str(end.status), error
