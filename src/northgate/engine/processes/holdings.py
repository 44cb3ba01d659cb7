"""Sessions and layer 4 connections of a network: how their masses change, and what ends them at once."""

from collections.abc import Callable, Mapping, Sequence
from typing import Protocol

import numpy as np

from northgate.engine.base import NEVER, Bools, Floats, Ints, ints
from northgate.engine.formulas import Occupancy, Openings
from northgate.engine.network import Network, sources_told
from northgate.engine.processes.settling import unmoved
from northgate.engine.processes.world import World
from northgate.engine.solver import Flow, Held, Opened, Opens
from northgate.engine.truth import REFUSES


class Followed(Protocol):
    """Kinds of connections that are followed by themselves: what is held of them in so many seconds, and for how long
    that hardly changes."""

    def kinds(self) -> Ints:
        """Which these are."""

    def rows(self, seconds: float, opened: Opened) -> Mapping[int, Floats]:
        """What is held of each in so many seconds, pair by pair, while they are opened so."""

    def step_s(self) -> float:
        """For how long nothing of them changes much."""


class Holdings:
    """What is held now, how it changes, and what is taken away at once; `sessions_moved` and `connections_reset` count
    what has been."""

    def __init__(self, network: Network, held: Held | None = None) -> None:
        self.network = network
        self.held = held or Held(
            np.zeros((len(network.kept.sessions), len(network.members.group))),
            np.zeros((len(network.kept.connections), len(network.pairs.front))),
            np.zeros((len(network.kept.unbound), len(network.pairs.front))),
        )
        # The kinds of sessions that are none, but keys: nobody opens them.
        self._by_key = ints(number for number, kind in enumerate(network.kept.sessions) if kind.by_key)
        # How many sorts of what is held there are: sessions, and connections.
        self.sorts = bool(network.kept.sessions) + bool(network.kept.connections)
        self.sessions_moved, self.connections_reset = 0.0, 0.0
        self._made: tuple[Opens, Held, tuple[Occupancy, ...]] | None = None
        self._followed: Followed | None = None

    def follow(self, followed: Followed) -> None:
        """These are followed by themselves."""
        self._followed = followed

    def settle(self, flow: Flow, then: Callable[[], Flow]) -> Flow:
        """What stays as it is under the load that it makes itself; the flow with it. `then`: the flow with what is held
        by then."""
        if not self.sorts:
            return flow

        def under(held: Held) -> Held:
            """What would stay as it is under the load that this makes."""
            self.held = held
            return self._settled(then())

        self.held = unmoved(self._settled(flow), under)
        return then()

    def _settled(self, flow: Flow) -> Held:
        """What stays as it is while they are opened as under a flow."""
        sessions = Occupancy(self.held.sessions, flow.opened_by_free).settled(1 - flow.astray)
        _, connections, strays = self._masses(flow.opens)
        return _of_all(Held(sessions, connections.settled(), strays.settled()))

    def after(self, opens: Opens, seconds: float) -> Held:
        """What is held `seconds` later."""
        return self._with_rows(self._each(opens, lambda masses: masses.after(seconds)), (opens,) * 3, ((seconds, 1.0),))

    def mean(self, opens: Opens, seconds: float) -> Held:
        """What is held on the mean over the next `seconds`."""
        made = self._each(opens, lambda masses: masses.mean(seconds))
        return self._with_rows(made, (opens,) * 3, ((0.0, 1 / 6), (seconds / 2, 4 / 6), (seconds, 1 / 6)))

    def led_on(self, opened: Opened, seconds: float) -> tuple[Held, float]:
        """What is held in so many seconds, while they are opened so; and which share of a kind's sources, at most,
        would be held otherwise in two halves than in one go (see `Occupancy.led_on`)."""
        if not self.sorts:
            return self.held, 0.0
        first, *others = opened
        each = zip(self._masses(first), *(self._parts(one) for one in others), strict=True)
        held, off = zip(*(masses.led_on(half_way, then, seconds) for masses, half_way, then in each), strict=True)
        made = _of_all(Held(*held))
        if not len(self._kinds):
            return made, max(off)
        return self._with_rows(made, opened, ((seconds, 1.0),)), max(off)

    def look_s(self, opens: Opens, now: float) -> float:
        """When to look again: inf while nothing moves."""
        paces_s = [masses.step_s() for masses in self._masses(opens)] if self.sorts else []
        return now + min([*paces_s, self._followed.step_s() if self._followed else NEVER], default=NEVER)

    def drawn_s(self, opens: Opens, now: float) -> float:
        """Until when straight lines draw well enough what is held; inf while next to nothing moves."""
        paces_s = [masses.drawn_s() for masses in self._masses(opens)] if self.sorts else []
        return now + min([*paces_s, self._followed.step_s() if self._followed else NEVER], default=NEVER)

    def free_sessions(self, members: Bools) -> None:
        """Ends the sessions on these members: they move on with their next call. Keys end otherwise (see `bind`)."""
        places = np.repeat(members[None, :], len(self.network.kept.sessions), axis=0)
        places[self._by_key] = False
        if self.held.sessions[places].any():
            kept, freed = _without(self.held.sessions, places, sources_told(self.network.kept))
            connections, strays = self.held.connections, self.held.strays
            if len(strays):
                kinds, led = [one.session for one in self.network.kept.connections], self.network.kept.unbound >= 0
                strays = np.where(led[:, None] & places[kinds][:, self.network.pairs.member], connections, strays)
            self.held = Held(kept, connections, strays)
            self.sessions_moved += freed

    def bind(self, kind: int, shares: Floats) -> None:
        """Binds so many of a kind's sources to each member; whose connection leads elsewhere keeps it."""
        network, held, strays = self.network, self.held, self.held.strays.copy()
        before, sessions = held.sessions[kind], held.sessions.copy()
        sessions[kind] = shares
        stay = np.divide(shares, before, out=np.zeros(len(before)), where=before > 0)
        gone = np.maximum(1 - stay, 0.0)[network.pairs.member]
        for number, one in enumerate(network.kept.connections):
            if one.session == kind:
                strays[number] += (held.connections[number] - strays[number]) * gone
        self.held = Held(sessions, held.connections, strays)

    def free_connections(self, pairs: Bools) -> None:
        """Resets the connections through these pairs at once."""
        if self.held.connections[:, pairs].any():
            kept, freed = _without(self.held.connections, pairs, self.network.kept.terms[1][0])
            self.held = Held(self.held.sessions, kept, np.where(pairs, 0.0, self.held.strays))
            self.connections_reset += freed

    def meet(self, world: World) -> None:
        """Truth has changed: a target whose process dies resets its connections, where its front lives to hear of
        it."""
        refuses = world.encounter.met == REFUSES
        self.free_connections(refuses & ~world.truth.front_dead[self.network.pairs.front])

    def _each(self, opens: Opens, change: Callable[[Occupancy], Floats]) -> Held:
        if not self.sorts:
            return self.held
        return _of_all(Held(*map(change, self._masses(opens))))

    def _with_rows(self, held: Held, opened: Opened, parts: Sequence[tuple[float, float]]) -> Held:
        """What is held, and of those who are followed by themselves what they hold at these seconds, with these
        weights, while they are opened so until then."""
        if self._followed is None or not len(kinds := self._kinds):
            return held
        every = [(self._followed.rows(seconds, opened), weight) for seconds, weight in parts]
        rows = {int(kind): sum((weight * rows[int(kind)] for rows, weight in every), np.zeros(1)) for kind in kinds}
        return with_rows(held, rows)

    @property
    def _kinds(self) -> Ints:
        """The kinds of connections that are followed by themselves."""
        return self._followed.kinds() if self._followed else ints(())

    def _parts(self, opens: Opens) -> tuple[Openings, ...]:
        """How each sort is opened; nobody opens any of those who are followed by themselves."""
        sessions, connections, strays = opens.parts
        return _but(sessions, self._by_key), _but(connections, self._kinds), strays

    def _masses(self, opens: Opens) -> tuple[Occupancy, ...]:
        """The masses under a flow: sessions, connections, and strays among these; kept while nothing changes."""
        if self._made is None or self._made[0] is not opens or self._made[1] is not self.held:
            sessions, connections, strays = self.held.parts
            if len(kinds := self._kinds):
                connections = connections.copy()
                connections[kinds] = 0.0
            held = (sessions, connections, strays)
            masses = (Occupancy(*both) for both in zip(held, self._parts(opens), strict=True))
            self._made = opens, self.held, tuple(masses)
        return self._made[2]


def with_rows(held: Held, rows: Mapping[int, Floats]) -> Held:
    """What is held, and of these kinds of connections that."""
    if not rows:
        return held
    connections = held.connections.copy()
    for kind, row in rows.items():
        connections[kind] = row
    return Held(held.sessions, connections, held.strays)


def _but(opens: Openings, kinds: Ints) -> Openings:
    """How masses are opened, but for these kinds, of which nobody opens any."""
    if not len(kinds):
        return opens
    ways = opens.ways.copy()
    ways[:, kinds] = 0.0
    return Openings(ways, opens.rate, opens.ends, opens.silent, opens.target)


def _of_all(held: Held) -> Held:
    """What is held, by no more than all: where sessions lead connections, each place is followed by itself."""
    if not len(held.strays):
        return held
    return Held(held.sessions, held.connections / np.maximum(held.connections.sum(axis=1), 1.0)[:, None], held.strays)


def _without(held: Floats, places: Bools, sources: Floats) -> tuple[Floats, float]:
    freed = float((np.where(places, held, 0.0).sum(axis=1) * sources).sum())
    return np.where(places, 0.0, held), freed
