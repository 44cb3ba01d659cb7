"""Probes: when each prober changes its mind.

Between two changes of what a prober meets, its results follow from its beat alone, so the second of its next verdict
is computed, never waited for. A prober is one front probing one member (a probed pair of the network).
"""

import math
from collections.abc import Iterator, Sequence
from typing import Literal

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from northgate.engine.base import DIGITS, NEVER, Bools, Bools1, Floats, Floats1, Ints, compiled, part, where_true
from northgate.engine.network import Network
from northgate.plan.models.groups import Probe

# In so short a time (s) no second probe is sent; who sends one now has sent it so much later, whatever the last digit.
JUST_NOW_S, AFTER_S = 1e-9, 1e-6
# So near (beats) to the second of a probe is at it.
ON_BEAT = 1e-9


class Findings(Struct, frozen=True):
    """What a probe sent now would find, per prober: a pass or not, the seconds until that is known, and how fast that
    delay grows (seconds per second). `spare`: how far it is from finding the other thing, above 0 for a pass, in
    seconds or shares; it changes as load does."""

    passes: Bools
    delay_s: Floats
    slope: Floats
    spare: Floats


Phases = Literal["spread", "best", "worst"]


class Beats(Struct, frozen=True):
    """Per prober: its probe's numbers, and its phase under `spread` as a share of the interval."""

    interval_s: Floats
    fail_after: Floats
    pass_after: Floats
    by_result: Bools
    spread: Floats


def beats_of(probes: Sequence[Probe], which: Ints, spread: Floats) -> Beats:
    """The beats of probers, each with one of these probes."""

    def setting(name: str) -> Floats:
        values = np.array([getattr(probe, name) for probe in probes], dtype=np.float64)
        return values[which] if len(values) else np.zeros(len(which))

    told = np.array([probe.next_after == "result" for probe in probes], dtype=bool)
    by_result = told[which] if len(told) else np.zeros(len(which), dtype=bool)
    return Beats(setting("interval_s"), setting("unhealthy_after"), setting("healthy_after"), by_result, spread)


def target_beats(network: Network) -> Beats:
    """The beats of the probed pairs: a front probing a target."""
    group = network.pairs.group[network.probed.pair]
    stand_in = Probe(name="nobody")
    return beats_of([probe or stand_in for probe in network.groups.probe], group, spread_phases(network))


def name_beats(network: Network) -> Beats:
    """The beats of the name probers, in the order of `network.names.checks`: area j of M at (j / M) of the interval."""
    plan = network.plan
    place = {probe.name: index for index, probe in enumerate(plan.probes)}
    which, spread = [], []
    for name, _, area, _ in network.names.checks:
        entry = plan.names[name]
        which.append(place[entry.probe or ""])
        spread.append(entry.probed_from.index(plan.areas[area].name) / len(entry.probed_from))
    return beats_of(plan.probes, np.array(which, dtype=np.int64), np.array(spread, dtype=np.float64))


class Sends:
    """When probes are sent, and how long their answers take. `by_result`: the next is sent so long after the answer.
    `outcome` is what each finds since `since_s`, `bend` how fast the slope of its delay grows (seconds per second
    squared), and `first_s` when each has sent the first since it found another thing."""

    def __init__(self, beats: Beats, outcome: Findings, phases: Phases, first_change_s: float) -> None:
        self._interval_s, self.by_result = beats.interval_s, beats.by_result
        # In the worst case every probe is sent just before the step: at the limit, a send at t still sees what was.
        self.just_before = phases == "worst"
        self.outcome, self.since_s, self.bend = outcome, 0.0, np.zeros(len(outcome.passes))
        spread = phases == "spread"
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
        later = np.maximum(sent_s - self.since_s, 0.0)
        return np.maximum(self.outcome.delay_s + (self.outcome.slope + self.bend * later / 2) * later, 0.0)

    @property
    def _pace(self) -> tuple[Floats, Bools, Floats, Floats, Floats, Floats]:
        """What seconds between probes follow from, as loops take it."""
        found = self.outcome
        return self._interval_s, self.by_result, found.delay_s, found.slope, self.bend, np.array([self.since_s])

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

    def find(self, now: float, outcome: Findings, count: Floats, different: Bools) -> None:
        """From now on probes find this, of which that of some is `different`; these have sent so many before."""
        self.first_s = np.where(different, self.after(count), self.first_s)
        old = self.outcome
        mixed = [np.where(different, new, one) for new, one in zip(_told(outcome), _told(old), strict=True)]
        self.outcome, self.since_s = Findings(mixed[0], mixed[1], mixed[2], outcome.spare), now
        self.bend = np.zeros(len(old.passes))

    def find_out(self, delay_s: Floats, count: Floats, which: Bools) -> None:
        """The answers of some take so long from now on; these have sent so many before."""
        self.first_s = np.where(which, self.after(count), self.first_s)
        self.outcome = replace(self.outcome, delay_s=np.where(which, delay_s, self.outcome.delay_s))

    def drift(self, slope: Floats, bend: Floats) -> None:
        """Delays grow by so much faster than was found, and that grows so itself."""
        self.outcome = replace(self.outcome, slope=self.outcome.slope + slope)
        self.bend = bend


@part
def _delay_s(sent_s: float, delay_s: float, slope: float, bend: float, since_s: float) -> float:
    """`Sends.delay_s` of one probe."""
    later = max(sent_s - since_s, 0.0)
    return max(delay_s + (slope + bend * later / 2) * later, 0.0)


@compiled
def _find_after(
    count: Floats1, first_s: Floats1, interval_s: Floats1, by_result: Bools1, delay_s: Floats1, slope: Floats1,
    bend: Floats1, since_s: Floats1, made: Floats1,
) -> None:  # fmt: skip
    """`Sends.after`: probe by probe where a beat goes by answers that take ever longer, or shorter."""
    for one in range(len(made)):
        if not by_result[one] or (slope[one] == 0 and bend[one] == 0):
            made[one] = first_s[one] + count[one] * (interval_s[one] + (delay_s[one] if by_result[one] else 0.0))
            continue
        made[one] = first_s[one]
        for _ in range(int(count[one])):
            made[one] += interval_s[one] + _delay_s(made[one], delay_s[one], slope[one], bend[one], since_s[0])


@compiled
def _find_before(
    now: Floats1, just_before: Bools1, first_s: Floats1, interval_s: Floats1, by_result: Bools1, delay_s: Floats1,
    slope: Floats1, bend: Floats1, since_s: Floats1, made: Floats1,
) -> None:  # fmt: skip
    """`Sends.before`; probe by probe as `_find_after`."""
    for one in range(len(made)):
        made[one] = 0.0
        if not by_result[one] or (slope[one] == 0 and bend[one] == 0):
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
                sent_s += interval_s[one] + _delay_s(sent_s, delay_s[one], slope[one], bend[one], since_s[0])


def _told(found: Findings) -> tuple[Bools, Floats, Floats]:
    return found.passes, found.delay_s, found.slope


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
        old = self._sends.outcome
        different = (old.passes != outcome.passes) | (old.delay_s != outcome.delay_s) | (old.slope != outcome.slope)
        if not different.any():
            return
        due, sent = self._due(), self._sends.before(now)
        met = np.where(old.passes, self._passes, self._fails) + sent
        reached = met >= np.where(old.passes, self._pass_after, self._fail_after)
        standing = different & (old.passes != self.believes) & reached & (due >= now) & (due < NEVER)
        self._promised = np.where(standing, due, self._promised)
        passes = np.where(sent > 0, np.where(old.passes, self._passes + sent, 0.0), self._passes)
        fails = np.where(sent > 0, np.where(old.passes, 0.0, self._fails + sent), self._fails)
        self._passes = np.where(different, np.minimum(passes, self._pass_after), self._passes)
        self._fails = np.where(different, np.minimum(fails, self._fail_after), self._fails)
        self.turns = self.turns + (old.passes != outcome.passes)
        self._sends.find(now, outcome, sent, different)
        self._due_s = None

    def stands(self, now: float) -> Iterator[Bools | Floats]:
        """All that verdicts to come depend on, but `next_sent_s`: beliefs, what has been counted, and what is found;
        seconds are from now."""
        sends = self._sends
        outcome, sent, later = sends.outcome, sends.before(now), now - sends.since_s
        passes, growing = outcome.passes, outcome.slope + sends.bend * later
        counted = np.where(passes, self._passes, self._fails) + sent
        needed = np.where(passes, self._pass_after, self._fail_after)
        yield from (self.believes, self._alive, passes, np.minimum(counted, needed))
        # The first probe that finds otherwise begins to count anew.
        yield np.where(sent > 0, 0.0, np.where(passes, self._fails, self._passes))
        yield from (self._due() - now, outcome.delay_s + (outcome.slope + growing) / 2 * later, growing, sends.bend)

    def next_sent_s(self, now: float) -> Floats:
        """How long until each sends its next probe (s)."""
        return np.asarray(self._sends.after(self._sends.before(now)) - now)

    def drift(self, slope: Floats, bend: Floats) -> None:
        """By how much faster, per prober, its delay grows from now on than was found (seconds per second), and how fast
        that does (seconds per second squared)."""
        if slope.any() or bend.any():
            self._sends.drift(slope, bend)
            self._due_s = None

    def start(self, which: Bools) -> None:
        """These begin anew: out, with no passes."""
        self.turns = self.turns + which
        self.believes = np.where(which, False, self.believes)
        self._passes = np.where(which, 0.0, self._passes)
        self._fails = np.where(which, self._fail_after, self._fails)
        self._promised = np.where(which, NEVER, self._promised)
        self._due_s = None

    def set_alive(self, alive: Bools) -> Ints:
        """Which probers run at all; those that return believe at once what they find. Returns the changed beliefs."""
        if np.array_equal(alive, self._alive):
            return np.zeros(0, dtype=np.int64)
        self._due_s = None
        back = alive & ~self._alive
        self._alive = alive.copy()
        passes = self._sends.outcome.passes
        changed = where_true(back & (self.believes != passes))
        self.turns = self.turns + back
        self.believes = np.where(back, passes, self.believes)
        self._promised = np.where(back, NEVER, self._promised)
        self._fails = np.where(back, np.where(passes, 0.0, self._fail_after), self._fails)
        self._passes = np.where(back, np.where(passes, self._pass_after, 0.0), self._passes)
        return changed


def spread_phases(network: Network) -> Floats:
    """Phases as shares of the interval: (i + f/F) / N for target i of N at front f of the F that use its group."""
    pairs, members = network.pairs, network.members
    chosen = network.probed.pair
    member, cell = pairs.member[chosen], pairs.cell[chosen]
    groups = len(network.plan.target_groups)
    size = np.bincount(members.group, minlength=groups)
    fronts = np.bincount(network.cells.group, minlength=groups)
    rank = np.zeros(len(network.cells.front), dtype=np.float64)
    for group in range(groups):
        mine = where_true(network.cells.group == group)
        rank[mine] = np.argsort(np.argsort(network.cells.front[mine]))
    group_of = members.group[member]
    place = members.place
    if network.machines.spare.any():
        place, size = _places_without_spares(network, groups)
    return np.asarray((place[member] + rank[cell] / fronts[group_of]) / size[group_of])


def _places_without_spares(network: Network, groups: int) -> tuple[Ints, Ints]:
    """Each member's place in its group and the groups' sizes as they are at the start; what is launched comes after."""
    members, spare = network.members, network.machines.spare[network.members.machine]
    place = np.zeros(len(members.group), dtype=np.int64)
    for group in range(groups):
        mine = where_true(members.group == group)
        place[np.concatenate([mine[~spare[mine]], mine[spare[mine]]])] = np.arange(len(mine))
    return place, np.bincount(members.group[~spare], minlength=groups)
