"""What becomes of requests that have waited for silent targets before."""

from collections.abc import Hashable

import numpy as np

from northgate.engine.base import KINDS, Bools, Floats, Ints
from northgate.engine.formulas import Queue
from northgate.engine.solver.context import Context, Stage, Stop
from northgate.engine.solver.passes.anyway import anyway
from northgate.engine.solver.passes.loops import find_after_others, find_followed, find_late, find_late_after


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
        # What becomes of calls that are followed by class, by how many silent targets they have met before: (silent
        # ones, targets of `Courses`, kinds).
        self.after_waits = np.zeros((0, 0, KINDS))

    def follow(self, queue: Queue, values: Floats, waits: int) -> None:
        """What becomes of calls whose classes are followed, by how many silent targets they have met before."""
        if not self.repeats.goes_on:
            return
        pairs, encounter, courses = self.network.pairs, self.state.encounter, self.repeats.spreading.courses
        made = np.empty((courses.most_tries + 1, len(courses.pair), KINDS))
        late = self._late_after(courses.fate_of_target, courses.pair, len(made), queue, waits)
        find_followed(
            self.unloaded.derived(anyway).kinds, values, courses.fate_of_target, courses.pair, pairs.machine,
            queue.latency_s, queue.excess, late, self.repeats.takes, self.frame.leads_on, encounter.bad_page,
            encounter.budget_s, encounter.connect_s, pairs.connect_timeout_s, np.array([waits]), made,
        )  # fmt: skip
        self.after_waits = made

    def _late_after(self, fate: Ints, mine: Ints, count: int, queue: Queue, waits: int) -> Bools:
        """Whether answers to requests of these fates at these pairs come too late after a front has waited for 0, 1,
        ... silent ones; its own patience for an answer begins anew with each."""
        encounter, pairs = self.state.encounter, self.network.pairs
        found = np.empty((count, len(mine)), dtype=bool)
        find_late_after(
            fate, mine, pairs.machine, queue.latency_s, queue.slope, encounter.budget_s, encounter.connect_s,
            encounter.response_s, pairs.connect_timeout_s, np.array([waits]), found,
        )  # fmt: skip
        return self.lateness.say((fate.tobytes(), mine.tobytes(), waits, count), found)

    def after_others(self, values: Floats, queue: Queue, stop: Stop, waits: int) -> None:
        """What becomes of requests that have waited for silent targets before: those connect time-outs count."""
        pairs, late = self.network.pairs, self._late_after(stop.fate, stop.pairs, len(stop.waited), queue, waits)
        find_after_others(
            self.unloaded.derived(anyway).place, stop.fate, stop.pairs, stop.share, stop.waited,
            pairs.machine, queue.latency_s, queue.excess, late, self.state.encounter.bad_page, pairs.connect_timeout_s,
            values,
        )  # fmt: skip

    def late(self, queue: Queue, waits: int) -> Bools:
        """Per fate and pair: whether an answer comes too late, after so many connects that took their time-out."""
        encounter = self.state.encounter
        found = np.empty(encounter.bad_page.shape, dtype=bool)
        find_late(
            self.network.pairs.machine, queue.latency_s, queue.slope, encounter.budget_s, encounter.connect_s,
            encounter.response_s, np.array([waits]), found,
        )  # fmt: skip
        return self.lateness.say(waits, found)
