"""Sessions and layer 4 connections of a network: how their masses change, and what ends them at once."""

from collections.abc import Callable, Iterator, Sequence

import numpy as np
from msgspec.structs import replace

from northgate.engine.base import NEVER, Bools, Floats
from northgate.engine.formulas import Occupancy, idle_ends
from northgate.engine.network import Network
from northgate.engine.processes.world import World
from northgate.engine.solver import Held, Opens
from northgate.engine.truth import REFUSES

# The mean of a parabola over either half of the way, and all of it, of its values at the beginning, half-way and then.
HALVES = (5 / 12, 8 / 12, -1 / 12), (-1 / 12, 8 / 12, 5 / 12)
SIMPSONS = 1 / 6, 4 / 6, 1 / 6


class Holdings:
    """What is held now, how it changes, and what is taken away at once; `sessions_moved` and `connections_reset` count
    what has been."""

    def __init__(self, network: Network, held: Held | None = None) -> None:
        self.network = network
        self.kinds = network.kept.connections
        self.held = held or Held(
            np.zeros((len(network.kept.sessions), len(network.members.group))),
            np.zeros((len(self.kinds), len(network.pairs.front))),
        )
        self.sessions_moved, self.connections_reset = 0.0, 0.0
        self._made: tuple[Opens, Held, list[Occupancy]] | None = None

    @property
    def sorts(self) -> int:
        """How many sorts of what is held there are: sessions, and connections."""
        return bool(self.network.kept.sessions) + bool(self.kinds)

    def settle(self, opens: Opens) -> None:
        """What stays as it is while they are opened so."""
        self.held = self._each(opens, Occupancy.settled)

    def after(self, opens: Opens, seconds: float) -> Held:
        """What is held `seconds` later."""
        return self._each(opens, lambda masses: masses.after(seconds))

    def mean(self, opens: Opens, seconds: float) -> Held:
        """What is held on the mean over the next `seconds`."""
        return self._each(opens, lambda masses: masses.mean(seconds))

    def led_on(self, opens: tuple[Opens, Opens, Opens], seconds: float) -> tuple[Held, float]:
        """What is held in so many seconds, while a parabola goes through how they are opened now, half-way and then;
        and which share of a kind's sources, at most, would be held otherwise in two halves than in one go.

        In two halves, each with the mean of how they are opened in it, three quarters are gone of the error of one go
        with the mean of all, which grows as the cube of the seconds (W. Magnus, "On the exponential solution of
        differential equations for a linear operator", 1954); so a third of the difference is still to be added (L. F.
        Richardson, "The deferred approach to the limit", 1927). One go with what is half-way is otherwise still.
        """
        if not self.sorts:
            return self.held, 0.0
        first, second, mean = (opens[0].mixed(opens[1:], weights) for weights in (*HALVES, SIMPSONS))
        there = Holdings(self.network, self.after(first, seconds / 2)).after(second, seconds / 2)
        whole = self.after(mean, seconds)
        led_on = Held(_led_on(whole.sessions, there.sessions), _led_on(whole.connections, there.connections))
        return led_on, max(there.apart(whole), there.apart(self.after(opens[1], seconds)))

    def look_s(self, opens: Opens, now: float) -> float:
        """When to look again: inf while nothing moves."""
        return now + min((masses.step_s() for masses in self._kinds(opens)), default=NEVER)

    def drawn_s(self, opens: Opens, now: float) -> float:
        """Until when straight lines draw well enough what is held; inf while next to nothing moves."""
        return now + min((masses.drawn_s() for masses in self._kinds(opens)), default=NEVER)

    def free_sessions(self, members: Bools) -> None:
        """Ends the sessions on these members: they move on with their next call."""
        if self.held.sessions[:, members].any():
            sources = [self.network.plan.clients[kind.client].sources for kind in self.network.kept.sessions]
            kept, freed = _without(self.held.sessions, members, sources)
            self.held = Held(kept, self.held.connections)
            self.sessions_moved += freed

    def free_connections(self, pairs: Bools) -> None:
        """Resets the connections through these pairs at once."""
        if self.held.connections[:, pairs].any():
            kept, freed = _without(self.held.connections, pairs, [kind.sources for kind in self.kinds])
            self.held = Held(self.held.sessions, kept)
            self.connections_reset += freed

    def meet(self, world: World) -> None:
        """Truth has changed: a target whose process dies resets its connections, where its front lives to hear of
        it."""
        refuses = world.encounter.met == REFUSES
        self.free_connections(refuses & ~world.truth.front_dead[self.network.pairs.front])

    def _each(self, opens: Opens, change: Callable[[Occupancy], Floats]) -> Held:
        made = [change(masses) for masses in self._kinds(opens)]
        sessions, connections = made[: len(self.held.sessions)], made[len(self.held.sessions) :]
        return Held(
            np.array(sessions, dtype=np.float64).reshape(self.held.sessions.shape),
            np.array(connections, dtype=np.float64).reshape(self.held.connections.shape),
        )

    def _kinds(self, opens: Opens) -> list[Occupancy]:
        """The masses of every kind under a flow: sessions, then connections; kept while neither changes."""
        if self._made is None or self._made[0] is not opens or self._made[1] is not self.held:
            self._made = (opens, self.held, [*self._sessions(opens), *self._connections(opens)])
        return self._made[2]

    def _sessions(self, opens: Opens) -> Iterator[Occupancy]:
        network = self.network
        for number, (held, kind) in enumerate(zip(self.held.sessions, network.kept.sessions, strict=True)):
            group = network.plan.target_groups[kind.group]
            ends = 0.0 if group.affinity.renews else 1 / group.affinity.lasts_s
            yield Occupancy(held, 1.0, opens.opening[number], ends, np.zeros(len(held), dtype=bool))

    def _connections(self, opens: Opens) -> Iterator[Occupancy]:
        for number, (held, kind) in enumerate(zip(self.held.connections, self.kinds, strict=True)):
            rate = float(opens.rps[number]) / kind.sources
            again, bound = opens.reconnecting[number], opens.bound[number]
            masses = Occupancy(
                held,
                rate,
                opens.connecting[number],
                kind.ends + idle_ends(rate, kind.idle_s),
                opens.ending[number],
                again,
            )
            if not np.isnan(bound).any():
                masses = replace(masses, bound=bound, served=opens.served[number])
            yield masses


def _led_on(coarse: Floats, fine: Floats) -> Floats:
    return np.asarray(np.maximum(fine + (fine - coarse) / 3, 0.0))


def _without(held: Floats, places: Bools, sources: Sequence[float]) -> tuple[Floats, float]:
    freed = float((held[:, places].sum(axis=1) * np.array(sources, dtype=np.float64)).sum()) if len(held) else 0.0
    return np.where(places, 0.0, held), freed
