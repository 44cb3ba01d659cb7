"""How a trace picks: by turns, and what it remembers of them."""

from collections.abc import Hashable, Sequence
from typing import TypeVar

import numpy as np
from msgspec import Struct, field
from msgspec.structs import replace

from northgate.engine.base import Floats
from northgate.engine.formulas import SmoothRoundRobin
from northgate.engine.matching import Request
from northgate.engine.trace.answer import Hop
from northgate.engine.trace.stages.target import TargetStage
from northgate.engine.trace.stages.way import Context, End, Here, Way, shares_of

Next = TypeVar("Next")


class Trail(Struct):
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


class Turns:
    """Picks one of the ways of a stage, by turns."""

    def __init__(self, context: Context) -> None:
        self.context, self._turns = context, SmoothRoundRobin()
        # How the attempts, connects and targets before have failed in the call that is on its way.
        self._failures: list[tuple[str | None, ...]] = []

    def new_call(self) -> None:
        """Nothing has failed yet in the call that is on its way."""
        self._failures.clear()

    def note_failure(self, end: End) -> None:
        """An attempt, connect or target has failed."""
        self._failures.append((end.target, end.cause, end.zone))

    def turn(self, point: tuple[Hashable, ...], shares: Floats, start: int = 0) -> int:
        """Whose turn it is at a point of choice. What has failed before in the same call makes it another point: an
        attempt does not depend on which turn the one before it took."""
        return self._turns.next((*point, *self._failures), shares, start, anywhere=bool(self._failures))

    def pick(self, point: tuple[Hashable, ...], ways: Sequence[Way[Next]], trail: Trail) -> Next:
        """Takes one of the ways, by turns; raises Ended where it ends."""
        way = ways[self.turn(point, shares_of(ways)) if len(ways) > 1 else 0]
        trail.latency_s += way.takes_s
        if not trail.quiet:
            trail.hops += way.hops()
        if way.end:
            raise Ended(way.end)
        return way.next  # type: ignore[return-value]

    def keep(self, chosen: object, *point: object) -> None:
        """Remembers what has been chosen at a point."""
        self.context.kept[point] = chosen


class Choosing:
    """Chooses among the targets of a cell."""

    def __init__(self, context: Context, targets: TargetStage, turns: Turns) -> None:
        self.network, self.flow, self.targets, self.turns = context.network, context.flow, targets, turns
        self.cells_met: list[int] = []

    def first(self, cell: int, request: Request, here: Here, trail: Trail) -> int:
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
                chosen = self.turns.turn(("target", cell, why if "hash" in why else ""), drawn, self._start(cell))
        pair = int(mine[chosen])
        # A session is with the group, whichever front the next request comes through.
        self.turns.keep(int(self.network.pairs.member[pair]), "target", int(self.network.cells.group[cell]))
        self.say(pair, shares, why, here, trail)
        return pair

    def say(self, pair: int, shares: Floats, why: str, here: Here, trail: Trail) -> None:
        """Says of one request that is shown which pair has been chosen."""
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
            place = self.turns.turn(("session", group, cell), every / every.sum())
            trail.sessions[group] = int(network.pairs.member[mine[place]]) if place < len(mine) else -1
        found = np.flatnonzero(network.pairs.member[mine] == trail.sessions[group])
        return int(found[0]) if len(found) and self.flow.state.in_use[mine[found[0]]] else None
