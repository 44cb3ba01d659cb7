"""How often sessions and connections are opened, and where."""

import numpy as np
from msgspec import Struct

from northgate.engine.base import (
    SERVED,
    Floats,
    Ints,
    cached,
    distinct,
    ints,
    left,
    some,
    total_by,
    where_true,
)
from northgate.engine.solver.passes.forward import Forward
from northgate.engine.solver.passes.loops import add_opened
from northgate.engine.solver.passes.trying import GoingOn
from northgate.engine.solver.retries.classes import Pinned
from northgate.engine.solver.retries.holding import bound_shares, strays_of, strays_part
from northgate.engine.solver.totals.loops import find_opened, find_reset_part, find_served_there
from northgate.engine.solver.totals.solved import Solved
from northgate.engine.solver.unloaded import Unloaded


class Opening:
    """How sessions and connections are opened."""

    def __init__(self, solved: Solved, going_on: GoingOn, forward: Forward) -> None:
        self.network, self.state = solved.context.network, solved.context.state
        self.unloaded, self.frame = solved.context.unloaded, solved.context.unloaded.frame
        self.repeats, self.connected = solved.context.repeats, solved.context.connected
        self.going_on, self.forward = going_on, forward
        self.free_share, self.share, self.sent, self.back = solved.free_share, solved.share, solved.sent, solved.back

    def sessions(self) -> Floats:
        """Per kind of session and member: how often a second a source without a session opens one there."""
        network, members = self.network, len(self.network.members.group)
        made = np.zeros((len(network.kept.sessions), members))
        if not len(made):
            return made
        opens, _ = self.going_on.trying(self.free_share, self.free_share, classes=False)
        cell_rps = self._all_to_cells if len(self.connected.kinds) else self.sent.cell
        pinned, served, pairs = {one.fate: one for one in self.repeats.pinned}, self.back.pair[SERVED], network.pairs
        for number, kind in enumerate(network.kept.sessions):
            sources, fates = float(network.plan.clients[kind.client].sources), self.unloaded.derived(_fates)[number]
            drawn, keeps = ints(fate for fate in fates if fate not in pinned), self.frame.keeps[number]
            add_opened(
                drawn, keeps, pairs.cell, pairs.member, cell_rps, opens, served, np.array([sources]), made[number]
            )  # fmt: skip
            for fate in fates:
                if fate in pinned:
                    self._add_held(pinned[fate], kind.cells, sources, made[number])
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
        every = self.repeats.setting_out(every=True)
        return self.forward.to_cells(np.where(self.frame.of_client, every, self.sent.entry)).cell

    def astray(self) -> Floats:
        """Per kind of session the share of sources whose connection leads to where no session binds them, on the mean
        of their calls."""
        network, asked = self.network, self.state.call_rps
        made, kept = np.zeros(len(network.kept.sessions)), network.kept
        for number, kind in enumerate(kept.connections):
            if kind.session >= 0 and self.state.held is not None:
                every = asked[network.calls.client == kept.sessions[kind.session].client].sum()
                made[kind.session] += self._strays(number) * asked[kind.call] / every if every > 0 else 0.0
        return made

    def _free(self, number: int) -> float:
        """The share of sources of a kind of connection that no session binds."""
        return max(1 - float(self._bound(number).sum()), 0.0)

    def _bound(self, number: int) -> Floats:
        """The share of sources that the session of a kind of connection binds to each member."""
        return bound_shares(self.state, self.network.kept.connections[number].session, number)

    def _strays(self, number: int) -> float:
        """The share of sources whose connection leads to where no session binds them."""
        return float(self._strays_there[number].sum())

    @cached
    def _strays_there(self) -> list[Floats]:
        """As `_strays`, per kind of connection and by pair; where fronts believe differently, only of those whose
        session has ended."""
        return [
            self._strays_at(number) if self.led[number] else np.minimum(strays_of(self.state, number), held)
            for number, held in enumerate(self.connected.held)
        ]

    def _strays_at(self, number: int) -> Floats:
        """As `strays_there`, of each target, shared out as connections are."""
        part = strays_part(self.network, self.state, number)
        return np.asarray(part[self.network.pairs.member] * self.connected.held[number])

    def connections(self, spent: int) -> Floats:
        """Per kind of connection and pair: the share of calls that would open one there, by sources without one, or
        with one that has just ended under a call (`spent` 1)."""
        repeats, connected, made = self.repeats, self.connected, np.zeros(self.connected.rps.shape)
        if not connected.kinds or (spent and not some(connected.anew)):
            return made
        connects = repeats.connects_after_one if spent else repeats.connects
        to, share = self.unloaded.derived(_to_cells), self.share[np.minimum(connected.fate, len(self.share) - 1)]
        for number, kind in enumerate(connected.kinds):
            if self.led[number]:
                # Who is not bound is drawn; the others are in `bound_there`.
                share[number] = self._drawn(number) * self._unbound(number)
            elif kind.call in self._pinned:
                share[number] = repeats.spreading.spread(kind.call, self._drawn(number), connects)
        find_opened(
            to.entries, to.kind, to.arriving, repeats.book.by_entry(connects), self.network.pairs.cell, share,
            connected.fate, self.back.pair[SERVED], np.empty((len(made), self.frame.cells)), made,
        )  # fmt: skip
        return made

    @cached
    def _pinned(self) -> set[int]:
        """The calls that are followed by class."""
        return {one.call for one in self.repeats.pinned}

    def _drawn(self, number: int) -> Floats:
        """How those are drawn, per pair, who open a kind of connection, where nothing holds them."""
        return np.asarray(self.free_share[min(int(self.connected.fate[number]), len(self.free_share) - 1)])

    def by_free(self, first: Floats, again: Floats) -> Floats:
        """How those without a connection open one, per kind and pair: by their first attempt, or, where that is sent
        into one just closed, by the next (nobody repeats: by none)."""
        if not some(self.connected.reset):
            return first
        part = self.reset_part[:, None]
        return np.asarray(first * (1 - part) + again * part)

    @cached
    def reset_part(self) -> Floats:
        """Per kind of connection, of the calls of sources without one: the share that is sent into one just closed."""
        made = np.empty(len(self.connected.kinds))
        find_reset_part(self.connected.reset, self.connected.free, self.connected.calls, made)
        return made

    @cached
    def led(self) -> list[bool]:
        """Per kind of connection: whether sessions lead all connections, as each front reaches all targets to which its
        sources are bound, and sends them there."""
        return [self._is_led(number) for number in range(len(self.connected.kinds))]

    def _is_led(self, number: int) -> bool:
        session = self.network.kept.connections[number].session
        if session < 0 or self.state.held is None:
            return False
        mine = where_true(self.connected.kinds[number].weighted_of_cell >= 0)
        bound = total_by(self.network.pairs.cell, self._session_shares(number), self.frame.cells)[mine]
        return bool(np.allclose(bound, self._bound(number).sum(), rtol=0, atol=1e-9))

    def _session_shares(self, number: int) -> Floats:
        """Per pair the share of sources that the session of a kind of connection binds to its target, where its front
        sends them there."""
        return np.asarray(self._bound(number)[self.network.pairs.member] * self.unloaded.may_lead)

    def _unbound(self, number: int) -> Floats:
        """Per pair the share of sources that no session binds at its front and that have no connection either."""
        cell, bound = self.network.pairs.cell, self._session_shares(number)
        free = 1 - total_by(cell, bound, self.frame.cells)
        return np.asarray(np.maximum(free - self._strays(number), 0.0)[cell])

    @cached
    def bound_there(self) -> Floats:
        """As `Opens.bound` says."""
        made = np.full(self.connected.rps.shape, np.nan)
        for number in np.flatnonzero(self.led).tolist():
            made[number] = self._bound_at[number] + self._strays_there[number]
        return made

    @cached
    def _bound_at(self) -> dict[int, Floats]:
        """Of each kind of connection that sessions lead, per pair the share of sources that these lead through it: all
        who are bound to a target, as who comes to nobody comes again, shared out as connects come to its fronts."""
        return {number: self._led_through(number) for number in np.flatnonzero(self.led).tolist()}

    def _led_through(self, number: int) -> Floats:
        """As `_bound_at`, of one kind: by target they come to what sessions bind there, or, where none of the connects
        comes to any of its fronts, to nothing; (pairs,)."""
        member, bound = self.network.pairs.member, self._session_shares(number)
        comes = np.where(bound > 0, self._comes_at(number), 0.0)
        every = total_by(member, comes, len(self.network.members.group))[member]
        return bound * np.divide(comes, every, out=np.zeros(len(comes)), where=every > 0)

    def _comes_at(self, number: int) -> Floats:
        """Per pair the part of all connects that open a kind of connection that comes to its front."""
        to = self.unloaded.derived(_to_cells)
        mine = to.kind == number
        by_cell = to.every[:, mine] @ self.state.dns_share[to.entries[mine]]
        return np.asarray(by_cell[self.network.pairs.cell])

    @cached
    def served_there(self) -> Floats:
        """As `Opens.served` says: a repeat comes to the same target again. Whose connection still leads elsewhere opens
        none there: those whom no session binds are thought of first, then those whom one binds elsewhere."""
        connected, made = self.connected, np.empty(self.connected.rps.shape)
        find_served_there(
            self.network.pairs.front, self.state.truth.front_dead, connected.blocked, connected.fate,
            self.back.pair[SERVED], connected.retries, self.reset_part, made,
        )  # fmt: skip
        for number in np.flatnonzero(self.led).tolist():
            member, free = self.network.pairs.member, self.bound_there[number] - connected.held[number]
            waiting = np.maximum(total_by(member, free, len(self.network.members.group)), 0.0).sum()
            made[number] *= left(waiting, self._strays(number) - self._free(number)) * self._comes_at(number)
        return made


class _ToCells(Struct, frozen=True):
    """Which part of the connects at the `entries` of calls, that open a `kind` of connection each, comes to each cell,
    of those that arrive, and of `every` one, whatever they meet: (cells, entries)."""

    entries: Ints
    kind: Ints
    arriving: Floats
    every: Floats


def _fates(unloaded: Unloaded) -> list[list[int]]:
    """Per kind of session the fates of its clients' calls."""
    network, fate = unloaded.network, unloaded.fate_of_call
    return [distinct(fate[network.calls.client == kind.client]).tolist() for kind in network.kept.sessions]


def _to_cells(unloaded: Unloaded) -> _ToCells:
    """Where those of each kind of connection come to that are opened."""
    network, frame, made = unloaded.network, unloaded.frame, list[tuple[Ints, Ints, Floats, Floats]]()
    for number, kind in enumerate(network.kept.connections):
        entries, part = network.entries.of_call[kind.call], unloaded.row_part[kind.rows]
        place = np.searchsorted(entries, frame.entry[kind.rows])
        both = []
        for of in (part * unloaded.arrives[kind.rows], part):
            by_route, by_cell = np.zeros((frame.routes, len(entries))), np.zeros((frame.cells, len(entries)))
            np.add.at(by_route, (frame.route[kind.rows], place), of)
            by_weighted = by_route[network.weighted.route] * unloaded.choice.weighted_share[:, None]
            np.add.at(by_cell, network.weighted.cell, by_weighted)
            both.append(by_cell)
        made.append((entries, np.full(len(entries), number), both[0], both[1]))
    parts = [np.concatenate(some, axis=-1) for some in zip(*made, strict=True)]
    return _ToCells(parts[0], parts[1], parts[2], parts[3])
