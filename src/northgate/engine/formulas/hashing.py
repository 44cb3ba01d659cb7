"""Weighted rendezvous hashing: which target a key falls to, so that a target which leaves moves only its own keys.

Sources: D. Thaler and C. Ravishankar, "Using name-based mappings to increase hit rates" (1998), for highest random
weight; the score -w / ln h for weights; S. Vigna's splitmix64 finaliser; Fowler, Noll and Vo's FNV-1a.
"""

import os
from collections.abc import Sequence

import numpy as np

from northgate.engine.base import Floats, Ints, distinct
from northgate.engine.formulas.hash_kernel import highest_hashes

Keys = np.ndarray
"""64-bit unsigned numbers."""
_ONE, _TWO = np.uint64(0xBF58476D1CE4E5B9), np.uint64(0x94D049BB133111EB)
_FNV_BASIS, _FNV_PRIME, _MASK = 0xCBF29CE484222325, 0x100000001B3, (1 << 64) - 1
# So many scores are worked on at once: they then stay within the processor's cache.
BLOCK = 1 << 15
# From so many scores on, all processors work on them, and a compiled loop finds the best, if no more than so many
# different weights stand beside each other.
MANY, WEIGHTS = 1 << 22, 16
# Of so many times as many the first few are picked out before they are ordered.
FEW = 4


def mix64(values: Keys) -> Keys:
    """The splitmix64 finaliser of each value (64 bits, wrapping around)."""
    mixed = values ^ (values >> np.uint64(30))
    mixed *= _ONE
    mixed ^= mixed >> np.uint64(27)
    mixed *= _TWO
    return np.asarray(mixed ^ (mixed >> np.uint64(31)))


def fnv1a64(text: str) -> int:
    """The FNV-1a hash of a text's UTF-8 bytes."""
    value = _FNV_BASIS
    for byte in text.encode():
        value = ((value ^ byte) * _FNV_PRIME) & _MASK
    return value


def target_keys(names: Sequence[str]) -> Keys:
    """The hash of each target's name."""
    return np.array([fnv1a64(name) for name in names], dtype=np.uint64)


def address_keys(numbers: Sequence[int]) -> Keys:
    """Addresses as keys: an IPv4 address is its number; of an IPv6 address both halves are mixed into one."""
    low = np.array([number & _MASK for number in numbers], dtype=np.uint64)
    high = np.array([number >> 64 for number in numbers], dtype=np.uint64)
    return np.where(high == 0, low, low ^ mix64(high)) if high.any() else low


def flow_key(source: int, source_port: int, destination: int, port: int, protocol: str) -> int:
    """A connection's five parts (addresses, ports, protocol) as one key."""
    number = {"tcp": 6, "udp": 17}[protocol]
    ends = address_keys([source, destination])
    ports = np.array([(source_port << 32) | (port << 8) | number], dtype=np.uint64)
    return int((mix64(ends[:1]) ^ mix64(mix64(ends[1:]) ^ ports))[0])


def winners(keys: Keys, targets: Keys, weights: Floats) -> Ints:
    """The position of the target to which each key falls: the highest -w / ln h, the first of equal ones.

    h = ((mix64(mix64(key) xor target) >> 11) + 0.5) / 2^53. Targets of weight 0 get nothing.
    """
    usable = np.flatnonzero(weights > 0)
    mixed, wanted, weight = mix64(keys), targets[usable], weights[usable]
    if len(keys) * len(usable) < MANY:
        return np.asarray(usable[_best(mixed, wanted, weight)])
    best = _best_compiled if len(distinct(weight)) <= WEIGHTS else _best
    # Loaded where there is so much to do.
    from concurrent.futures import ThreadPoolExecutor

    workers = os.cpu_count() or 1
    with ThreadPoolExecutor(workers) as pool:
        parts = pool.map(lambda some: best(some, wanted, weight), np.array_split(mixed, workers * 4))
        return np.asarray(usable[np.concatenate(list(parts))])


def _best(mixed: Keys, targets: Keys, weights: Floats) -> Ints:
    """The position of the best target for each mixed key, block by block."""
    best = np.empty(len(mixed), dtype=np.int64)
    rows = max(1, BLOCK // max(len(targets), 1))
    alike = len(targets) > 0 and bool((weights == weights[0]).all())
    for start in range(0, len(mixed), rows):
        hashed = mix64(mixed[start : start + rows, None] ^ targets[None, :])
        score = hashed >> np.uint64(11) if alike else _scores(hashed, weights)
        best[start : start + rows] = score.argmax(axis=1)
    return best


def _best_compiled(mixed: Keys, targets: Keys, weights: Floats) -> Ints:
    """What `_best` gives, by the compiled loop: the best of each weight, and then the best of those."""
    best = np.zeros(len(mixed), dtype=np.int64)
    score = np.full(len(mixed), -np.inf)
    for weight in distinct(weights):
        alike = np.flatnonzero(weights == weight)
        other = alike[highest_hashes(mixed, targets[alike])]
        got = _scores(mix64(mixed ^ targets[other]), weights[other])
        takes = (got > score) | ((got == score) & (other < best))
        best, score = np.where(takes, other, best), np.where(takes, got, score)
    return best


def _scores(hashed: Keys, weights: Floats) -> Floats:
    h = ((hashed >> np.uint64(11)).astype(np.float64) + 0.5) / 2.0**53
    return np.asarray(-weights / np.log(h))


def ranking(keys: Keys, targets: Keys, weights: Floats, count: int) -> Ints:
    """The positions of the targets with the highest scores for each key, best first: (keys, count), -1 where there are
    no more of weight > 0."""
    usable = np.flatnonzero(weights > 0)
    made = np.full((len(keys), count), -1, dtype=np.int64)
    found = min(count, len(usable))
    rows = max(1, BLOCK // max(len(usable), 1))
    for start in range(0, len(keys) if found else 0, rows):
        hashed = mix64(mix64(keys[start : start + rows])[:, None] ^ targets[usable][None, :])
        made[start : start + rows, :found] = usable[_order(-_scores(hashed, weights[usable]), found)]
    return made


def _order(values: Floats, count: int) -> Ints:
    """The positions of the lowest values of each row, in their order; of equal ones the first comes first."""
    if count * FEW > values.shape[1]:
        return np.argsort(values, axis=1, kind="stable")[:, :count]
    # One more than wanted, as of equal ones at the end either may be left out.
    some = np.sort(np.argpartition(values, count, axis=1)[:, : count + 1], axis=1)
    order = np.argsort(np.take_along_axis(values, some, axis=1), axis=1, kind="stable")
    return np.take_along_axis(some, order, axis=1)[:, :count]


def best_scores(keys: Keys, targets: Keys, weights: Floats) -> Floats:
    """The score of each key with the target beside it."""
    return _scores(mix64(mix64(keys) ^ targets), weights)


def shares(keys: Keys, targets: Keys, weights: Floats) -> Floats:
    """The share of the keys that falls to each target; sums to 1."""
    return np.bincount(winners(keys, targets, weights), minlength=len(targets)) / len(keys)
