"""Who is chosen: tiers, groups and targets as each front sees them."""

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from northgate.engine.balancing import least_connections, two_choices
from northgate.engine.hashing import Keys, best_scores, ranking, winners
from northgate.engine.network import Network
from northgate.engine.sources import Segment
from northgate.engine.types import Bools, Floats, Ints, kept, total_by


@dataclass(frozen=True)
class Choice:
    """How each front chooses: per cell the share of its route, per pair its weight in its cell, per route what fails.

    `lane_share[l]` is the share of its route's requests that go through lane l; `route_refused` the share that finds
    nobody (cause none_healthy); `pair_weight` is 0 for those that are left out, `candidate` says who is not.
    """

    route_choice: Ints
    lane_share: Floats
    route_refused: Floats
    pair_weight: Floats
    candidate: Bools
    cell_in_use: Floats
    cell_targets: Floats
    cell_anyway: Bools


def choose(network: Network, in_use: Bools, warmth: Floats, here: Bools) -> Choice:
    """Tiers, groups and candidates as each front sees them; `warmth` lowers the weight of those that start slowly,
    `here` says which pairs have a target at all."""
    pairs, routes = network.pairs, network.routes
    cells = len(routes.cell_front)
    counted = (pairs.weight > 0) & here
    cell_in_use = total_by(pairs.cell, in_use & counted, cells)
    cell_targets = total_by(pairs.cell, counted, cells)
    choice_in_use = _sum_of_lanes(network, cell_in_use)
    route_choice = _serving_choice(network, choice_in_use, _sum_of_lanes(network, cell_targets))
    serving = route_choice[routes.lane_route] == routes.lane_choice
    anyway = serving & (choice_in_use == 0)[routes.lane_choice] & _sends_anyway(network)
    anyway &= (cell_targets > 0)[routes.lane_cell]
    lane_share, refused = _lane_shares(network, serving, (cell_in_use > 0)[routes.lane_cell] | anyway, choice_in_use)
    cell_anyway = total_by(routes.lane_cell, anyway, cells) > 0
    candidate = counted & (in_use | cell_anyway[pairs.cell])
    weight = _weights(network, np.where(candidate, pairs.weight * warmth, 0.0))
    return Choice(
        route_choice, lane_share, refused, weight, candidate & (weight > 0), cell_in_use, cell_targets, cell_anyway
    )


def _sum_of_lanes(network: Network, of_cell: Floats) -> Floats:
    """Sums a value of cells over the lanes of each choice."""
    routes = network.routes
    return total_by(routes.lane_choice, of_cell[routes.lane_cell], len(routes.choice_route))


def _serving_choice(network: Network, known: Floats, whole: Floats) -> Ints:
    """Per route the first choice with enough targets in use, else the first with any, else the first."""
    routes = network.routes
    choices = len(routes.choice_route)
    enough = (known >= routes.choice_min_count) & (known >= routes.choice_min_share * whole - 1e-9) & (known > 0)
    best = routes.first_choice.copy()
    for fitting in (known > 0, enough):
        first = np.full(len(best), choices)
        np.minimum.at(first, routes.choice_route[fitting], np.flatnonzero(fitting))
        best = np.where(first < choices, first, best)
    return best


def _sends_anyway(network: Network) -> Bools:
    """Per lane: its group sends to all its targets when none is healthy."""
    groups = network.plan.target_groups
    anyway = np.array([group.when_none_healthy == "send-anyway" for group in groups], dtype=bool)
    return anyway[network.routes.cell_group[network.routes.lane_cell]] if len(anyway) else np.zeros(0, dtype=bool)


def _lane_shares(network: Network, serving: Bools, lane_serves: Bools, choice_in_use: Floats) -> tuple[Floats, Floats]:
    """The share of each route's requests per lane, and per route the share that finds nobody.

    An empty group's weight is shared out, or fails, as its tier says; when the whole tier is empty, each group's
    weight is its own affair.
    """
    routes = network.routes
    count = len(routes.route_front)
    weight = np.where(serving, routes.lane_weight, 0.0)
    filled = np.where(lane_serves, weight, 0.0)
    shares_out = routes.choice_shares_out & (choice_in_use > 0)
    based_on = np.where(shares_out[routes.lane_choice], filled, weight)
    base = total_by(routes.lane_route, based_on, count)[routes.lane_route]
    share = np.divide(filled, base, out=np.zeros_like(filled), where=base > 0)
    refused = np.divide(based_on - filled, base, out=np.zeros_like(filled), where=base > 0)
    lost = total_by(routes.lane_route, refused, count)
    given = total_by(routes.lane_route, share, count)
    return share, np.where(given + lost > 0, lost, 1.0)


def _weights(network: Network, weight: Floats) -> Floats:
    """The candidates' weights; a `prefer-zone` cell keeps to its own zone's while it has any."""
    pairs, routes = network.pairs, network.routes
    prefers = np.array([group.reach == "prefer-zone" for group in network.plan.target_groups], dtype=bool)
    if not prefers.any():
        return weight
    own = np.where(pairs.same_zone, weight, 0.0)
    has_own = total_by(pairs.cell, own, len(routes.cell_front)) > 0
    return np.where((prefers[routes.cell_group] & has_own)[pairs.cell], own, weight)


def even_shares(network: Network, weight: Floats) -> Floats:
    """Each pair's share of its cell by weight; sums to 1 over a cell that has anybody to choose."""
    cell = network.pairs.cell
    whole = total_by(cell, weight, len(network.routes.cell_front))[cell]
    return np.divide(weight, whole, out=np.zeros_like(weight), where=whole > 0)


@dataclass
class _Fallen:
    """Where the keys of a segment fall among the members of a cell, as last asked."""

    weight: Floats
    winner: Ints


@dataclass
class HashTable:
    """Remembers where keys fell, so that one that leaves or joins moves only its own."""

    network: Network
    fallen: dict[tuple[bytes, int], _Fallen] = field(default_factory=dict)

    def shares(self, cell: int, segments: Sequence[Segment], weight: Floats) -> list[Floats]:
        """The share of each segment's sources that falls to each pair of a cell with these weights."""
        whole = weight.sum()
        if whole <= 0:
            return [weight for _ in segments]
        member = self.network.pairs.member[self.network.cell_pairs[cell]]
        targets, digest = self.network.member_keys[member], member.tobytes()
        self._learn(digest, targets, segments, weight)
        made = []
        for segment in segments:
            if not len(segment.keys):
                made.append(weight / whole)
                continue
            known = self.fallen[digest, segment.digest]
            if not np.array_equal(known.weight, weight):
                known = _Fallen(weight, _moved(segment.keys, targets, known, weight))
                self.fallen[digest, segment.digest] = known
            made.append(np.bincount(known.winner, minlength=len(weight)) / len(segment.keys))
        return made

    def winners(self, cell: int, segment: Segment, weight: Floats) -> Ints:
        """The position in the cell of the pair to which each of a segment's sources falls."""
        self.shares(cell, [segment], weight)
        return self.fallen[self.network.pairs.member[self.network.cell_pairs[cell]].tobytes(), segment.digest].winner

    def orders(self, cell: int, segment: Segment, weight: Floats, tries: int) -> Ints:
        """The pairs (positions in the cell) that each of a segment's sources would be sent to one after the other:
        (sources, at most tries + 1), -1 where there are no more."""
        targets = self.network.member_keys[self.network.pairs.member[self.network.cell_pairs[cell]]]
        return ranking(segment.keys, targets, weight, tries + 1)

    def _learn(self, digest: bytes, targets: Keys, segments: Sequence[Segment], weight: Floats) -> None:
        """Where the keys of segments fall that have not been asked for yet, of all of them at once."""
        new = {one.digest: one.keys for one in segments if len(one.keys) and (digest, one.digest) not in self.fallen}
        if not new:
            return
        ends = np.cumsum([len(keys) for keys in new.values()])
        found = np.split(winners(np.concatenate(list(new.values())), targets, weight), ends[:-1])
        self.fallen |= {(digest, one): _Fallen(weight, winner) for one, winner in zip(new, found, strict=True)}


@kept
def hash_table(network: Network) -> HashTable:
    """The hash table of a network."""
    return HashTable(network)


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


def busy_shares(
    network: Network, weight: Floats, hold_s: Floats, refuses: Bools, silent: Bools, cell_rps: Floats, share: Floats
) -> Floats:
    """Shares of the cells that choose by how busy targets are; the others' stay as they are. All per pair."""
    made = share.copy()
    for cell, method in enumerate(network.cell_method):
        if method not in ("least-connections", "two-choices"):
            continue
        mine = network.cell_pairs[cell]
        if not (weight[mine] > 0).any():
            continue
        if method == "least-connections":
            made[mine] = least_connections(weight[mine], hold_s[mine], refuses[mine], float(cell_rps[cell]))
        else:
            made[mine] = two_choices(weight[mine], hold_s[mine], refuses[mine], silent[mine])
    return made
