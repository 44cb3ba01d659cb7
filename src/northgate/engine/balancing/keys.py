"""Where the keys of a hash fall."""

from collections.abc import Sequence

import numpy as np
from msgspec import Struct, field
from msgspec.structs import replace

from northgate.engine.base import Bools1, Floats, Ints, Ints2, compiled
from northgate.engine.formulas import Keys, best_scores, ranking, winners
from northgate.engine.network import Network, Segment

# Of so many keys times targets it is kept which targets each key would fall to one after the other, the first few.
RANKED, FIRST = 1 << 24, 7


class _Ranked(Struct, frozen=True):
    """The first few targets of each key, by these weights: (keys, FIRST), -1 where there are no more."""

    weight: Floats
    order: Ints

    def fits(self, weight: Floats) -> bool:
        """Whether some targets weigh nothing, and the others what they are ranked by."""
        return not ((weight > 0) & (weight != self.weight)).any()

    def orders(self, keys: Keys, targets: Keys, weight: Floats, count: int) -> Ints:
        """What `ranking` gives by these weights, which fit; no more than FIRST."""
        made, weighs = np.empty((len(keys), count), dtype=np.int64), weight > 0
        _find_orders(self.order, weighs, made)
        few = made[:, min(count, int(weighs.sum())) - 1] < 0
        if few.any():
            made[few] = ranking(keys[few], targets, weight, count)
        return made

    def winners(self, keys: Keys, targets: Keys, weight: Floats) -> Ints:
        """Where keys fall by these weights, which fit."""
        return np.asarray(self.orders(keys, targets, weight, 1)[:, 0])


@compiled
def _find_orders(order: Ints2, weighs: Bools1, made: Ints2) -> None:
    """The first targets of each key that weigh anything, -1 where its order holds no more."""
    for key in range(len(order)):
        found = 0
        for place in range(order.shape[1]):
            target = order[key, place]
            if target >= 0 and weighs[target] and found < made.shape[1]:
                made[key, found] = target
                found += 1
        for place in range(found, made.shape[1]):
            made[key, place] = -1


class _Fallen(Struct, frozen=True):
    """Where the keys of a segment fall among the members of a cell, as last asked."""

    weight: Floats
    winner: Ints
    ranked: _Ranked | None = None

    def moved(self, keys: Keys, targets: Keys, weight: Floats) -> "_Fallen":
        """Where they fall after weights have changed."""
        comes_or_goes = (weight == 0) | (self.weight == 0) | (weight == self.weight)
        if len(keys) * len(targets) > RANKED or not comes_or_goes.all():
            return _Fallen(weight, _moved(keys, targets, self, weight))
        ranked = self.ranked_by(keys, targets, weight)
        return _Fallen(weight, ranked.winners(keys, targets, weight), ranked)

    def ranked_by(self, keys: Keys, targets: Keys, weight: Floats) -> _Ranked:
        """The first few targets of each key, by weights that these fit."""
        if self.ranked is not None and self.ranked.fits(weight):
            return self.ranked
        known = self.weight if self.ranked is None else np.maximum(self.weight, self.ranked.weight)
        whole = np.where(weight > 0, weight, known)
        return _Ranked(whole, ranking(keys, targets, whole, FIRST))


class KeyTable(Struct):
    """Remembers where keys fell, so that a target that leaves or joins moves only its own keys. Owned by one solver."""

    network: Network
    fallen: dict[tuple[bytes, bytes], _Fallen] = field(default_factory=dict)

    def copy(self) -> "KeyTable":
        """Another that remembers the same, for another solver."""
        return KeyTable(self.network, dict(self.fallen))

    def shares(self, cell: int, segments: Sequence[Segment], weight: Floats) -> list[Floats]:
        """The share of each segment's sources that falls to each pair of a cell with these weights."""
        whole = weight.sum()
        if whole <= 0:
            return [weight for _ in segments]
        member = self.network.pairs.member[self.network.cells.pairs[cell]]
        targets, digest = self.network.members.keys[member], member.tobytes()
        self._learn(digest, targets, segments, weight)
        made = []
        for segment in segments:
            if not len(segment.keys):
                made.append(weight / whole)
                continue
            known = self.fallen[digest, segment.digest]
            if not np.array_equal(known.weight, weight):
                known = self.fallen[digest, segment.digest] = known.moved(segment.keys, targets, weight)
            made.append(np.bincount(known.winner, minlength=len(weight)) / len(segment.keys))
        return made

    def winners(self, cell: int, segment: Segment, weight: Floats) -> Ints:
        """The position in the cell of the pair to which each of a segment's sources falls."""
        self.shares(cell, [segment], weight)
        return self.fallen[self.network.pairs.member[self.network.cells.pairs[cell]].tobytes(), segment.digest].winner

    def orders(self, cell: int, segment: Segment, weight: Floats, tries: int) -> Ints:
        """The pairs (positions in the cell) that each of a segment's sources would be sent to one after the other:
        (sources, at most tries + 1), -1 where there are no more."""
        member = self.network.pairs.member[self.network.cells.pairs[cell]]
        keys, targets, digest = segment.keys, self.network.members.keys[member], member.tobytes()
        if not 0 < len(keys) * len(targets) <= RANKED or tries >= FIRST or not weight.any():
            return ranking(keys, targets, weight, tries + 1)
        self._learn(digest, targets, [segment], weight)
        known = self.fallen[digest, segment.digest]
        ranked = known.ranked_by(keys, targets, weight)
        self.fallen[digest, segment.digest] = replace(known, ranked=ranked)
        return ranked.orders(keys, targets, weight, tries + 1)

    def _learn(self, digest: bytes, targets: Keys, segments: Sequence[Segment], weight: Floats) -> None:
        """Where the keys of segments fall that have not been asked for yet, of all of them at once."""
        new = {one.digest: one.keys for one in segments if len(one.keys) and (digest, one.digest) not in self.fallen}
        if not new:
            return
        ends = np.cumsum([len(keys) for keys in new.values()])
        found = np.split(winners(np.concatenate(list(new.values())), targets, weight), ends[:-1])
        self.fallen |= {(digest, one): _Fallen(weight, winner) for one, winner in zip(new, found, strict=True)}


def _moved(keys: Keys, targets: Keys, known: _Fallen, weight: Floats) -> Ints:
    """Where keys fall after weights have changed: only what concerns those that changed is worked out anew."""
    changed = known.weight != weight
    winner = known.winner.copy()
    lost = changed[winner]
    if lost.any():
        winner[lost] = winners(keys[lost], targets, weight)
    raised = np.flatnonzero(changed & (weight > known.weight))
    if len(raised):
        stay = np.flatnonzero(~lost)
        mine = best_scores(keys[stay], targets[winner[stay]], weight[winner[stay]])
        for one in raised:
            other = best_scores(keys[stay], targets[one], weight[one])
            takes = (other > mine) | ((other == mine) & (one < winner[stay]))
            winner[stay[takes]], mine = one, np.where(takes, other, mine)
    return winner
