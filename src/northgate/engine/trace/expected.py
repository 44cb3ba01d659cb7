"""Every way that traced requests can take, with its share: what many of them are expected to get.

The same stages as in `walking`, which takes one way of each by turns; here all are taken, each with its share. What
becomes of attempts at several addresses, of targets tried in turn and of repeats is the solver's own arithmetic
(`tries`, `others`).
"""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from northgate.engine.base import Bools, Floats, Ints
from northgate.engine.formulas import (
    Keys,
    LastStops,
    address_keys,
    attempts,
    connects,
    last_stops,
    last_stops_in_order,
    ranking,
    too_late,
)
from northgate.engine.matching import Request, redirected
from northgate.engine.network import Leaf
from northgate.engine.trace.answer import Outcome
from northgate.engine.trace.question import Sender
from northgate.engine.trace.walk import MOST_BALANCERS, MOST_REDIRECTS, Ends, Tracer, Trail, Unconnected
from northgate.engine.truth import ANSWERS, BARRED, REFUSES

# What came back: the target that answered or failed to, the error, the cause.
Label = tuple[str, str | None, str | None]


# Where a request ends, with shares: at what came back, or at another request to which it is redirected.
Ways = dict[Label | Request, float]


# The targets to which a source is held: per cell the order in which its key falls (positions), per group its session.
LATE: Label = ("timed_out", "timed_out", "timed_out")


# Sessions are followed by class in so many ways at most; beyond, a repeat's session is drawn anew.
MOST_CLASSES = 20_000


@dataclass(frozen=True)
class Holds:
    """What holds a class of sources: per cell the order in which its key falls (positions of targets, -1 past the
    last), and per group the member to which a session binds it (-1: none)."""

    orders: Mapping[int, Ints] = field(default_factory=dict)
    sessions: Mapping[int, int] = field(default_factory=dict)


@dataclass
class Met:
    """What becomes of connects: those that are taken, those that take their time-out, those that are turned away."""

    ends: Ways = field(default_factory=dict)
    quiet: Ways = field(default_factory=dict)
    away: Ways = field(default_factory=dict)

    def add(self, other: "Met", share: float) -> None:
        """Adds what becomes of this share of connects."""
        for mine, theirs in ((self.ends, other.ends), (self.quiet, other.quiet), (self.away, other.away)):
            _add(mine, theirs, share)

    def taken(self) -> "Met":
        """The same to a balancer, for which a failed connect is a failure like others."""
        made = Met()
        for some in (self.ends, self.quiet, self.away):
            _add(made.ends, some, 1.0)
        return made


@dataclass(frozen=True)
class Here:
    """Where a request is on its way: who asks, what holds it, what time has passed of its budget (s), by when balancers
    that it came through want an answer, and behind how many balancers it is."""

    sender: Sender
    holds: Holds
    spent_s: float = 0.0
    due_s: float = np.inf
    depth: int = 0
    source: int | None = None


class ExpectedWays:
    """Every way that the traced requests can take, with its share."""

    def __init__(self, tracer: Tracer) -> None:
        self.tracer, self.flow, self.network = tracer, tracer.flow, tracer.network
        self.question = tracer.question

    def shares(self) -> dict[Label, float]:
        """The share of each answer: target, error and cause if it fails."""
        made: dict[Label, float] = {}
        for part, sender, keys in self._senders():
            for share, holds in self._classes(sender, keys):
                for label, value in self._call(self.tracer.request, sender, holds, 0).items():
                    made[label] = made.get(label, 0.0) + part * share * value
        return {label: share for label, share in made.items() if share > 0}

    # Who asks

    def _senders(self) -> Iterator[tuple[float, Sender, Keys]]:
        """Who asks, with their shares, and the keys of their addresses: from every area, from every segment."""
        first, asking = self.tracer.asking.sender(0), self.tracer.asking
        areas = range(len(self.tracer.plan.areas)) if self.question.vary == "area" else [first.area]
        for area in areas:
            sender, part = replace(first, area=area), 1 / len(areas)
            if self.question.vary != "source":
                yield part, sender, address_keys([sender.span[1]])
            elif self.tracer.client is None or self.question.source:
                spans = [asking.sender(number).span[1] for number in range(max(self.question.times, 1))]
                yield part, sender, address_keys(spans)
            else:
                for segment in self.network.segments:
                    if segment.client == self.tracer.client and segment.span:
                        yield part * segment.share, replace(sender, span=segment.span), segment.keys

    def _classes(self, sender: Sender, keys: Keys) -> list[tuple[float, Holds]]:
        """The classes of sources that are held alike, with their shares."""
        found = self._by_key(keys)
        if not sender.retries and not (sender.tries_next and 4 in self.network.fronts.layer):
            return found
        for group, masses in self._session_groups():
            members = np.flatnonzero(masses > 0)
            if len(found) * (len(members) + 1) > MOST_CLASSES:
                return found
            bound = [(float(masses[one]), int(one)) for one in members] + [(max(1 - float(masses.sum()), 0.0), -1)]
            found = [
                (share * mass, replace(holds, sessions={**holds.sessions, group: member}))
                for share, holds in found
                for mass, member in bound
                if mass > 0
            ]
        return found

    def _by_key(self, keys: Keys) -> list[tuple[float, Holds]]:
        network, weight = self.network, self.flow.choice.pair_weight
        cells = [cell for cell, method in enumerate(network.cells.method) if method == "source-hash"]
        cells = [cell for cell in cells if (weight[network.cells.pairs[cell]] > 0).any()]
        if not cells or not len(keys):
            return [(1.0, Holds())]
        orders = []
        for cell in cells:
            mine = network.cells.pairs[cell]
            orders.append(
                ranking(keys, network.members.keys[network.pairs.member[mine]], weight[mine], self._tries(cell) + 2)
            )
        ends = np.cumsum([one.shape[1] for one in orders])[:-1]
        rows, counts = np.unique(np.concatenate(orders, axis=1), axis=0, return_counts=True)
        return [
            (count / len(keys), Holds(dict(zip(cells, np.split(row, ends), strict=True))))
            for row, count in zip(rows, counts, strict=True)
        ]

    def _session_groups(self) -> Iterator[tuple[int, Floats]]:
        """The groups whose sessions the client group's sources hold, with the share bound to each member."""
        state, network = self.flow.state, self.network
        for number, kind in enumerate(network.kept.sessions):
            if (
                kind.client == self.tracer.client
                and self.tracer.sessions(int(kind.cells[0])) is not None
                and state.held
            ):
                yield int(network.cells.group[kind.cells[0]]), state.held.sessions[number]

    def _tries(self, cell: int) -> int:
        network = self.network
        at_7 = network.fronts.layer[network.cells.front[cell]] == 7
        return self.tracer.plan.target_groups[int(network.cells.group[cell])].try_others if at_7 else 0

    # Calls

    def _call(self, request: Request, sender: Sender, holds: Holds, redirects: int) -> dict[Label, float]:
        """Where a call ends, with its repeats and redirects."""
        made: dict[Label, float] = {}
        for part, leaves in self._sets(request, sender):
            once = self._attempt(leaves, request, sender, holds)
            fails = sum(share for end, share in once.items() if _failed(end))
            often = float(attempts(np.array([fails]), np.array([float(sender.retries)]))[0])
            for end, share in once.items():
                weight = part * share * (fails**sender.retries if _failed(end) else often)
                if not isinstance(end, Request):
                    made[end] = made.get(end, 0.0) + weight
                elif redirects < MOST_REDIRECTS:
                    for label, value in self._call(end, sender, holds, redirects + 1).items():
                        made[label] = made.get(label, 0.0) + weight * value
        return made

    def _sets(self, request: Request, sender: Sender) -> list[tuple[float, tuple[Leaf, ...]]]:
        """The sets of addresses by which senders go, with their shares."""
        tracer = self.tracer
        name = self.network.names.index(request.host)
        if name is None:
            return [(1.0, (self.network.names.leaf_of_address(request.host),))]
        held, point = tracer.held(name, sender), ("name", name, sender.area)
        if self.question.vary == "kept" and point in tracer.stuck:
            return [(1.0, held[int(tracer.stuck[point])][1])]
        whole = sum(share for share, _ in held)
        return [(share / whole, leaves) for share, leaves in held]

    def _attempt(self, leaves: tuple[Leaf, ...], request: Request, sender: Sender, holds: Holds) -> Ways:
        """Where one attempt ends that may go from address to address."""
        kept = self.tracer.stuck.get(("address", request.host, sender.area))
        if self.question.vary == "kept" and kept in leaves:
            return self._at(kept, request, Here(sender, holds)).taken().ends
        first = [self._at(leaf, request, Here(sender, holds)) for leaf in leaves]
        quiet, away = (np.array([[sum(some.values()) for some in part]]) for part in _parts(first))
        goes_on = np.array([float(sender.tries_next)])
        found = connects(away, quiet, np.array([float(sender.most_waits)]), goes_on)
        made: Ways = {}
        for place, leaf in enumerate(leaves):
            for waits in range(found.tried.shape[2]):
                tried, last = float(found.tried[0, place, waits]), float(found.last[0, place, waits])
                if tried <= 0 and last <= 0:
                    continue
                spent_s = waits * sender.connect_timeout_s
                met = first[place] if not waits else self._at(leaf, request, Here(sender, holds, spent_s))
                _add(made, met.ends, tried)
                _add(made, met.away, last)
                _add(made, met.quiet, tried if sender.tries_next and waits + 1 >= sender.most_waits else last)
        return made

    # Balancers

    def _at(self, leaf: Leaf, request: Request, here: Here) -> Met:
        """What becomes of connects to an address."""
        if leaf.balancer < 0:
            return Met({(request.host, None, None): 1.0})
        if here.depth >= MOST_BALANCERS:
            return Met({("too_many_balancers", "too_many_balancers", None): 1.0})
        fronts = np.flatnonzero(self.network.fronts.balancer == leaf.balancer)
        parts = self.tracer.front_shares(leaf, fronts, here.sender.area)
        kept = self.tracer.stuck.get(("front", leaf.balancer))
        if self.question.vary == "kept" and kept is not None and parts[kept]:
            parts = (np.arange(len(fronts)) == kept).astype(np.float64)
        if not parts.any():
            return Met(quiet={("timed_out", "timed_out", "dead_front"): 1.0})
        made = Met()
        for front, part in zip(fronts, parts, strict=True):
            if part > 0:
                made.add(self._at_front(int(front), leaf.balancer, request, here), float(part))
        return made

    def _at_front(self, front: int, balancer: int, request: Request, here: Here) -> Met:
        tracer, trail, sender = self.tracer, Trail(quiet=True), here.sender
        if self.flow.state.truth.front_dead[front]:
            return Met(quiet={("timed_out", "timed_out", "dead_front"): 1.0})
        try:
            tracer.let_in(front, request, sender, trail, here.source)
            listener = tracer.listener(balancer, request, trail)
            action = tracer.rule(balancer, listener, request, sender if here.source is None else None, trail)
            if action.respond:
                tracer.responds(balancer, front, action.respond.status, trail)
        except Unconnected as end:
            some: Ways = {answer_key(end.outcome): 1.0}
            return Met(quiet=some) if end.quiet else Met(away=some)
        except Ends as end:
            return self._through(front, Met({answer_key(end.outcome): 1.0}))
        if action.redirect:
            # Behind another balancer nobody follows it: it is the answer.
            named: Label = (tracer.plan.balancers[balancer].name, None, None)
            on = redirected(request, action.redirect)
            return self._through(front, Met({named if here.source is not None else on: 1.0}))
        trip_s = tracer.trip_s(front, sender.area) if here.source is None else 0.0
        met = self._to_pool(front, action.pool or "", request, replace(here, spent_s=here.spent_s + trip_s))
        return self._through(front, met)

    def _through(self, front: int, met: Met) -> Met:
        """What is left of answers that the balancer's bandwidth lets through."""
        excess = float(self.flow.front_excess[front])
        if excess <= 0:
            return met
        lost: Label = (self.network.balancer_of(front), "overloaded", "overloaded")
        made = Met(quiet=met.quiet, away=met.away)
        for end, share in met.ends.items():
            well = not _failed(end)
            made.ends[end] = made.ends.get(end, 0.0) + share * (1 - excess if well else 1.0)
            made.ends[lost] = made.ends.get(lost, 0.0) + (share * excess if well else 0.0)
        return made

    def _to_pool(self, front: int, pool: str, request: Request, here: Here) -> Met:
        network, choice = self.network, self.flow.choice
        place = [one.name for one in self.tracer.plan.pools].index(pool)
        route = int(np.flatnonzero((network.routes.front == front) & (network.routes.pool == place))[0])
        made, refused = Met(), float(choice.route_refused[route])
        if refused > 0:
            if network.fronts.layer[front] == 7:
                made.ends["none_healthy", "none_healthy", "none_healthy"] = refused
            else:
                made.away["reset", "reset", "none_healthy"] = refused
        for weighted in np.flatnonzero((network.weighted.route == route) & (choice.weighted_share > 0)):
            made.add(
                self._to_cell(int(network.weighted.cell[weighted]), front, request, here),
                float(choice.weighted_share[weighted]),
            )
        return made

    # Targets

    def _to_cell(self, cell: int, front: int, request: Request, here: Here) -> Met:
        """What becomes of requests that come to a group: at the targets to which they are sent, or to which they go
        on."""
        network, mine = self.network, self.network.cells.pairs[cell]
        first, drawn = self._cell_shares(cell, front, request, here)
        bad, silent = self._bad(mine, here.sender)
        tries, order = self._tries(cell), here.holds.orders.get(cell)
        if tries and order is not None and (first == 1).any():
            begins = int(first.argmax())
            mine_first = np.concatenate([[begins], order[order != begins]])[: tries + 1]
            stops = last_stops_in_order(mine_first[None, :], bad, silent)
        elif tries:
            stops = last_stops(first, drawn, bad, silent, tries)
        else:
            stops = LastStops(first, np.where(bad, 0.0, first)[None, :])
        made = Met()
        for at in np.flatnonzero(stops.share):
            pair = int(mine[at])
            if bad[at]:
                made.add(self._bad_end(pair, front, here), float(stops.share[at]))
                continue
            for silent_ones in np.flatnonzero(stops.waited[:, at]):
                wait_s = int(silent_ones) * float(network.pairs.connect_timeout_s[pair])
                there = self._to_pair(pair, front, request, here, wait_s)
                made.add(there, float(stops.waited[silent_ones, at]))
        return made

    def _cell_shares(self, cell: int, front: int, request: Request, here: Here) -> tuple[Floats, Floats]:
        """The shares of a cell's pairs by which requests are first sent, and by which others are drawn."""
        tracer, network = self.tracer, self.network
        mine, group = network.cells.pairs[cell], int(network.cells.group[cell])
        order = here.holds.orders.get(cell)
        if order is not None:
            drawn = (np.arange(len(mine)) == order[0]).astype(np.float64)
        elif network.cells.method[cell] == "flow-hash" and self.question.vary != "kept":
            drawn = self.flow.pair_share[0][mine]
        else:
            drawn = tracer.pair_shares(cell, front, request, here.sender)[0]
        stuck = tracer.stuck.get(("target", cell), -1)
        if tracer.sticks(group, front) and stuck >= 0 and self.flow.state.in_use[mine[stuck]]:
            return (np.arange(len(mine)) == stuck).astype(np.float64), drawn
        if group in here.holds.sessions:
            bound = (network.pairs.member[mine] == here.holds.sessions[group]) & self.flow.state.in_use[mine]
            return (bound.astype(np.float64) if bound.any() else drawn), drawn
        return tracer.with_sessions(cell, drawn), drawn

    def _bad(self, mine: Ints, sender: Sender) -> tuple[Bools, Bools]:
        """Which of some pairs take no connect, and which of those say nothing."""
        met = np.array([self.tracer.met(int(pair), sender) for pair in mine])
        onward = self.network.members.leads_on[self.network.pairs.member[mine]]
        return (met != ANSWERS) & ~onward, met != REFUSES

    def _bad_end(self, pair: int, front: int, here: Here) -> Met:
        """What comes of a target that takes no connect."""
        name = self.network.machines.names[int(self.network.pairs.machine[pair])]
        met = self.tracer.met(pair, here.sender)
        if self.network.fronts.layer[front] == 7:
            words = {REFUSES: ("refused", "refused"), BARRED: ("blocked", "blocked")}
            return Met({(name, *words.get(met, ("timed_out", "timed_out"))): 1.0})
        if met == REFUSES:
            return Met(away={(name, "reset", "refused"): 1.0})
        cause = "blocked" if met == BARRED else "timed_out"
        return Met(quiet={(name, "timed_out", cause): 1.0})

    def _to_pair(self, pair: int, front: int, request: Request, here: Here, wait_s: float) -> Met:
        tracer, network = self.tracer, self.network
        layer, machine = int(network.fronts.layer[front]), int(network.pairs.machine[pair])
        if network.members.leads_on[int(network.pairs.member[pair])]:
            met = self._leads_on(pair, front, request, replace(here, spent_s=here.spent_s + wait_s))
            return met.taken() if layer == 7 else met
        name, queue = network.machines.names[machine], self.flow.queue
        excess = float(queue.excess[machine])
        spent_s = here.spent_s + wait_s
        bound_s = min(
            float(network.pairs.response_timeout_s[pair]), here.sender.timeout_s - spent_s, here.due_s - spent_s
        )
        late = bool(too_late(queue.latency_s[machine], queue.slope[machine], np.array(bound_s)))
        status = tracer.status(pair, request)
        end: Label = (name, None, None)
        if late:
            end = (name, "timed_out", "timed_out")
        elif status is not None and status >= 400:
            end = (name, f"status {status}", "bad_status")
        full: Label = (name, "overloaded" if layer == 7 else "reset", "overloaded")
        return Met({end: 1 - excess, **({full: excess} if excess > 0 else {})})

    def _leads_on(self, pair: int, front: int, request: Request, here: Here) -> Met:
        """What becomes of requests at the balancer or name for which a target stands."""
        tracer, made = self.tracer, Met()
        sender, inner = tracer.inner_sender(pair, front, here.sender), tracer.inner_request(pair, front, request)
        due_s = min(here.due_s, here.spent_s + float(self.network.pairs.response_timeout_s[pair]))
        behind = replace(here, sender=sender, due_s=due_s, depth=here.depth + 1, source=front)
        onward = next(tracer.onward(int(self.network.pairs.member[pair])))
        if isinstance(onward, Leaf):
            return self._at(onward, inner, behind)
        for share, leaves in tracer.held(onward, sender):
            for leaf in leaves:
                made.add(self._at(leaf, inner, behind), share / len(leaves))
        return made


def _parts(some: list[Met]) -> tuple[list[Ways], list[Ways]]:
    return [one.quiet for one in some], [one.away for one in some]


def _add(made: Ways, more: Ways, share: float) -> None:
    for end, value in more.items() if share > 0 else ():
        made[end] = made.get(end, 0.0) + share * value


def _failed(end: Label | Request) -> bool:
    """Whether that is a failure, after which a client repeats its call."""
    return not isinstance(end, Request) and (end[1] is not None or end[2] is not None)


def answer_key(end: Outcome) -> Label:
    """What came back: the target that answered, or failed to; the error, as which a status of 400 or more counts; and
    the cause."""
    error = end.error or (f"status {end.status}" if end.cause else None)
    return end.target or end.error or str(end.status), error, end.cause
