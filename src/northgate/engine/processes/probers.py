"""Probes: when each prober changes its mind.

Between two changes of what a prober meets, its results follow from its beat alone, so the second of its next verdict
is computed, never waited for. A prober is one front probing one member (a probed pair of the network).
"""

from collections.abc import Iterator, Sequence
from typing import Literal

import numpy as np
from msgspec import Struct

from northgate.engine.base import DIGITS, NEVER, Bools, Floats, Ints
from northgate.engine.network import Network
from northgate.plan.models.groups import Probe


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
    timeout_s: Floats
    fail_after: Floats
    pass_after: Floats
    by_result: Bools
    spread: Floats


def beats_of(probes: Sequence[Probe], which: Ints, spread: Floats) -> Beats:
    """The beats of probers, each with one of these probes."""

    def setting(name: str) -> Floats:
        values = np.array([getattr(probe, name) for probe in probes], dtype=np.float64)
        return values[which] if len(values) else np.zeros(len(which))

    by_result = np.array([probe.next_after == "result" for probe in probes], dtype=bool)
    return Beats(
        interval_s=setting("interval_s"),
        timeout_s=setting("timeout_s"),
        fail_after=setting("unhealthy_after"),
        pass_after=setting("healthy_after"),
        by_result=by_result[which] if len(by_result) else np.zeros(len(which), dtype=bool),
        spread=spread,
    )


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


class Probers:
    """Probers of one kind: their beats, their counters and what they believe.

    `believes` is per prober: whether it believes the target (or answer) in use.
    """

    def __init__(self, beats: Beats, outcome: Findings, phases: Phases, first_change_s: float) -> None:
        self.interval_s, self.timeout_s = beats.interval_s, beats.timeout_s
        self._fail_after, self._pass_after, self._by_result = beats.fail_after, beats.pass_after, beats.by_result
        # In the worst case every probe is sent just before the step: at the limit, a send at t still sees what was.
        self.just_before = phases == "worst"
        self._outcome, self._bend = outcome, np.zeros(len(outcome.passes))
        self.believes = outcome.passes.copy()
        self._fails = np.where(outcome.passes, 0.0, self._fail_after)
        self._passes = np.where(outcome.passes, self._pass_after, 0.0)
        self._alive = np.ones(len(beats.interval_s), dtype=bool)
        self._promised = np.full(len(beats.interval_s), NEVER)
        if phases == "spread":
            self._phase = beats.spread * self.interval_s
        else:
            self._phase = np.mod(first_change_s, self._beat(outcome))
        self._since = 0.0
        # How often each has found another thing, or come to believe one.
        self.turns: Ints = np.zeros(len(beats.interval_s), dtype=np.int64)
        self._due_s: Floats | None = None
        self._send = self._phase.copy()

    def _beat(self, outcome: Findings) -> Floats:
        """Seconds from one send to the next."""
        return self.interval_s + np.where(self._by_result, outcome.delay_s, 0.0)

    def _sent_before(self, now: float) -> Floats:
        """How many probes each prober has sent since its last change, up to now."""
        beats = (now - self._send) / self._beat(self._outcome)
        whole = np.round(beats)
        on_beat = np.abs(beats - whole) < 1e-9
        if self.just_before:
            count = np.where(on_beat, whole, np.floor(beats)) + 1
        else:
            count = np.where(on_beat, whole, np.ceil(beats))
        return np.asarray(np.maximum(count, 0.0))

    def _due(self) -> Floats:
        """The second at which each prober will change its mind as things stand; worked out when something changed."""
        if self._due_s is None:
            self._due_s = self._due_as_things_stand()
        return self._due_s

    def _due_as_things_stand(self) -> Floats:
        meets, outcome = self._outcome.passes, self._outcome
        needed = np.where(meets, self._pass_after - self._passes, self._fail_after - self._fails)
        last = self._send + (np.maximum(needed, 1) - 1) * self._beat(outcome)
        later = np.maximum(last - self._since, 0.0)
        delay = np.maximum(outcome.delay_s + (outcome.slope + self._bend * later / 2) * later, 0.0)
        due = np.where(meets != self.believes, np.round(last + delay, DIGITS), NEVER)
        return np.where(self._alive, np.where(self._promised < NEVER, self._promised, due), NEVER)

    def next_verdict_s(self) -> float:
        """The second of the next verdict, inf when none is coming."""
        due = self._due()
        return float(due.min()) if len(due) else NEVER

    @property
    def keeps_beat(self) -> bool:
        """Whether probes are sent at the same seconds however long answers take."""
        return not self._by_result.any()

    def to_come(self, until: float) -> tuple[Floats, Ints]:
        """The verdicts that come before a second as things stand, in their order: when, and whose."""
        due = self._due()
        mine = np.flatnonzero(due < until)
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
        changed = np.flatnonzero(self._due() <= now)
        if len(changed):
            self.turn(changed)
        return changed

    def meet(self, now: float, outcome: Findings) -> None:
        """From now on probes find `outcome`: those sent before keep what they found, and their verdicts stand."""
        old = self._outcome
        different = (old.passes != outcome.passes) | (old.delay_s != outcome.delay_s) | (old.slope != outcome.slope)
        if not different.any():
            return
        due, sent = self._due(), self._sent_before(now)
        met = np.where(old.passes, self._passes, self._fails) + sent
        reached = met >= np.where(old.passes, self._pass_after, self._fail_after)
        standing = different & (old.passes != self.believes) & reached & (due >= now) & (due < NEVER)
        self._promised = np.where(standing, due, self._promised)
        passes = np.where(sent > 0, np.where(old.passes, self._passes + sent, 0.0), self._passes)
        fails = np.where(sent > 0, np.where(old.passes, 0.0, self._fails + sent), self._fails)
        self._passes = np.where(different, np.minimum(passes, self._pass_after), self._passes)
        self._fails = np.where(different, np.minimum(fails, self._fail_after), self._fails)
        self._send = np.where(different, self._send + sent * self._beat(old), self._send)
        mixed = Findings(
            np.where(different, outcome.passes, old.passes),
            np.where(different, outcome.delay_s, old.delay_s),
            np.where(different, outcome.slope, old.slope),
            outcome.spare,
        )
        self.turns = self.turns + (old.passes != outcome.passes)
        self._outcome, self._since, self._due_s = mixed, now, None
        self._bend = np.zeros(len(mixed.passes))

    def stands(self, now: float) -> Iterator[Bools | Floats]:
        """All that verdicts to come depend on, but `next_sent_s`: beliefs, what has been counted, and what is found;
        seconds are from now."""
        outcome, sent, later = self._outcome, self._sent_before(now), now - self._since
        passes, growing = outcome.passes, outcome.slope + self._bend * later
        counted = np.where(passes, self._passes, self._fails) + sent
        needed = np.where(passes, self._pass_after, self._fail_after)
        yield from (self.believes, self._alive, passes, np.minimum(counted, needed))
        # The first probe that finds otherwise begins to count anew.
        yield np.where(sent > 0, 0.0, np.where(passes, self._fails, self._passes))
        yield from (self._due() - now, outcome.delay_s + (outcome.slope + growing) / 2 * later, growing, self._bend)

    def next_sent_s(self, now: float) -> Floats:
        """How long until each sends its next probe (s)."""
        return np.asarray(self._send + self._sent_before(now) * self._beat(self._outcome) - now)

    def bend(self, bend: Floats) -> None:
        """How fast, per prober, the slope of its delay grows from now on (seconds per second squared)."""
        if bend.any():
            self._bend, self._due_s = bend, None

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
        passes = self._outcome.passes
        changed = np.flatnonzero(back & (self.believes != passes))
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
        mine = np.flatnonzero(network.cells.group == group)
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
        mine = np.flatnonzero(members.group == group)
        place[np.concatenate([mine[~spare[mine]], mine[spare[mine]]])] = np.arange(len(mine))
    return place, np.bincount(members.group[~spare], minlength=groups)
