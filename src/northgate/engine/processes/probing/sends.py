"""When probes are sent, and how long their answers take."""

import math

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from northgate.engine.base import NEVER, Bools, Bools1, Floats, Floats1, Floats2, compiled, part
from northgate.engine.formulas import wait_s
from northgate.engine.processes.probing.beats import Beats, Phases

# In so short a time (s) no second probe is sent.
JUST_NOW_S = 1e-9
# So near (beats) to the second of a probe is at it.
ON_BEAT = 1e-9

# Columns of a course, by which answers come to take longer: t^2 and t^3 of what their backlog adds (s/s^2, s/s^3); how
# the utilisation of their station goes, whose mean wait they meet: as u0 + a t + b t^2 (a in 1/s, b in 1/s^2); and the
# station itself: requests/s, servers, and Erlang's B as at u0 where there are very many of these: hardly anybody waits.
SQUARED, CUBED, USED, FASTER, BENDS, CAPACITY, SERVERS, BLOCKED = COURSE = range(8)


class Findings(Struct, frozen=True):
    """What a probe sent now would find, per prober: a pass or not, the seconds until that is known, and how fast that
    delay grows (seconds per second). `spare`: how far it is from finding the other thing, above 0 for a pass, in
    seconds or shares; it changes as load does."""

    passes: Bools
    delay_s: Floats
    slope: Floats
    spare: Floats


class Sends:
    """When probes are sent, and how long their answers take. `by_result`: the next is sent so long after the answer.
    `outcome` is what each finds since `since_s`, `course` (probers, columns) how its delay goes on from there beside
    its slope, and `first_s` when each has sent the first since it found another thing."""

    def __init__(self, beats: Beats, outcome: Findings, phases: Phases, first_change_s: float) -> None:
        self._interval_s, self.by_result = beats.interval_s, beats.by_result
        # In the worst case every probe is sent just before the step: at the limit, a send at t still sees what was.
        self.just_before = phases == "worst"
        self.outcome, self.since_s, self.course = outcome, 0.0, np.zeros((len(outcome.passes), len(COURSE)))
        spread = phases == "spread"
        # When those who go by results are to be at the first change: until it has come.
        self.aligned_s = NEVER if spread or self.keeps_beat else first_change_s
        self.first_s = beats.spread * self._interval_s if spread else np.mod(first_change_s, self._beat())

    @property
    def keeps_beat(self) -> bool:
        """Whether probes are sent at the same seconds however long answers take."""
        return not self.by_result.any()

    def _beat(self) -> Floats:
        """Seconds from one send to the next, while answers take as long."""
        return self._interval_s + np.where(self.by_result, self.outcome.delay_s, 0.0)

    def delay_s(self, sent_s: Floats) -> Floats:
        """How long the answers take to the probes that each sends at a second."""
        made = np.empty(len(sent_s))
        _find_delays(sent_s, self.outcome.delay_s, self.outcome.slope, self.course, np.array([self.since_s]), made)
        return made

    def goes_on(self, now: float) -> tuple[Floats, Floats, Floats]:
        """How long the answers to probes of now take, how fast that grows, and its course from now on."""
        later, (squared, cubed, used, faster, bends, *station) = now - self.since_s, self.course.T
        slope = self.outcome.slope + (2 * squared + 3 * cubed * later) * later
        used_now, faster_now = used + (faster + bends * later) * later, faster + 2 * bends * later
        course = [squared + 3 * cubed * later, cubed, used_now, faster_now, bends, *station]
        return self.delay_s(np.full(len(slope), now)), slope, np.stack(course, axis=1)

    @property
    def _pace(self) -> tuple[Floats, Bools, Floats, Floats, Floats, Floats]:
        """What seconds between probes follow from, as loops take it."""
        found = self.outcome
        return self._interval_s, self.by_result, found.delay_s, found.slope, self.course, np.array([self.since_s])

    def after(self, count: Floats) -> Floats:
        """The second at which each sends the probe that comes so many after the first."""
        made = np.empty(len(count))
        _find_after(count, self.first_s, *self._pace, made)
        return made

    def before(self, now: float) -> Floats:
        """How many probes each has sent up to now; the beat of who has stopped goes on."""
        made = np.empty(len(self.first_s))
        _find_before(np.array([now]), np.array([self.just_before]), self.first_s, *self._pace, made)
        return made

    def nearest(self, now: float) -> Floats:
        """How many probes each has sent before the one that it sends nearest to now."""
        sent = self.before(now)
        late_s, early_s = now - self.after(np.maximum(sent - 1, 0.0)), self.after(sent) - now
        return np.asarray(np.where((sent > 0) & (late_s < early_s), sent - 1, sent))

    def align(self, now: float, which: Bools) -> None:
        """The next probe of some is sent now."""
        self.aligned_s, self.first_s = NEVER, np.where(which, now, self.first_s)

    def find(self, now: float, outcome: Findings, count: Floats, different: Bools) -> None:
        """From now on probes find this, of which that of some is `different`; these have sent so many before."""
        self.first_s = np.where(different, self.after(count), self.first_s)
        old = self.outcome
        mixed = [np.where(different, new, one) for new, one in zip(_told(outcome), _told(old), strict=True)]
        self.outcome, self.since_s = Findings(mixed[0], mixed[1], mixed[2], outcome.spare), now
        self.course = np.zeros(self.course.shape)

    def find_out(self, delay_s: Floats, count: Floats, which: Bools) -> None:
        """The answers of some take so long from now on; these have sent so many before."""
        self.first_s = np.where(which, self.after(count), self.first_s)
        self.outcome = replace(self.outcome, delay_s=np.where(which, delay_s, self.outcome.delay_s))


@part
def _moves(slope: float, course: Floats1) -> bool:
    """Whether answers come to take longer, or less long."""
    return slope != 0 or bool(course[SQUARED] != 0) or bool(course[CUBED] != 0) or _changes(course)


@part
def _changes(course: Floats1) -> bool:
    """Whether a utilisation does."""
    return bool(course[FASTER] != 0) or bool(course[BENDS] != 0)


@part
def _delay_s(sent_s: float, delay_s: float, slope: float, course: Floats1, since_s: float) -> float:
    """`Sends.delay_s` of one probe."""
    later = max(sent_s - since_s, 0.0)
    made = delay_s + (slope + (course[SQUARED] + course[CUBED] * later) * later) * later
    if _changes(course):
        capacity, servers, blocked, used = course[CAPACITY], int(course[SERVERS]), course[BLOCKED], course[USED]
        then = max(used + (course[FASTER] + course[BENDS] * later) * later, 0.0)
        made += wait_s(capacity, servers, blocked, then) - wait_s(capacity, servers, blocked, used)
    return float(max(made, 0.0))


@compiled
def _find_delays(
    sent_s: Floats1, delay_s: Floats1, slope: Floats1, course: Floats2, since_s: Floats1, made: Floats1
) -> None:  # fmt: skip
    """`Sends.delay_s`."""
    for one in range(len(made)):
        made[one] = _delay_s(sent_s[one], delay_s[one], slope[one], course[one], since_s[0])


@compiled
def _find_after(
    count: Floats1, first_s: Floats1, interval_s: Floats1, by_result: Bools1, delay_s: Floats1, slope: Floats1,
    course: Floats2, since_s: Floats1, made: Floats1,
) -> None:  # fmt: skip
    """`Sends.after`: probe by probe where a beat goes by answers that take ever longer, or shorter."""
    for one in range(len(made)):
        if not (by_result[one] and _moves(slope[one], course[one])):
            made[one] = first_s[one] + count[one] * (interval_s[one] + (delay_s[one] if by_result[one] else 0.0))
            continue
        made[one] = first_s[one]
        for _ in range(int(count[one])):
            made[one] += interval_s[one] + _delay_s(made[one], delay_s[one], slope[one], course[one], since_s[0])


@compiled
def _find_before(
    now: Floats1, just_before: Bools1, first_s: Floats1, interval_s: Floats1, by_result: Bools1, delay_s: Floats1,
    slope: Floats1, course: Floats2, since_s: Floats1, made: Floats1,
) -> None:  # fmt: skip
    """`Sends.before`; probe by probe as `_find_after`."""
    for one in range(len(made)):
        made[one] = 0.0
        if not (by_result[one] and _moves(slope[one], course[one])):
            beats = (now[0] - first_s[one]) / (interval_s[one] + (delay_s[one] if by_result[one] else 0.0))
            whole = math.floor(beats + 0.5)
            if abs(beats - whole) >= ON_BEAT:
                made[one] = max(math.floor(beats) + 1.0, 0.0)
            else:
                made[one] = max(whole + (1.0 if just_before[0] else 0.0), 0.0)
        else:
            last_s, sent_s = now[0] + (JUST_NOW_S if just_before[0] else -JUST_NOW_S), first_s[one]
            while sent_s < last_s:
                made[one] += 1
                sent_s += interval_s[one] + _delay_s(sent_s, delay_s[one], slope[one], course[one], since_s[0])


def _told(found: Findings) -> tuple[Bools, Floats, Floats]:
    return found.passes, found.delay_s, found.slope
