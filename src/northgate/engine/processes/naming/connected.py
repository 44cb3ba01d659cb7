"""How those are connected who hold one version of the records or another (see `anew`)."""

import math
from collections.abc import Callable, Mapping, Sequence

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from northgate.engine.base import (
    Floats,
    Floats1,
    Floats2,
    Floats3,
    Ints,
    Ints1,
    cached,
    compiled,
    part,
    some,
    total_by,
    where_true,
)
from northgate.engine.formulas import BOUND, OPENS, SERVED, Occupancy, Openings, held_in_all
from northgate.engine.network import Network, Sets
from northgate.engine.solver import Opened, Opens

# Where no more than this share of sources is held otherwise for it, connections are opened as on the mean of all.
LITTLE = 1e-7
# Of so few who connect anew (as a share of all) nobody asks what they hold.
FEW = 1e-9


class Version(Struct, frozen=True):
    """One version of all records by which a holder goes: the share of clients that hold it, the sets that they are told
    by it, and whether it is what everyone is told now."""

    share: float
    sets: Sets
    newest: bool


# By what tells versions apart.
Versions = Mapping[tuple[bytes, ...], Version]
# By holder and second: the versions that it holds.
VersionsAt = Callable[[int, float], Versions]


class Halves(Struct, frozen=True, dict=True):
    """How connections are opened on a way along a parabola, for all kinds: on its `mean`, and, where it is gone in two
    halves, in each of which they are opened alike: in the first a third less of what they change by, in the other a
    third more. With that the error of what is held grows as the fifth power of the seconds (S. Blanes, P. C. Moan,
    "Fourth- and sixth-order commutator-free Magnus integrators for linear and non-linear dynamical systems", 2006)."""

    opened: Opened

    @cached
    def mean(self) -> Opens:
        """On the mean of all of it."""
        return self._mixed(1 / 6, 4 / 6, 1 / 6)

    @cached
    def early(self) -> Opens:
        """In the first half."""
        return self._mixed(3 / 6, 4 / 6, -1 / 6)

    @cached
    def late(self) -> Opens:
        """In the other half."""
        return self._mixed(-1 / 6, 4 / 6, 3 / 6)

    def _mixed(self, *weights: float) -> Opens:
        first, *others = self.opened
        return first if others[-1] is first else first.mixed(others, weights)


class Connected(Struct, frozen=True):
    """How many are connected, at a second, of those who hold older versions (`keys`) of what the calls of a kind of
    connection are told by, and how that goes on: `masses` (versions, pairs), each as a part of those who hold the
    version, `shares` of all clients. `held` (pairs): how many are in all; `newest`: how those open connections who hold
    the newest version; `told` (versions, then the newest; pairs): which share of their connects sets out for the front
    of each pair."""

    kind: int
    holder: int
    keys: tuple[tuple[bytes, ...], ...]
    masses: Occupancy
    shares: Floats
    held: Floats
    newest: Openings
    at_s: float
    told: Floats

    def then(self, second: float, versions: Versions, held: Floats) -> Floats:
        """Of those who hold older versions, at a second (versions, pairs), and never more than all hold (`held`)."""
        shares = self._shares(versions)
        most = np.divide(held, shares[:, None], out=np.ones(self.masses.held.shape), where=shares[:, None] > 0)
        made: Floats = np.minimum(self.masses.after(max(second - self.at_s, 0.0)), most)
        return made

    def total(self, second: float, versions: Versions) -> Floats:
        """How many are connected in all, pair by pair, at a second."""
        seconds = second - self.at_s
        if seconds <= 0:
            return self.held
        return held_in_all(self.held, self.masses, self.newest, (self.shares, self._shares(versions)), seconds, FEW)

    def along(self, network: Network, halves: Halves, second: float, versions: VersionsAt) -> "Connected":
        """How they are connected where connections are opened otherwise until a second. With the mean of all of it (λ
        t) ((λ + δ) t) Δq / 12 is held otherwise, at most: where that is little it stays so."""
        if self._apart(halves.opened, second - self.at_s) < LITTLE:
            return self._under(network, halves.mean, second, versions)
        half_s = (self.at_s + second) / 2
        half_way = self._under(network, halves.early, half_s, versions)._from(half_s, versions(self.holder, half_s))
        return half_way._under(network, halves.late, second, versions)

    def _apart(self, opened: Opened, seconds: float) -> float:
        """How much may be held otherwise if connections were opened as on the mean."""
        first, _, last = opened
        if first is last:
            return 0.0
        one, other = (opens.connections.ways[:, self.kind] for opens in (first, last))
        if len(one) > BOUND and not math.isnan(one[BOUND, 0]):
            return math.inf
        calls, ends = float(self.newest.rate[0]) * seconds, float(self.newest.ends[0, 0]) * seconds
        return calls * (calls + ends) * float(np.abs(other[OPENS] - one[OPENS]).max(initial=0.0)) / 12

    def _from(self, second: float, versions: Versions) -> "Connected":
        """How they are connected from a second on, as before."""
        held = self.total(second, versions)
        masses = Occupancy(self.then(second, versions, held), self.masses.openings)
        return replace(self, masses=masses, shares=self._shares(versions), held=held, at_s=second)

    def _under(self, network: Network, opens: Opens, second: float, versions: VersionsAt) -> "Connected":
        """How they are connected where connections are opened otherwise, but alike, until a second."""
        held = self.held
        if is_led(opens.connections, self.kind):
            # Who waits to be connected where his session leads is counted half-way.
            half_s = (self.at_s + second) / 2
            held = self.total(half_s, versions(self.holder, half_s))
        before = np.concatenate([self.masses.openings.ways[OPENS], self.newest.ways[OPENS]])
        older, newest = opened_by(network, self.kind, opens, held, self.told, before)
        return replace(self, masses=Occupancy(self.masses.held, older), newest=newest)

    def _shares(self, versions: Versions) -> Floats:
        return np.array([versions[key].share if key in versions else 0.0 for key in self.keys])


class _Fronts(Struct, frozen=True):
    """At which fronts the entries of a call lead, and by which leaf of its name."""

    entry: Ints
    front: Ints
    leaf: Ints


def _fronts(network: Network) -> list[_Fronts]:
    """Of the call of each kind of connection."""
    made, arrivals, entries = list[_Fronts](), network.arrivals, network.entries
    for kind in network.kept.connections:
        mine = where_true((entries.call[arrivals.entry] == kind.call) & (arrivals.front >= 0))
        entry = arrivals.entry[mine]
        made.append(_Fronts(entry, arrivals.front[mine], entries.leaf[entry]))
    return made


def told_by(network: Network, kind: int, sets: Sequence[Sets]) -> Floats:
    """Which share of the connects of those who hold each of some sets sets out for the front of each pair: (sets,
    pairs)."""
    fronts = network.derived(_fronts)[kind]
    return np.array([_at_pairs(network, fronts, at_leaves(one, fronts.leaf)) for one in sets])


def _at_pairs(network: Network, fronts: _Fronts, share: Floats) -> Floats:
    return total_by(fronts.front, share, len(network.fronts.zone))[network.pairs.front]


def opened_by(
    network: Network, kind: int, opens: Opens, held: Floats, told: Floats, before: Floats
) -> tuple[Openings, Openings]:  # fmt: skip
    """How those open connections whose connects set out so (`told`, as `Connected.told`), the last of them by
    themselves: where they are told the same share of addresses of a front as all who connect anew, as these do; where
    nobody else connects, as `before`."""
    fronts, of_all, many, made = network.derived(_fronts)[kind], opens.connections, len(told) - 1, before.copy()
    _find_ways(
        np.array([kind]), of_all.ways, of_all.target, fronts.entry, fronts.front, network.pairs.front,
        opens.dns_share, held, told, np.zeros(len(network.fronts.zone)), np.empty((2, len(held))), made,
    )  # fmt: skip
    rate, ends, silent = of_all.rate[kind : kind + 1], of_all.ends[:, kind : kind + 1], of_all.silent[kind : kind + 1]
    newest = Openings(made[None, many:], rate, np.ascontiguousarray(ends), silent)
    if many == 1:
        return replace(newest, ways=made[None, :1]), newest
    older = made[None, :many], rate.repeat(many), ends.repeat(many, axis=1), silent.repeat(many, axis=0)
    return Openings(*older), newest


@compiled
def _find_ways(
    kind: Ints1, ways: Floats3, target: Ints1, entry: Ints1, front: Ints1, front_of_pair: Ints1, dns_share: Floats1,
    held: Floats1, told: Floats2, by_front: Floats1, room: Floats2, made: Floats2,
) -> None:  # fmt: skip
    """`opened_by`; `entry` and `front` as of `_Fronts`, `ways` and `target` as of `Openings`. `made` begins as what was
    before, `by_front` as nothing, and `room` (2, pairs) is for work."""
    for arrival in range(len(entry)):
        by_front[front[arrival]] += dns_share[entry[arrival]]
    chance = room[0]
    _find_chance(ways[:, kind[0]], target, held, room[1], chance)
    for version in range(len(told)):
        whole = 0.0
        for pair in range(len(held)):
            every = by_front[front_of_pair[pair]]
            if every > 0:
                made[version, pair] = chance[pair] * (told[version, pair] / every)
            whole += made[version, pair]
        for pair in range(len(held)):
            made[version, pair] /= max(whole, 1.0)


@part
def _find_chance(ways: Floats2, target: Ints1, held: Floats1, waits: Floats1, made: Floats1) -> None:
    """The chance with which who connects anew opens a connection at each pair; where sessions say where these lead,
    with those who are bound there. `waits` is for work."""
    led, whole = ways.shape[0] > BOUND, 0.0
    for place in range(len(held)):
        made[place], waits[place] = max(ways[OPENS, place], 0.0), 0.0
        led = led and not math.isnan(ways[BOUND, place])
        whole += held[place]
    if not led:
        return
    for place in range(len(held)):
        waits[target[place]] += ways[BOUND, place] - held[place]
    for place in range(len(held)):
        comes = ways[SERVED, place] * max(waits[target[place]], 0.0) + ways[OPENS, place]
        made[place] = max(comes, 0.0) / max(1 - whole, FEW)


def at_leaves(sets: Sets, leaf: Ints) -> Floats:
    """The share of connects that set out for each of some leaves, by those who hold these sets."""
    size = max((one for leaves in sets for one in leaves), default=0)
    made = np.zeros(max(size, int(leaf.max(initial=0))) + 1)
    for leaves, share in sets.items():
        for one in leaves:
            made[one] += share / len(leaves)
    return np.asarray(made[leaf])


def is_led(opens: Openings, kind: int) -> bool:
    """Whether sessions say where a kind of connection leads."""
    ways = opens.ways[:, kind]
    return len(ways) > BOUND and not some(np.isnan(ways[BOUND]))
