"""The one loop that NumPy is too slow for, compiled: which of many targets has the highest hash, for very many keys.

Imported only when there is so much to do that loading the compiler pays (see `hashing.COMPILED`).
"""

import llvmlite.binding as machine
import numpy as np
from numba import config, njit

from northgate.engine.base import Ints

# The widest vectors that the processor has, which the compiler avoids by default: for this loop they pay.
vars(config)["CPU_NAME"] = machine.get_host_cpu_name()
vars(config)["CPU_FEATURES"] = f"{machine.get_host_cpu_features().flatten()},-prefer-256-bit"
_ONE, _TWO = np.uint64(0xBF58476D1CE4E5B9), np.uint64(0x94D049BB133111EB)
_SHIFT, _LAST, _UNUSED = np.uint64(27), np.uint64(31), np.uint64(11)
# The finaliser's last step leaves the upper 31 bits as they are: who has the highest ones has the highest hash.
_UPPER = np.uint64(33)
# So many targets are looked at before it is noted where the highest was.
_BLOCK = 192


@njit(cache=True, nogil=True)
def _highest(key, folded):  # type: ignore[no-untyped-def]
    """The highest product, the finaliser's last step left out."""
    highest = np.uint64(0)
    for number in range(folded.shape[0]):
        mixed = key ^ folded[number]
        mixed *= _ONE
        mixed ^= mixed >> _SHIFT
        mixed *= _TWO
        highest = mixed if mixed > highest else highest
    return highest >> _UPPER


@njit(cache=True, nogil=True)
def _first_of_highest(key, folded, start, end):  # type: ignore[no-untyped-def]
    """The first position from start to end with the highest hash."""
    best, where = np.int64(-1), start
    for number in range(start, end):
        mixed = key ^ folded[number]
        mixed *= _ONE
        mixed ^= mixed >> _SHIFT
        mixed *= _TWO
        hashed = np.int64((mixed ^ (mixed >> _LAST)) >> _UNUSED)
        if hashed > best:
            best, where = hashed, number
    return where


@njit(cache=True, nogil=True)
def _winners(keys, folded, made):  # type: ignore[no-untyped-def]
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


def highest_hashes(mixed: np.ndarray, targets: np.ndarray) -> Ints:
    """Per mixed key (uint64) the position of the target (uint64) with the highest `mix64(key xor target) >> 11`, the
    first of equal ones; `len(targets)` > 0. Lets go of the interpreter while it works."""
    made = np.empty(len(mixed), dtype=np.int64)
    first_step = np.uint64(30)
    # The first step of the finaliser is linear: it is done once for each key and target, not for each pair.
    _winners(mixed ^ (mixed >> first_step), targets ^ (targets >> first_step), made)
    return made


if __name__ == "__main__":
    highest_hashes(np.zeros(1, dtype=np.uint64), np.zeros(1, dtype=np.uint64))
