"""Drills that never come to rest, but round and round: what overload drives out, comes back as soon as it is idle.

Once a drill stands as it has stood before, all that follows is more of the same.
"""

from collections import defaultdict
from collections.abc import Iterable, Iterator

import numpy as np
from msgspec import Struct

from northgate.engine.base import DIGITS, Bools, Floats, Ints
from northgate.engine.drill.run import Run
from northgate.engine.processes import Probers

# A drill stands as before when no share and no time (s) on which anything to come depends is further off than this.
SAME = 1e-8
# Whoever turns so often has found another thing, come to believe it, and found what was before: it may come round.
BACK = 3


class Round(Struct, frozen=True):
    """A round that comes again and again: the second at which the last known one has ended, how long one lasts, and
    the requests that fail in each."""

    ends_s: float
    lasts_s: float
    failed: float


class Standing(Struct, frozen=True):
    """All that a run goes on from: `key` what is one thing or another, `numbers` what may be nearly the same. Per
    prober: `next_sent_s` how long until it sends its next probe, and `turns` how often it has turned."""

    key: bytes
    numbers: Floats
    next_sent_s: Floats
    turns: Ints

    @classmethod
    def of(cls, run: Run) -> "Standing":
        """How a run stands whose script has come to its end."""
        sent_s = np.concatenate([one.next_sent_s(run.now) for one in _probers(run)])
        return cls(*_as_one(_parts(run)), sent_s, np.concatenate([one.turns for one in _probers(run)]))

    def like(self, before: "Standing") -> bool:
        """Whether all that follows is what followed when the run stood so before. Who has not turned since then will
        not do so, whenever it sends its probes."""
        if self.key != before.key:
            return False
        turned = self.turns != before.turns
        off = (self.numbers - before.numbers, (self.next_sent_s - before.next_sent_s)[turned])
        return all(bool(np.abs(one).max(initial=0.0) <= SAME) for one in off)


def _as_one(parts: Iterable[Bools | Floats | Ints]) -> tuple[bytes, Floats]:
    """What these arrays are, and their numbers; it is one thing or another whether a number is finite."""
    told, numbers = list[bytes](), list[Floats]([np.zeros(0)])
    for part in parts:
        flat = part.ravel()
        told.append(len(flat).to_bytes(8))
        if flat.dtype != np.float64:
            told.append(flat.tobytes())
            continue
        finite = np.isfinite(flat)
        told.append(finite.tobytes())
        numbers.append(flat[finite].astype(np.float64))
    return b"".join(told), np.concatenate(numbers)


def _probers(run: Run) -> tuple[Probers, Probers]:
    return run.targets.probers, run.names.probers


def _parts(run: Run) -> Iterator[Bools | Floats | Ints]:
    flow = run.flow
    yield from flow.state.numbers
    # A retry storm goes on from how often calls are tried.
    yield flow.attempts.numbers
    others = (run.fronts.addresses, run.drains, run.warmup, run.scaling, run.demand, run.resolvers, run.anew)
    for one in (*_probers(run), *others):
        yield from one.stands(run.now)


class Rounds:
    """Looks whether a run goes round and round."""

    def __init__(self) -> None:
        self.again: Round | None = None
        # The seconds after which something has to settle, what had failed by then, and how the run stood.
        self._before: dict[bytes, list[tuple[float, float, Standing]]] = defaultdict(list)

    def found(self, run: Run) -> bool:
        """Whether it does, by all that has happened so far. Before anything has turned and turned back there is no
        round."""
        if run.journal.unsettled_s != run.now or max(one.turns.max(initial=0) for one in _probers(run)) < BACK:
            return False
        stands = Standing.of(run)
        before = self._before[stands.key]
        for at_s, failed, stood in before:
            if stands.like(stood):
                self.again = Round(run.now, round(run.now - at_s, DIGITS), run.totals.failed - failed)
                return True
        before.append((run.now, run.totals.failed, stands))
        return False
