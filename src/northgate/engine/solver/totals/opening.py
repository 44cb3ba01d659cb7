"""How often sessions and connections are opened, and where."""

import numpy as np
from msgspec import Struct

from northgate.engine.base import (
    SERVED,
    Floats,
    Ints,
    cached,
    distinct,
    total_by,
)
from northgate.engine.solver.passes.forward import Forward
from northgate.engine.solver.passes.loops import add_opened
from northgate.engine.solver.passes.sending import Sending
from northgate.engine.solver.retries.classes import Pinned
from northgate.engine.solver.totals.solved import Solved
from northgate.engine.solver.unloaded import Unloaded


class Opening:
    """How sessions and connections are opened."""

    def __init__(self, solved: Solved, sending: Sending, forward: Forward) -> None:
        self.network, self.state = solved.context.network, solved.context.state
        self.unloaded, self.frame = solved.context.unloaded, solved.context.unloaded.frame
        self.repeats, self.connected = solved.context.repeats, solved.context.connected
        self.sending, self.forward = sending, forward
        self.free_share, self.share, self.sent, self.back = solved.free_share, solved.share, solved.sent, solved.back

    def sessions(self) -> Floats:
        """Per kind of session and member: how often a second a source without a session opens one there."""
        network, members = self.network, len(self.network.members.group)
        made = np.zeros((len(network.kept.sessions), members))
        if not len(made):
            return made
        opens, _ = self.sending.trying(self.free_share, self.free_share, classes=False)
        cell_rps = self._all_to_cells if len(self.connected.kinds) else self.sent.cell
        pinned, served, pairs = {one.fate: one for one in self.repeats.pinned}, self.back.pair[SERVED], network.pairs
        for number, kind in enumerate(network.kept.sessions):
            sources = np.array([float(network.plan.clients[kind.client].sources)])
            fates = distinct(self.unloaded.fate_of_call[network.calls.client == kind.client])
            drawn = np.array([fate for fate in fates.tolist() if fate not in pinned], dtype=np.int64)
            keeps = self.frame.keeps[number]
            add_opened(drawn, keeps, pairs.cell, pairs.member, cell_rps, opens, served, sources, made[number])
            for fate in set(fates.tolist()) - set(drawn.tolist()):
                self._add_held(pinned[fate], kind.cells, float(sources[0]), made[number])
        return made

    def _add_held(self, one: Pinned, cells: Ints, sources: float, made: Floats) -> None:
        """Adds by member how often a second a source of a call that is followed by class opens a session there."""
        drawn = self.free_share[min(one.fate, len(self.free_share) - 1)]
        pairs, often = self.repeats.spreading.opening(one, cells, drawn, self._connected)
        rate = self.state.call_rps[one.call] * often * self.back.pair[SERVED][one.fate, pairs] / sources
        np.add.at(made, self.network.pairs.member[pairs], rate)

    @cached
    def _connected(self) -> Floats:
        return self.repeats.connected(self.back.books)

    @cached
    def _all_to_cells(self) -> Floats:
        """What would reach the cells, by fate, if nobody had an open connection (requests/s)."""
        entries = self.network.entries
        every = self.state.call_rps[entries.call] * self.repeats.entry_connects
        return self.forward.to_cells(np.where(self.frame.of_client, every, self.sent.entry)).cell

    def connections(self, spent: int) -> Floats:
        """Per kind of connection and pair: the share of calls that would open one there, by sources without one, or
        with one that has just ended under a call (`spent` 1)."""
        repeats, connected = self.repeats, self.connected
        if not connected.kinds or (spent and not connected.anew.any()):
            return np.zeros(connected.rps.shape)
        connects = repeats.connects_after_one if spent else repeats.connects
        often, pinned = repeats.book.by_entry(connects), {one.call for one in repeats.pinned}
        by_cell = np.array([to.arriving @ often[to.entries] for to in self.unloaded.derived(_to_cells)])
        share, drawn = (one[np.minimum(connected.fate, len(one) - 1)] for one in (self.share, self.free_share))
        for number, kind in enumerate(connected.kinds):
            if self.led[number]:
                # Who is not bound is drawn; the others are in `bound_there`.
                share[number] = drawn[number] * self._unbound(number)
            elif kind.call in pinned:
                share[number] = repeats.spreading.spread(kind.call, drawn[number], connects)
        return np.asarray(by_cell[:, self.network.pairs.cell] * share * self.back.pair[SERVED][connected.fate])

    def by_free(self, first: Floats, again: Floats) -> Floats:
        """How those without a connection open one, per kind and pair: by their first attempt, or, where that is sent
        into one just closed, by the next (nobody repeats: by none)."""
        if not self.connected.kinds:
            return first
        part = self.reset_part[:, None]
        return np.asarray(first * (1 - part) + again * part)

    @cached
    def reset_part(self) -> Floats:
        """Per kind of connection, of the calls of sources without one: the share that is sent into one just closed."""
        reset = self.connected.reset.sum(axis=1)
        whole = reset + self.connected.free[[kind.call for kind in self.connected.kinds]]
        return np.asarray(np.divide(reset, whole, out=np.zeros_like(reset), where=whole > 0))

    @cached
    def led(self) -> list[bool]:
        """Per kind of connection: whether sessions lead all connections, as each front reaches all targets to which its
        sources are bound, and believes them in use."""
        return [self._is_led(number) for number in range(len(self.connected.kinds))]

    def _is_led(self, number: int) -> bool:
        session = self.network.kept.connections[number].session
        if session < 0 or self.state.held is None:
            return False
        mine = np.flatnonzero(self.connected.kinds[number].weighted_of_cell >= 0)
        bound = total_by(self.network.pairs.cell, self._session_shares(number), self.frame.cells)[mine]
        return bool(np.allclose(bound, self.state.held.sessions[session].sum(), rtol=0, atol=1e-9))

    def _session_shares(self, number: int) -> Floats:
        """Per pair the share of sources that the session of a kind of connection binds to its target, as its front
        believes it in use."""
        assert self.state.held is not None
        held = self.state.held.sessions[self.network.kept.connections[number].session]
        return np.asarray(held[self.network.pairs.member] * self.state.in_use)

    def _unbound(self, number: int) -> Floats:
        """Per pair the share of sources that no session binds at its front and that have no connection either."""
        cell, bound = self.network.pairs.cell, self._session_shares(number)
        free = 1 - total_by(cell, bound, self.frame.cells)
        strays = np.maximum(self.connected.held[number] - self.bound_there[number], 0.0).sum()
        return np.asarray(np.maximum(free - strays, 0.0)[cell])

    @cached
    def bound_there(self) -> Floats:
        """As `Opens.bound` says."""
        made = np.full(self.connected.rps.shape, np.nan)
        for number, to in enumerate(self.unloaded.derived(_to_cells) if any(self.led) else ()):
            if self.led[number]:
                by_cell = to.every @ self.state.dns_share[to.entries]
                made[number] = by_cell[self.network.pairs.cell] * self._session_shares(number)
        return made

    @cached
    def served_there(self) -> Floats:
        """As `Opens.served` says: a repeat comes to the same target again."""
        connected, part = self.connected, self.reset_part[:, None]
        dead = self.state.truth.front_dead[self.network.pairs.front] | connected.blocked
        fails = 1 - np.where(dead, 0.0, self.back.pair[SERVED][connected.fate])
        again = fails ** connected.retries[:, None]
        return np.asarray(1 - (1 - part) * again * fails - part * again)


class _ToCells(Struct, frozen=True):
    """Which part of the connects of a call's `entries` comes to each cell, of those that arrive, and of `every` one,
    whatever they meet: (cells, entries)."""

    entries: Ints
    arriving: Floats
    every: Floats


def _to_cells(unloaded: Unloaded) -> list[_ToCells]:
    """Where those of each kind of connection come to that are opened."""
    network, frame, made = unloaded.network, unloaded.frame, list[_ToCells]()
    for kind in network.kept.connections:
        entries, part = network.entries.of_call[kind.call], unloaded.row_part[kind.rows]
        place = np.searchsorted(entries, frame.entry[kind.rows])
        both = []
        for of in (part * unloaded.arrives[kind.rows], part):
            by_route, by_cell = np.zeros((frame.routes, len(entries))), np.zeros((frame.cells, len(entries)))
            np.add.at(by_route, (frame.route[kind.rows], place), of)
            by_weighted = by_route[network.weighted.route] * unloaded.choice.weighted_share[:, None]
            np.add.at(by_cell, network.weighted.cell, by_weighted)
            both.append(by_cell)
        made.append(_ToCells(entries, *both))
    return made
