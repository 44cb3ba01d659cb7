"""Who connects anew, and what those hold of names.

A layer 4 connection asks no name. Who can connect stays connected for a while, whatever his resolver holds by then; who
holds an old answer that leads nowhere has no connection, and asks again with each call: so of those who connect anew
more hold the old answer than of all clients. How many of those who hold one version of the records are connected is
followed by itself, pair by pair, as if they were all clients (`formulas/masses/occupancy.py`):

    dh_j/dt = λ (1 - H) q_j - d_j h_j,   H = Σ h_j

q_j being the chance with which a connect of theirs opens a connection at pair j. Those who hold the newest version are
all the others: what is held in all, less S h of each older version, S being the share of clients that hold it. So what
is held in all does not follow from the chances of all together, which change as fast as who can connect has done so.
"""

import operator
from collections.abc import Callable, Iterator, Mapping, Sequence
from itertools import product
from math import prod

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from northgate.engine.base import NEVER, Floats, Ints, ints, where_true
from northgate.engine.formulas import Occupancy
from northgate.engine.network import Answers, Network, Record, Sets
from northgate.engine.processes.holdings import Holdings, with_rows
from northgate.engine.processes.naming.connected import (
    FEW,
    Connected,
    Halves,
    Version,
    Versions,
    VersionsAt,
    at_leaves,
    opened_by,
    told_by,
)
from northgate.engine.processes.naming.holders import Holders
from northgate.engine.processes.naming.resolvers import AnswerHistory, HeldAt, Resolvers, mixed
from northgate.engine.solver import Flow, Held, Opened, Opens, Solver

# If so few hold a version, loads are as if nobody did.
SOME = 1e-4


# What is followed: per kind of connection whose clients hold older versions.
Followed = tuple[Connected, ...]


class VersionsFound:
    """Finds versions, by which records are held at a second; the last of each name are told now.

    An object, and not a function that remembers: a run that begins as another has its own, which knows what is held
    in that run.
    """

    def __init__(self, network: Network, who: Holders, held_at: Callable[[float], HeldAt]) -> None:
        self._names, self._who, self._held_at = network.names, who, held_at
        self._told_by: dict[tuple[int, tuple[bytes, ...]], Sets] = {}

    def __call__(self, number: int, second: float) -> Versions:
        """The versions that a holder's clients hold at a second."""
        holder, below = self._who.holders[number], self._who.below[number]
        held, made = self._held_at(second), dict[tuple[bytes, ...], Version]()
        now = _key([held(name, 0.0)[-1][1] for name in below])
        for part, over_s in ((1 - holder.over_share, None), (holder.over_share, holder.over_s)):
            for some in product(*(held(name, over_s) for name in below)) if part > 0 else ():
                records = [record for _, record in some]
                share = part * prod(one for one, _ in some)
                key = _key(records)
                if key in made:
                    made[key] = replace(made[key], share=made[key].share + share)
                    continue
                made[key] = Version(share, self._told(number, key, records), key == now)
        return made

    def _told(self, number: int, key: tuple[bytes, ...], records: Sequence[Record]) -> Sets:
        """What one is told by these records."""
        if (number, key) not in self._told_by:
            by_name = {n: [(1.0, record)] for n, record in zip(self._who.below[number], records, strict=True)}
            asker = self._names.askers[self._who.holders[number].asker]
            self._told_by[number, key] = self._names.sets(asker, by_name.__getitem__)
        return self._told_by[number, key]


def _key(records: Sequence[Record]) -> tuple[bytes, ...]:
    return tuple(b"".join(record.key) for record in records)


def answers_anew(
    network: Network, followed: Followed, known: Answers, versions: VersionsAt, second: float, held: Held
) -> Answers:  # fmt: skip
    """What those hold who connect anew: of calls that are followed otherwise than all clients do (`known`)."""
    parts = {one.kind: _free(one, versions(one.holder, second), held.connections[one.kind], second) for one in followed}
    return _with(network, known, parts)


def led(network: Network, followed: Followed, versions: VersionsAt, opened: Opened, second: float) -> Followed:
    """What is followed where connections are opened so until a second."""
    halves = Halves(opened)
    return tuple([one.along(network, halves, second, versions) for one in followed])


def rows_at(followed: Followed, versions: VersionsAt, second: float) -> dict[int, Floats]:
    """By kind of connection that is followed by itself what is held at a second, pair by pair."""
    return {one.kind: one.total(second, versions(one.holder, second)) for one in followed}


# How many connect anew (as a share of all clients) who hold each of some sets.
Free = Sequence[tuple[float, Sets]]


def _with(network: Network, known: Answers, parts: Mapping[int, Free]) -> Answers:
    """Answers, but for those who call over some kinds of connection, and connect anew."""
    sets, holder, dns_share = list(known.sets), known.holder.copy(), known.dns_share.copy()
    for kind, free in parts.items():
        call, whole = network.kept.connections[kind].call, sum(share for share, _ in free)
        if whole < FEW:
            continue
        mine, asks = mixed([(share / whole, some) for share, some in free]), network.derived(_asking)[kind]
        holder[call] = len(sets)
        sets.append(mine)
        dns_share[asks] = at_leaves(mine, network.entries.leaf[asks])
    return Answers(dns_share, holder, tuple(sets)) if len(sets) > len(known.sets) else known


def _asking(network: Network) -> list[Ints]:
    """Per kind of connection the entries of its call, at which a client asks names."""
    entries, kinds = network.entries, network.kept.connections
    clients = (entries.asker >= 0) & (entries.member < 0)
    return [where_true((entries.call == kind.call) & clients) for kind in kinds]


def _free(one: Connected, versions: Versions, held: Floats, second: float) -> Free:
    """Who connects anew, by the sets of each version."""
    older = one.then(second, versions, held).sum(axis=1)
    free = {
        key: versions[key].share * max(1 - float(connected), 0.0)
        for key, connected in zip(one.keys, older, strict=True)
        if key in versions
    }
    others = {key: version.share for key, version in versions.items() if key not in free}
    rest, every = max(1 - float(held.sum()) - sum(free.values()), 0.0), sum(others.values())
    free |= {key: rest * share / every for key, share in others.items() if every > 0}
    return [(share, versions[key].sets) for key, share in free.items()]


class Anew:
    """What is followed of a run. `followed` changes with each flow of now; all between is led on from there."""

    def __init__(self, solver: Solver, resolvers: Resolvers, holdings: Holdings) -> None:
        self._solver, self._network, self.resolvers = solver, holdings.network, resolvers
        self.followed: Followed = ()
        self._kinds = ints(())
        self._looks = 0
        self._last: tuple[Opened, float, int, Followed] | None = None
        self._find = VersionsFound(self._network, resolvers.who, resolvers.held_at)
        holdings.follow(self)

    def _versions(self, holder: int, second: float) -> Versions:
        """The versions that a holder's clients hold; the last that were asked for are kept."""
        return self.resolvers.lately(("versions", holder, second), lambda: self._find(holder, second))

    def answers(self, second: float, held: Held, opened: Opened | None = None) -> Answers:
        """What those hold at a second who connect anew; `opened`: how connections are until then (None: as was looked
        at, or gone on)."""
        known, versions = self.resolvers.answers(second), self._versions
        followed = self._led(opened, second) if opened else self.followed
        return answers_anew(self._network, followed, known, versions, second, held)

    def mean_answers(self, now: float, second: float, held: Held, opens: Opens) -> Answers:
        """What these hold on the mean until a second, before which no tail bends; `held`: what is held on the mean."""
        known = self.resolvers.mean_answers(now, second)
        if not self.followed:
            return known
        parts: dict[int, list[tuple[float, Sets]]] = {one.kind: [] for one in self.followed}
        for weight, at_s in ((1 / 6, now), (4 / 6, (now + second) / 2), (1 / 6, second)):
            rows, followed = self.rows(at_s - now, (opens,) * 3), self._led((opens,) * 3, at_s)
            for one in followed:
                row = rows.get(one.kind, held.connections[one.kind])
                free = _free(one, self._versions(one.holder, at_s), row, at_s)
                parts[one.kind] += [(weight * share, sets) for share, sets in free]
        return _with(self._network, known, parts)

    def rows(self, seconds: float, opened: Opened) -> dict[int, Floats]:
        """By kind of connection that is followed by itself what is held in so many seconds, pair by pair, while
        connections are opened so."""
        second = max((one.at_s for one in self.followed), default=0.0) + seconds
        return rows_at(self._led(opened, second), self._versions, second)

    def go_on(self, opened: Opened, second: float) -> None:
        """Connections are opened so until a second, to which it goes."""
        self.followed = self._led(opened, second)

    def _led(self, opened: Opened, second: float) -> Followed:
        """What is followed where connections are opened so until then; the last is kept."""
        last = self._last
        if last is None or last[1:3] != (second, self._looks) or not all(map(operator.is_, last[0], opened)):
            made = led(self._network, self.followed, self._versions, opened, second) if self.followed else ()
            last = self._last = opened, second, self._looks, made
        return last[3]

    def kinds(self) -> Ints:
        """The kinds of connections that are followed by themselves."""
        return self._kinds

    def step_s(self) -> float:
        """For how long nothing of what is followed by itself changes much, but for those who ask again."""
        return min((one.masses.step_s() for one in self.followed), default=NEVER)

    def look(self, now: float, flow: Flow, held: Held) -> None:
        """The flow of now, and what is held."""
        known, before = dict[int, Versions](), {one.kind: one for one in self.followed}
        for kind in range(len(self._network.kept.connections)):
            holder = self._holder(kind)
            if holder >= 0 and not self.resolvers.steady(holder):
                versions = self._versions(holder, now)
                # When the last old answer is let go, rounding may leave next to nobody who holds it.
                if any(not one.newest and one.share > FEW for one in versions.values()):
                    known[kind] = versions
        begun = [kind for kind, some in known.items() if not any(one.newest for one in some.values())]
        flow = self._with_newest(flow, begun)
        self._looks += 1
        self.followed = tuple(
            self._followed(kind, versions, before.get(kind), now, flow, held.connections[kind])
            for kind, versions in known.items()
        )
        self._kinds = ints(known)

    def _with_newest(self, flow: Flow, kinds: Sequence[int]) -> Flow:
        """A flow in which some few hold the newest version already, of which nobody does yet: how these fare."""
        if not kinds:
            return flow
        answers, parts = flow.state.answers, dict[int, Free]()
        for kind in kinds:
            now = answers.sets[answers.holder[self._call(kind)]]
            parts[kind] = [(1 - SOME, now), (SOME, self.resolvers.fresh_sets(self._holder(kind)))]
        return self._solver.solve(replace(flow.state, answers=_with(self._network, answers, parts)))

    def _followed(
        self, kind: int, versions: Versions, before: Connected | None, now: float, flow: Flow, held: Floats
    ) -> Connected:  # fmt: skip
        older = {key: one for key, one in versions.items() if not one.newest}
        known = dict(zip(before.keys, before.then(now, versions, held), strict=True)) if before else {}
        counted = [key for key in older if key in known]
        left = held - sum((older[key].share * known[key] for key in counted), np.zeros(len(held)))
        share = 1 - sum(older[key].share for key in counted)
        others = np.maximum(left, 0.0) / share if share > FEW else held
        masses, sets = np.array([known.get(key, others) for key in older]), [one.sets for one in older.values()]
        holder = self._holder(kind)
        told = told_by(self._network, kind, [*sets, self.resolvers.fresh_sets(holder)])
        mine, newest = opened_by(self._network, kind, flow.opens, held, told, np.zeros(told.shape))
        shares = np.array([one.share for one in older.values()])
        return Connected(kind, holder, tuple(older), Occupancy(masses, mine), shares, held, newest, now, told)

    def _call(self, kind: int) -> int:
        return self._network.kept.connections[kind].call

    def _holder(self, kind: int) -> int:
        return int(self.resolvers.who.of_call[self._call(kind)])

    def stands(self, now: float) -> Iterator[Floats | Ints]:
        """All that is followed, as it stands."""
        for one in self.followed:
            yield np.array([one.kind, len(one.keys)])
            yield one.masses.after(now - one.at_s)


class Past(Struct, frozen=True):
    """What was held at any second of a run, by what was followed from the keyframe before on."""

    network: Network
    history: AnswerHistory
    resolvers: Resolvers

    def answers(self, second: float, followed: Followed, held: Held, opened: Opened) -> Answers:
        """What those held who connected anew; `opened`: how connections were until then."""
        known, versions = self.resolvers.answers_at(self.history, second), self._versions
        followed = led(self.network, followed, versions, opened, second)
        return answers_anew(self.network, followed, known, versions, second, held)

    def after(
        self, followed: Followed, held: Held | None, opened: Opened, seconds: float, second: float
    ) -> Held:  # fmt: skip
        """What was held at a second, so many seconds after a keyframe at which this was."""
        made, _ = Holdings(self.network, held).led_on(opened, seconds)
        followed = led(self.network, followed, self._versions, opened, second)
        return with_rows(made, rows_at(followed, self._versions, second))

    @property
    def _versions(self) -> VersionsAt:
        return VersionsFound(self.network, self.resolvers.who, self.history.held_at)
