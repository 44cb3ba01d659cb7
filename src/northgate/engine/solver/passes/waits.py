"""What becomes of requests that have waited for silent targets before."""

from collections.abc import Hashable

import numpy as np

from northgate.engine.base import (
    BAD_STATUS,
    FAILS,
    KINDS,
    LATE,
    SERVED,
    SPENT,
    TIMED_OUT,
    WORK,
    Bools,
    Floats,
    Ints,
)
from northgate.engine.formulas import Queue, too_late
from northgate.engine.solver.context import Context, Stage, Stop
from northgate.engine.solver.passes.loops import find_late


class Lateness:
    """What is said of who is too late, by where it is asked. While it `holds`, what was said last is said again.

    Where an answer is just too late with the repeats that this makes, and just in time without them, passes would go to
    and fro for ever: what jumps is held, and looked at again once the rest has settled.
    """

    def __init__(self) -> None:
        self.holds = False
        self._said: dict[Hashable, Bools] = {}
        self._found: dict[Hashable, Bools] = {}
        self._settled: set[tuple[bytes, ...]] = set()

    def say(self, where: Hashable, found: Bools) -> Bools:
        """What goes for late, given what is found to be."""
        said = self._said.get(where)
        self._found[where] = found
        if self.holds and said is not None and said.shape == found.shape:
            return said
        self._said[where] = found
        return found

    def hold(self) -> None:
        """From now on what was said last is said again."""
        self.holds, self._found = True, {}

    def goes_on(self) -> bool:
        """All else has settled: whether something else is found now than was said, and has not been said before; it
        goes from now on."""
        otherwise = {
            where: found for where, found in self._found.items() if not np.array_equal(found, self._said[where])
        }
        self._settled.add(tuple(said.tobytes() for said in self._said.values()))
        self._said |= otherwise
        self._found = {}
        return bool(otherwise) and tuple(said.tobytes() for said in self._said.values()) not in self._settled


class Waits(Stage):
    """What becomes of requests that have waited for silent targets before, whose connect time-outs count."""

    def __init__(self, context: Context) -> None:
        super().__init__(context)
        self.lateness = Lateness()
        # What becomes of calls that are followed by class, by how many silent targets they have met before.
        self.after_waits: dict[tuple[int, int], Floats] = {}

    def follow(self, queue: Queue, pair: dict[int, Floats], waits: int) -> None:
        """What becomes of calls whose classes are followed, by how many silent targets they have met before."""
        network, encounter = self.network, self.state.encounter
        for one in self.repeats.pinned:
            for cell in one.spent:
                mine = network.cells.pairs[cell]
                machine = network.pairs.machine[mine]
                values = np.zeros((self.repeats.others[cell] + 1, len(mine), KINDS))
                wait_s = np.arange(len(values))[:, None] * network.pairs.connect_timeout_s[mine]
                latency_s = queue.latency_s[machine] + wait_s
                late = self._late_after(np.full(len(mine), one.fate), mine, latency_s, wait_s, queue, waits)
                values[:, :, list(pair)] = np.array([value[one.fate, mine] for value in pair.values()]).T
                takes = self.repeats.takes[one.fate, mine] & ~self.frame.leads_on[mine]
                taken = np.where(late, 1 - queue.excess[machine], 0.0)
                on_time = np.where(late | encounter.bad_page[one.fate, mine], 0.0, 1 - queue.excess[machine])
                for kind, value in (
                    (SERVED, on_time), (WORK, on_time * latency_s), (TIMED_OUT, taken), (LATE, taken),
                    (BAD_STATUS, np.where(late, 0.0, 1 - queue.excess[machine]) - on_time),
                ):  # fmt: skip
                    values[:, :, kind] = np.where(takes, value, values[:, :, kind])
                budget_s = np.maximum(encounter.budget_s[one.fate, mine] - waits * encounter.connect_s[one.fate], 0.0)
                values[:, :, SPENT] += np.where(takes, (values[:, :, FAILS].sum(axis=2)) * wait_s, 0.0)
                values[:, :, SPENT] = np.minimum(values[:, :, SPENT], budget_s * values[:, :, FAILS].sum(axis=2))
                self.after_waits[one.fate, cell] = values

    def _late_after(
        self, fate: Ints, mine: Ints, latency_s: Floats, wait_s: Floats, queue: Queue, waits: int
    ) -> Bools:  # fmt: skip
        """Whether answers to requests of these fates at these pairs come too late after a front has waited so long for
        silent ones; its own patience for an answer begins anew with each."""
        encounter = self.state.encounter
        slope = queue.slope[self.network.pairs.machine[mine]]
        budget_s = encounter.budget_s[fate, mine] - waits * encounter.connect_s[fate]
        bounds_s = np.minimum(budget_s, encounter.response_s[mine] + wait_s)
        return self.lateness.say(
            (fate.tobytes(), mine.tobytes(), waits, len(wait_s)), too_late(latency_s, slope, bounds_s)
        )

    def after_others(self, pair: dict[int, Floats], queue: Queue, stop: Stop, waits: int) -> None:
        """What becomes of requests that have waited for silent targets before: those connect time-outs count."""
        network, encounter, fate, mine = self.network, self.state.encounter, stop.fate, stop.pairs
        share, waited = stop.share, stop.waited
        machine = network.pairs.machine[mine]
        wait_s = np.arange(len(waited))[:, None] * network.pairs.connect_timeout_s[mine]
        latency_s = queue.latency_s[machine] + wait_s
        late = self._late_after(fate, mine, latency_s, wait_s, queue, waits)
        taken = 1 - queue.excess[machine]
        on_time = np.where(late, 0.0, waited)
        liked = np.where(encounter.bad_page[fate, mine], 0.0, taken / share)
        values = {
            SERVED: on_time.sum(axis=0) * liked,
            WORK: (on_time * latency_s).sum(axis=0) * liked,
            TIMED_OUT: taken * np.where(late, waited, 0.0).sum(axis=0) / share,
            BAD_STATUS: on_time.sum(axis=0) * (taken / share - liked),
            LATE: np.where(late[0], taken, 0.0),
        }
        for kind, value in values.items():
            pair.setdefault(kind, np.zeros((self.fates, len(network.pairs.front))))[fate, mine] = value

    def late(self, queue: Queue, waits: int) -> Bools:
        """Per fate and pair: whether an answer comes too late, after so many connects that took their time-out."""
        encounter = self.state.encounter
        found = np.empty(encounter.bad_page.shape, dtype=bool)
        find_late(
            self.network.pairs.machine, queue.latency_s, queue.slope, encounter.budget_s, encounter.connect_s,
            encounter.response_s, np.array([waits]), found,
        )  # fmt: skip
        return self.lateness.say(waits, found)
