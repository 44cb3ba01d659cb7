"""Probes: when each prober changes its mind.

Between two changes of what a prober meets, its results follow from its beat alone, so the second of its next verdict
is computed, never waited for. A prober is one front probing one member (a probed pair of the network).
"""

from collections.abc import Iterator

import numpy as np

from northgate.engine.base import DIGITS, NEVER, Bools, Floats, Ints, where_true
from northgate.engine.processes.probing.beats import Beats, Phases
from northgate.engine.processes.probing.sends import JUST_NOW_S, Findings, Sends

# Who sends a probe now has sent it so much later (s), whatever the last digit.
AFTER_S = 1e-6


class Probers:
    """Probers of one kind: their beats, their counters and what they believe.

    `believes` is per prober: whether it believes the target (or answer) in use.
    """

    def __init__(
        self, beats: Beats, outcome: Findings, phases: Phases, first_change_s: float, by_call: Bools | None = None
    ) -> None:  # fmt: skip
        """`by_call`: whose probes are calls through a balancer. How long these take is known when they are sent, and
        not foretold."""
        self._by_call = np.zeros(len(beats.interval_s), dtype=bool) if by_call is None else by_call
        self._sends = Sends(beats, outcome, phases, first_change_s)
        # Whether any are calls, and whether any of these are sent again so long after their answer.
        self._calls = bool(self._by_call.any())
        self.follows = bool((self._by_call & beats.by_result).any())
        self._fail_after, self._pass_after = beats.fail_after, beats.pass_after
        self.believes = outcome.passes.copy()
        self._fails = np.where(outcome.passes, 0.0, self._fail_after)
        self._passes = np.where(outcome.passes, self._pass_after, 0.0)
        self._alive, self._promised = np.ones(len(self.believes), dtype=bool), np.full(len(self.believes), NEVER)
        # How often each has found another thing, or come to believe one.
        self.turns: Ints = np.zeros(len(beats.interval_s), dtype=np.int64)
        self._due_s: Floats | None = None
        # Whether anything moves by itself, so that calls do not always take as long.
        self.moves = False

    @property
    def just_before(self) -> bool:
        """Whether probes are sent just before what happens at their second."""
        return self._sends.just_before

    def _due(self) -> Floats:
        """The second at which each prober will change its mind as things stand; worked out when something changed."""
        if self._due_s is None:
            self._due_s = self._due_as_things_stand()
            self._next_s = float(self._due_s.min(initial=NEVER))
        return self._due_s

    def _decides_s(self) -> Floats:
        """The second at which each prober sends the probe after which it believes what it finds, as things stand."""
        meets = self._sends.outcome.passes
        needed = np.where(meets, self._pass_after - self._passes, self._fail_after - self._fails)
        return self._sends.after(np.where(meets != self.believes, np.maximum(needed, 1) - 1, 0.0))

    def _due_as_things_stand(self) -> Floats:
        last, sends = self._decides_s(), self._sends
        due = np.where(sends.outcome.passes != self.believes, np.round(last + sends.delay_s(last), DIGITS), NEVER)
        return np.where(self._alive, np.where(self._promised < NEVER, self._promised, due), NEVER)

    def next_verdict_s(self) -> float:
        """The second of the next verdict, inf when none is coming."""
        self._due()
        return self._next_s

    def next_s(self, now: float) -> float:
        """The second of the next verdict; or, sooner, at which a call is sent of which more is to be known than that it
        passes: what it takes is looked at then."""
        if not self._calls or (self.believes.all() and not self.moves):
            return self.next_verdict_s()
        sent_s = self._looked_at_s(now + AFTER_S)
        return min(self.next_verdict_s(), float(sent_s[sent_s > now + JUST_NOW_S].min(initial=NEVER)))

    def _looked_at_s(self, now: float) -> Floats:
        """When each sends the call whose answer will bring a verdict; or the next one from now on, where that goes by
        how long answers take, and they do not always take as long."""
        found, sends = self._sends.outcome, self._sends
        mine = self._by_call & found.passes & (found.delay_s > 0) & self._alive
        awaited = mine & ~self.believes & (self._promised == NEVER)
        made = np.where(awaited, self._decides_s(), NEVER)
        if self.moves and self.follows:
            next_s = sends.after(sends.before(now))
            made = np.where(mine & sends.by_result, np.minimum(made, next_s), made)
        return made

    def _find_out(self, now: float, outcome: Findings) -> None:
        """How long those calls take that are sent just now, before anything else happens; they count from here."""
        mine = outcome.passes & (np.abs(self._looked_at_s(now - AFTER_S) - now) <= JUST_NOW_S)
        if mine.any():
            sent = np.where(mine, self._sends.before(now - AFTER_S), 0.0)
            self._passes = np.minimum(self._passes + sent, self._pass_after)
            self._fails = np.where(sent > 0, 0.0, self._fails)
            self._sends.find_out(outcome.delay_s, sent, mine)
            self._due_s = None

    @property
    def keeps_beat(self) -> bool:
        """Whether probes are sent at the same seconds however long answers take."""
        return self._sends.keeps_beat

    def to_come(self, until: float) -> tuple[Floats, Ints]:
        """The verdicts that come before a second as things stand, in their order: when, and whose."""
        due = self._due()
        mine = where_true(due < until)
        order = mine[np.argsort(due[mine], kind="stable")]
        return due[order], order

    def turn(self, probers: Ints) -> None:
        """These have changed their mind."""
        self._due_s = None
        self.turns[probers] += 1
        self.believes[probers] = ~self.believes[probers]
        self._promised[probers] = NEVER

    def take_verdicts(self, now: float) -> Ints:
        """Changes the beliefs whose verdict has come; returns those probers."""
        changed = where_true(self._due() <= now)
        if len(changed):
            self.turn(changed)
        return changed

    def meet(self, now: float, outcome: Findings) -> None:
        """From now on probes find `outcome`: those sent before keep what they found, and their verdicts stand."""
        if self.just_before and self._calls:
            self._find_out(now, outcome)
        if now >= self._sends.aligned_s:
            self._align(now)
        old = self._sends.outcome
        different = (old.passes != outcome.passes) | (old.delay_s != outcome.delay_s) | (old.slope != outcome.slope)
        different |= self._sends.course.any(axis=1)
        if not different.any():
            return
        due, sent = self._due(), self._sends.before(now)
        met = np.where(old.passes, self._passes, self._fails) + sent
        reached = met >= np.where(old.passes, self._pass_after, self._fail_after)
        standing = different & (old.passes != self.believes) & reached & (due >= now) & (due < NEVER)
        self._promised = np.where(standing, due, self._promised)
        self._count(sent, different)
        self.turns = self.turns + (old.passes != outcome.passes)
        self._sends.find(now, outcome, sent, different)
        self._due_s = None

    def _count(self, sent: Floats, which: Bools) -> None:
        """So many probes of some have found what is found until now."""
        found = self._sends.outcome.passes
        passes = np.where(sent > 0, np.where(found, self._passes + sent, 0.0), self._passes)
        fails = np.where(sent > 0, np.where(found, 0.0, self._fails + sent), self._fails)
        self._passes = np.where(which, np.minimum(passes, self._pass_after), self._passes)
        self._fails = np.where(which, np.minimum(fails, self._fail_after), self._fails)

    def _align(self, now: float) -> None:
        """With the first change, under the best and the worst phases, whoever goes by results sends a probe, however
        long answers have taken until then; but who is about to change his mind."""
        sends = self._sends
        mine = sends.by_result & (sends.outcome.passes == self.believes) & (self._promised == NEVER)
        sent = np.where(mine, sends.nearest(now), 0.0)
        self._count(sent, mine)
        sends.align(now, mine)
        self._due_s = None

    def stands(self, now: float) -> Iterator[Bools | Floats]:
        """All that verdicts to come depend on, but `next_sent_s`: beliefs, what has been counted, and what is found;
        seconds are from now."""
        sends, passes = self._sends, self._sends.outcome.passes
        sent, (delay_s, slope, course) = sends.before(now), sends.goes_on(now)
        counted = np.where(passes, self._passes, self._fails) + sent
        needed = np.where(passes, self._pass_after, self._fail_after)
        yield from (self.believes, self._alive, passes, np.minimum(counted, needed))
        # The first probe that finds otherwise begins to count anew.
        yield np.where(sent > 0, 0.0, np.where(passes, self._fails, self._passes))
        yield from (self._due() - now, delay_s, slope, *course.T)

    def next_sent_s(self, now: float) -> Floats:
        """How long until each sends its next probe (s)."""
        return np.asarray(self._sends.after(self._sends.before(now)) - now)

    def drift(self, now: float, course: Floats) -> None:
        """How the delay of each goes on from now on, beside its slope: (probers, columns of `COURSE`)."""
        if course.any():
            # What is found now is known; where that is as before, nothing has moved since.
            self._sends.course, self._sends.since_s, self._due_s = course, now, None

    def start(self, which: Bools) -> None:
        """These begin anew: out, with no passes."""
        self.turns = self.turns + which
        self.believes = np.where(which, False, self.believes)
        self._passes = np.where(which, 0.0, self._passes)
        self._fails = np.where(which, self._fail_after, self._fails)
        self._promised = np.where(which, NEVER, self._promised)
        self._due_s = None

    def returning(self, alive: Bools) -> Bools:
        """Which run from now on that did not, if these are to."""
        return alive & ~self._alive

    def set_alive(self, alive: Bools) -> None:
        """Which probers run at all; those that return believe at once what they find."""
        if np.array_equal(alive, self._alive):
            return
        self._due_s = None
        back = self.returning(alive)
        self._alive = alive.copy()
        passes = self._sends.outcome.passes
        self.turns = self.turns + back
        self.believes = np.where(back, passes, self.believes)
        self._promised = np.where(back, NEVER, self._promised)
        self._fails = np.where(back, np.where(passes, 0.0, self._fail_after), self._fails)
        self._passes = np.where(back, np.where(passes, self._pass_after, 0.0), self._passes)
