"""What many requests are expected to get: at every stage all of the ways are summed, each with its share.

The stages are those that a trace walks (`stages`). What becomes of attempts at several addresses, of targets tried in
turn and of repeats is the solver's own arithmetic (`formulas.address_tries`, `formulas.failover`, `formulas.retries`).
"""

from collections.abc import Iterator, Sequence

import numpy as np
from msgspec import Struct, field
from msgspec.structs import replace

from northgate.engine.base import Floats
from northgate.engine.formulas import (
    METHODS,
    Keys,
    LastStops,
    address_keys,
    connects,
    last_stops,
    last_stops_in_order,
    ranking,
    repeated,
)
from northgate.engine.matching import Request
from northgate.engine.network import Leaf
from northgate.engine.trace.question import Sender
from northgate.engine.trace.stages.name import Leaves
from northgate.engine.trace.stages.way import End, Here, Holds, Label, Way, address_point
from northgate.engine.trace.walk import MOST_REDIRECTS, Walker
from northgate.engine.truth import REFUSES
from northgate.plan.models.balancers import Action

# Where a request ends, with shares: at what came back, or at another request to which it is redirected.
Ends = dict[Label | Request, float]
# Sessions are followed by class in so many ways at most; beyond, a repeat's session is drawn anew.
MOST_CLASSES = 20_000


class Met(Struct):
    """What becomes of connects: those that are taken, those that take their time-out, those that are turned away."""

    ends: Ends = field(default_factory=dict)
    quiet: Ends = field(default_factory=dict)
    away: Ends = field(default_factory=dict)

    @classmethod
    def at(cls, end: End) -> "Met":
        """What becomes of connects that all end alike."""
        some: Ends = {end.label: 1.0}
        return cls(quiet=some) if end.connect == "quiet" else cls(away=some) if end.connect == "away" else cls(some)

    def add(self, other: "Met", share: float) -> None:
        """Adds what becomes of this share of connects."""
        for mine, theirs in ((self.ends, other.ends), (self.quiet, other.quiet), (self.away, other.away)):
            _add(mine, theirs, share)

    def taken(self) -> "Met":
        """What a layer 7 balancer sees of it: to it a failed connect is a failure like others."""
        made = Met()
        for some in (self.ends, self.quiet, self.away):
            _add(made.ends, some, 1.0)
        return made


class Expectation:
    """Every way that the requests of a walker can take, with its share."""

    def __init__(self, walker: Walker) -> None:
        self.walker, self.context, self.network = walker, walker.context, walker.network
        self.targets, self.services = walker.targets, walker.services
        self.question = walker.context.question

    def shares(self) -> dict[Label, float]:
        """The share of each answer: target, error and cause if it fails."""
        made: dict[Label, float] = {}
        # Over several connections each goes its own way; over one all go the way of the first.
        self.context.same_connection = self.question.times <= self.context.asking.per_connection
        for part, sender, keys in self._senders():
            for share, holds in Classes(self.walker).of(sender, keys):
                for label, value in self._call(self.context.request, sender, holds, 0).items():
                    made[label] = made.get(label, 0.0) + part * share * value
        return {label: share for label, share in made.items() if share > 0}

    def _senders(self) -> Iterator[tuple[float, Sender, Keys]]:
        """Who asks, with their shares, and the keys of their addresses: from every area, from every segment."""
        asking = self.context.asking
        first = asking.sender(0)
        areas = range(len(self.context.plan.areas)) if self.question.vary == "area" else [first.area]
        for area in areas:
            sender, part = replace(first, area=area), 1 / len(areas)
            if self.question.vary != "source":
                yield part, sender, address_keys([sender.span[1]])
            elif self.context.client is None or self.question.source:
                spans = [asking.sender(number).span[1] for number in range(max(self.question.times, 1))]
                yield part, sender, address_keys(spans)
            else:
                for segment in self.network.segments:
                    if segment.client == self.context.client and segment.span:
                        yield part * segment.share, replace(sender, span=segment.span), segment.keys

    # Calls

    def _call(self, request: Request, sender: Sender, holds: Holds, redirects: int) -> dict[Label, float]:
        """Where a call ends, with its repeats and redirects."""
        made: dict[Label, float] = {}
        for way in self.walker.names.ways(request, sender):
            if way.end:
                made[way.end.label] = made.get(way.end.label, 0.0) + way.share
                continue
            once = self._attempt(way.next or (), request, sender, holds)
            fails = sum(share for end, share in once.items() if _failed(end))
            often = repeated(fails, sender.retries)[0]
            for end, share in once.items():
                weight = way.share * share * (fails**sender.retries if _failed(end) else often)
                if not isinstance(end, Request):
                    made[end] = made.get(end, 0.0) + weight
                elif redirects < MOST_REDIRECTS:
                    for label, value in self._call(end, sender, holds, redirects + 1).items():
                        made[label] = made.get(label, 0.0) + weight * value
        return made

    def _attempt(self, leaves: Leaves, request: Request, sender: Sender, holds: Holds) -> Ends:
        """Where one attempt ends that may go from address to address."""
        kept = self.context.kept_at(*address_point(request, sender))
        if kept in leaves:
            leaves = (leaves[leaves.index(kept)],)
        first = [self._at(leaf, request, Here(sender, holds)) for leaf in leaves]
        quiet, away = (np.array([[sum(some.values()) for some in part]]) for part in _parts(first))
        goes_on = np.array([float(sender.tries_next)])
        found = connects(away, quiet, np.array([float(sender.most_waits)]), goes_on)
        made: Ends = {}
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
        made = Met()
        for way in self.walker.fronts.ways(leaf, request, here):
            if way.end:
                made.add(Met.at(way.end), way.share)
            elif way.next is not None:
                there = replace(here, spent_s=here.spent_s + way.takes_s)
                made.add(self._through(way.next, self._at_front(way.next, request, there)), way.share)
        return made

    def _at_front(self, front: int, request: Request, here: Here) -> Met:
        way: Way[Action | Request] = self.walker.entrance.way(front, request, here)
        if way.end:
            return Met.at(way.end)
        if isinstance(way.next, Request):
            return Met({way.next: 1.0})
        made, pools = Met(), self.walker.pools
        for to_pool in pools.ways(front, way.next.pool or "" if way.next else ""):
            if to_pool.end:
                made.add(Met.at(to_pool.end), to_pool.share)
                continue
            for group in pools.groups(to_pool.next or 0):
                made.add(self._to_cell(group.next or 0, request, here), to_pool.share * group.share)
        return made

    def _through(self, front: int, met: Met) -> Met:
        """What is left of answers on their way back."""
        ways = self.walker.fronts.through(front)
        if len(ways) == 1:
            return met
        made = Met(quiet=met.quiet, away=met.away)
        for end, share in met.ends.items():
            for way in ways if not _failed(end) else [Way[None](1.0)]:
                to = way.end.label if way.end else end
                made.ends[to] = made.ends.get(to, 0.0) + share * way.share
        return made

    # Targets

    def _to_cell(self, cell: int, request: Request, here: Here) -> Met:
        """What becomes of requests that come to a group: at the targets to which they are sent, or to which they go
        on."""
        mine = self.network.cells.pairs[cell]
        stops, made = self._stops(cell, request, here), Met()
        for at in np.flatnonzero(stops.share):
            pair, waited = int(mine[at]), stops.waited[:, at]
            if not waited.any():
                # It takes no connect, and there is nobody else to try.
                made.add(self._to_pair(pair, request, here), float(stops.share[at]))
            for silent_ones in np.flatnonzero(waited):
                wait_s = int(silent_ones) * float(self.network.pairs.connect_timeout_s[pair])
                there = replace(here, spent_s=here.spent_s + wait_s)
                made.add(self._to_pair(pair, request, there), float(waited[silent_ones]))
        return made

    def _stops(self, cell: int, request: Request, here: Here) -> LastStops:
        """At which targets requests end, and after how many silent ones."""
        first, drawn = self._cell_shares(cell, request, here)
        bad, met = self.targets.bad(cell, here.sender)
        silent = met != REFUSES
        tries, order = self.targets.tries(cell), here.holds.orders.get(cell)
        if tries and order is not None and (first == 1).any():
            begins = int(first.argmax())
            mine_first = np.concatenate([[begins], order[order != begins]])[: tries + 1]
            return last_stops_in_order(mine_first[None, :], bad, silent)
        if tries:
            return last_stops(first, drawn, bad, silent, tries)
        return LastStops(first, np.where(bad, 0.0, first)[None, :])

    def _cell_shares(self, cell: int, request: Request, here: Here) -> tuple[Floats, Floats]:
        """The shares of a cell's pairs by which requests are first sent, and by which others are drawn."""
        network, mine, group = self.network, self.network.cells.pairs[cell], int(self.network.cells.group[cell])
        if METHODS[network.cells.method[cell]].by_flow and not self.context.keeps:
            drawn = self.context.flow.pair_share[0][mine]
        else:
            drawn, _ = self.targets.drawn(cell, request, here)
        stays = self.targets.stays(cell)
        if stays:
            return (np.arange(len(mine)) == stays[0]).astype(np.float64), drawn
        if group in here.holds.sessions:
            in_use = self.context.flow.state.in_use[mine]
            bound = (network.pairs.member[mine] == here.holds.sessions[group]) & in_use
            return (bound.astype(np.float64) if bound.any() else drawn), drawn
        return self.targets.with_sessions(cell, drawn), drawn

    def _to_pair(self, pair: int, request: Request, here: Here) -> Met:
        made = Met()
        if not self.services.leads_on(pair):
            for way in self.services.ways(pair, request, here):
                if way.end:
                    made.add(Met.at(way.end), way.share)
            return made
        inner, behind = self.services.inner_request(pair, request), self.services.behind(pair, here)
        leads = self.services.onward(pair)
        ways = [Way(1.0, (leads,))] if isinstance(leads, Leaf) else self.walker.names.ways(leads, behind.sender)
        for to in ways:
            for leaf in to.next or ():
                made.add(self._at(leaf, inner, behind), to.share / len(to.next or ()))
        return made.taken() if self.services.to_balancer(pair) else made


class Classes:
    """The classes of sources that are held alike, with their shares."""

    def __init__(self, walker: Walker) -> None:
        self.walker, self.network, self.flow = walker, walker.network, walker.flow

    def of(self, sender: Sender, keys: Keys) -> list[tuple[float, Holds]]:
        """The classes of sources with these keys."""
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
        cells = [cell for cell in network.cells.by_key if (weight[network.cells.pairs[cell]] > 0).any()]
        if not cells or not len(keys):
            return [(1.0, Holds())]
        orders = []
        for cell in cells:
            mine = network.cells.pairs[cell]
            names, tries = network.members.keys[network.pairs.member[mine]], self.walker.targets.tries(cell)
            orders.append(ranking(keys, names, weight[mine], tries + 2))
        ends = np.cumsum([one.shape[1] for one in orders])[:-1]
        rows, counts = np.unique(np.concatenate(orders, axis=1), axis=0, return_counts=True)
        return [
            (count / len(keys), Holds(dict(zip(cells, np.split(row, ends), strict=True))))
            for row, count in zip(rows, counts, strict=True)
        ]

    def _session_groups(self) -> Iterator[tuple[int, Floats]]:
        """The groups whose sessions the client group's sources hold, with the share bound to each member."""
        state = self.flow.state
        for number, kind in enumerate(self.network.kept.sessions):
            mine = kind.client == self.walker.context.client and not kind.by_key
            if mine and state.held and self.walker.targets.sessions(int(kind.cells[0])) is not None:
                yield kind.group, state.held.sessions[number]


def _parts(some: Sequence[Met]) -> tuple[list[Ends], list[Ends]]:
    return [one.quiet for one in some], [one.away for one in some]


def _add(made: Ends, more: Ends, share: float) -> None:
    for end, value in more.items() if share > 0 else ():
        made[end] = made.get(end, 0.0) + share * value


def _failed(end: Label | Request) -> bool:
    """Whether that is a failure, after which a client repeats its call."""
    return not isinstance(end, Request) and (end[1] is not None or end[2] is not None)
