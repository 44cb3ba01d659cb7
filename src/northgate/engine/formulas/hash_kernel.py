"""Which of many targets has the highest hash, for very many keys: as a loop, compiled."""

import numpy as np

from northgate.engine.base import Ints, Ints1, Words1, compiled_alone, part

_ONE, _TWO = np.uint64(0xBF58476D1CE4E5B9), np.uint64(0x94D049BB133111EB)
_SHIFT, _LAST, _UNUSED = np.uint64(27), np.uint64(31), np.uint64(11)
# The finaliser's last step leaves the upper 31 bits as they are: who has the highest ones has the highest hash.
_UPPER = np.uint64(33)
# So many targets are looked at before it is noted where the highest was.
_BLOCK = 192


@part
def _highest(key: np.uint64, folded: Words1) -> np.uint64:
    """The highest product, the finaliser's last step left out."""
    highest = np.uint64(0)
    for number in range(folded.shape[0]):
        mixed = key ^ folded[number]
        mixed *= _ONE
        mixed ^= mixed >> _SHIFT
        mixed *= _TWO
        highest = mixed if mixed > highest else highest
    return highest >> _UPPER


@part
def _first_of_highest(key: np.uint64, folded: Words1, start: np.int64, end: np.int64) -> np.int64:
    """The first position from start to end with the highest hash."""
    best, where = np.int64(-1), start
    for number in range(start, end):
        mixed = key ^ folded[number]
        mixed *= _ONE
        mixed ^= mixed >> _SHIFT
        mixed *= _TWO
        hashed = np.int64((mixed ^ (mixed >> _LAST)) >> _UNUSED)
        if hashed > best:
            best, where = hashed, np.int64(number)
    return where


@compiled_alone
def _find_winners(keys: Words1, folded: Words1, made: Ints1) -> None:
    for number in range(keys.shape[0]):
        highest, first, last = np.uint64(0), np.int64(0), np.int64(0)
        for block in range(0, folded.shape[0], _BLOCK):
            start = np.int64(block)
            upper = _highest(keys[number], folded[start : start + _BLOCK])
            if upper > highest:
                highest, first = upper, start
            if upper == highest:
                last = start
        made[number] = _first_of_highest(keys[number], folded, first, np.int64(min(last + _BLOCK, folded.shape[0])))


def highest_hashes(mixed: Words1, targets: Words1) -> Ints:
    """Per mixed key (uint64) the position of the target (uint64) with the highest `mix64(key xor target) >> 11`, the
    first of equal ones; `len(targets)` > 0. Lets go of the interpreter while it works."""
    made = np.empty(len(mixed), dtype=np.int64)
    first_step = np.uint64(30)
    # The first step of the finaliser is linear: it is done once for each key and target, not for each pair.
    _find_winners(mixed ^ (mixed >> first_step), targets ^ (targets >> first_step), made)
    return made
