"""How those are connected who hold one version of the records or another (see `anew`)."""

from collections.abc import Callable, Mapping, Sequence

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from northgate.engine.base import Floats, Ints, total_by, where_true
from northgate.engine.formulas import BOUND, OPENS, SERVED, Occupancy, Openings
from northgate.engine.network import Network, Sets
from northgate.engine.solver import Opens

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
        """How many are connected in all, pair by pair, at a second.

        With N of all clients that hold the newest version, of which n are connected, r more a second who have held an
        older one, of whom h are connected, and M(t; m) what comes of m in the time t: n comes to
        N M(t; n/N) + r ∫ M(t - τ; h(τ)) dτ.
        """
        seconds = second - self.at_s
        if seconds <= 0:
            return self.held
        older, shares, whole = self.masses.held, self._shares(versions), max(1 - float(self.shares.sum()), 0.0)
        mine = np.maximum(self.held - self.shares @ older, 0.0)
        first = mine / whole if whole > FEW else np.zeros(len(mine))
        stayed = self._newest((first / max(float(first.sum()), 1.0))[None]).after(seconds)[0]
        gone_over = (self.shares - shares) @ self._gone_over(seconds)
        return np.asarray(whole * stayed + gone_over + shares @ self.masses.after(seconds))

    def _gone_over(self, seconds: float) -> Floats:
        """What is held at last, per version, by those who go over to the newest one evenly meanwhile: the mean of
        M(t - τ; h(τ)). With h as on the mean of all, and of each half, of the error of which a quarter is left: a third
        of the difference is still to be added (Richardson's rule)."""
        half_s, many = seconds / 2, len(self.keys)
        all_of_it, early = self.masses.mean(seconds), self.masses.mean(half_s)
        late = 2 * all_of_it - early
        whole = self._newest(np.concatenate([all_of_it, early])).mean(seconds)
        half = self._newest(np.concatenate([early, late])).mean(half_s)
        in_one, in_halves = whole[:many], whole[many:] + (half[many:] - half[:many]) / 2
        return np.asarray(in_halves + (in_halves - in_one) / 3)

    def _newest(self, held: Floats) -> Occupancy:
        """Those who hold the newest version and are connected in one of some ways each."""
        return Occupancy(held, _some(self.newest, np.zeros(len(held), dtype=np.int64)))

    def under(self, network: Network, opens: Opens, second: float, versions: VersionsAt) -> "Connected":
        """How they are connected where connections are opened otherwise until a second: `opens` on the mean."""
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
    fronts, of_all, count = network.derived(_fronts)[kind], opens.connections, len(told)
    every = _at_pairs(network, fronts, opens.dns_share[fronts.entry])
    chance = _chance(of_all, kind, held)
    ways = np.where(every > 0, chance * np.divide(told, every, out=np.zeros(told.shape), where=every > 0), before)
    ways /= np.maximum(ways.sum(axis=1), 1.0)[:, None]
    of_kind = np.full(count, kind)
    made = Openings(ways[None], of_all.rate[of_kind], of_all.ends[:, of_kind], of_all.silent[of_kind])
    return _some(made, slice(0, count - 1)), _some(made, slice(count - 1, None))


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
    return len(ways) > BOUND and not np.isnan(ways[BOUND]).any()


def _some(opens: Openings, which: slice | Ints) -> Openings:
    return Openings(opens.ways[:, which], opens.rate[which], opens.ends[:, which], opens.silent[which])


def _chance(opens: Openings, kind: int, held: Floats) -> Floats:
    """The chance with which who connects anew opens a connection at each pair; where sessions say where these lead,
    with those who are bound there."""
    ways = opens.ways[:, kind]
    if not is_led(opens, kind):
        return np.asarray(np.maximum(ways[OPENS], 0.0))
    waits = np.maximum(total_by(opens.target, ways[BOUND] - held, len(held)), 0.0)
    led = np.maximum(ways[SERVED] * waits[opens.target] + ways[OPENS], 0.0)
    return np.asarray(led / max(1 - float(held.sum()), FEW))
