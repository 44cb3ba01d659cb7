"""Who watches names: what the probes of answers find, and what the votes make of it; and probes that are calls."""

from collections.abc import Iterator, Sequence

import numpy as np
from msgspec import Struct

from northgate.engine.base import (
    BLOCKED,
    DEAD_FRONT,
    KINDS,
    SERVED,
    STATUSES,
    TIMED_OUT,
    WORK,
    Bools,
    Bools1,
    Floats,
    Floats1,
    Floats2,
    Ints,
    Ints1,
    compiled,
    total_by,
    where_true,
)
from northgate.engine.network import Network
from northgate.engine.processes.probers import Probers
from northgate.engine.processes.probing.beats import Phases, name_beats
from northgate.engine.processes.probing.sends import Findings
from northgate.engine.processes.process import Entry
from northgate.engine.solver import Flow
from northgate.plan.models.groups import Probe

# More than half, whatever the last digit of a sum of shares may say.
MORE = 1e-9
ABOVE_HALF = 0.5 + MORE


class NameChecks:
    """The name probers of a network (`Network.checks`): the entries that their calls may take, and what they like."""

    def __init__(self, network: Network) -> None:
        self.network = network
        checks, plan = network.names.checks, network.plan
        self.count = len(checks)
        probes = {probe.name: probe for probe in plan.probes}
        judges = [probes[plan.names[name].probe or ""] for name, _, _, _ in checks]
        mine = [network.entries.of_call[call] for _, _, _, call in checks]
        self.entries = np.concatenate(mine) if mine else np.zeros(0, dtype=np.int64)
        self.check = np.repeat(np.arange(self.count), [len(some) for some in mine])
        self.timeout_s = np.array([probe.timeout_s for probe in judges], dtype=np.float64)
        self.connects = np.array([probe.protocol == "tcp" for probe in judges], dtype=bool)
        # Failures that a probe likes, as it expects the status that a balancer then answers.
        self.likes = liked(judges)
        answers = {(name, answer): None for name, answer, _, _ in checks}
        self.answers = list(answers)
        place = {key: number for number, key in enumerate(self.answers)}
        self.answer = np.array([place[name, answer] for name, answer, _, _ in checks], dtype=np.int64)

    def counted(self, believes: Bools) -> list[Bools]:
        """Per name and answer: whether more than half of its probers believe it in use."""
        healthy = [np.ones(len(name.answers), dtype=bool) for name in self.network.plan.names]
        for_it = total_by(self.answer, believes, len(self.answers)) * 2
        asked = np.bincount(self.answer, minlength=len(self.answers))
        for (name, answer), well in zip(self.answers, for_it > asked, strict=True):
            healthy[name][answer] = well
        return healthy

    def findings(self, flow: Flow) -> Findings:
        """What the probes of names find now, and the seconds until that is known."""
        return _judged(flow, self.check, self.entries, self.likes, self.connects, self.timeout_s)

    def votes(self, flow: Flow) -> list[Bools]:
        """Per name and answer: whether more than half of those who probe it would find it healthy now."""
        return self.counted(self.findings(flow).passes)


def liked(judges: Sequence[Probe]) -> Floats:
    """Per probe and kind: whether it likes what such a call comes to, as it expects the status that is answered
    then."""
    likes = np.zeros((len(judges), KINDS))
    likes[:, SERVED] = 1.0
    for cause, status in STATUSES.items():
        if status != 504:
            likes[:, cause] = [probe.expects(status) for probe in judges]
    return likes


class OnwardChecks:
    """The probed pairs whose target leads on (`Probed.onward`): the entries by which their probes go on."""

    def __init__(self, network: Network) -> None:
        self.network = network
        self.place, calls = network.probed.onward, network.probed.onward_call
        self.pairs = network.probed.pair[self.place]
        members, entries = network.pairs.member[self.pairs], network.entries
        mine = [
            where_true((entries.call == call) & (entries.member == member))
            for call, member in zip(calls, members, strict=True)
        ]
        self.count = len(self.pairs)
        self.entries = np.concatenate(mine) if mine else np.zeros(0, dtype=np.int64)
        self.check = np.repeat(np.arange(self.count), [len(some) for some in mine])
        judges = [network.groups.probe[int(group)] or Probe(name="nobody") for group in network.members.group[members]]
        self.likes = liked(judges)
        self.connects = np.array([probe.protocol == "tcp" for probe in judges], dtype=bool)

    def added_to(self, found: Findings, flow: Flow) -> Findings:
        """What the probes of targets find, those of targets that lead on too: each is a call from the front, and judged
        as the probe of a name is."""
        if not self.count:
            return found
        timeout_s = self.network.probed.timeout_s[self.place]
        mine = _judged(flow, self.check, self.entries, self.likes, self.connects, timeout_s)
        made = Findings(found.passes.copy(), found.delay_s.copy(), found.slope.copy(), found.spare.copy())
        for every, those in ((made.passes, mine.passes), (made.delay_s, mine.delay_s), (made.slope, mine.slope)):
            every[self.place] = those
        made.spare[self.place] = mine.spare
        return made


def _judged(
    flow: Flow, check: Ints, entries: Ints, likes: Floats, connects: Bools, timeout_s: Floats
) -> Findings:  # fmt: skip
    """What probes find that are calls, by these `entries` of each (`check`): they pass if more than half of such calls
    would get an expected status in time (of `connects`: would be taken by a living front with a target in use); a
    failure is known at once if most failures are answers or refusals, else after the time-out: a connect meets silence
    at a dead front or a firewall alone. `likes` by probe and kind."""
    count = len(timeout_s)
    made = Findings(np.empty(count, dtype=bool), np.empty(count), np.zeros(count), np.zeros(count))
    _judge(
        check, entries, flow.state.dns_share, flow.entry_fate, flow.entry_accepts, likes, connects, timeout_s,
        np.zeros((count, KINDS)), made.passes, made.delay_s, made.spare,
    )  # fmt: skip
    return made


@compiled
def _judge(
    check: Ints1, entries: Ints1, dns_share: Floats1, entry_fate: Floats2, accepts: Floats1, likes: Floats2,
    connects: Bools1, timeout_s: Floats1, met: Floats2, passes: Bools1, delay_s: Floats1, spare: Floats1,
) -> None:  # fmt: skip
    """`_judged`; `spare` and `met` (probes, kinds), which is for work, begin as nothing."""
    for place in range(len(check)):
        probe, entry = check[place], entries[place]
        for kind in range(KINDS):
            met[probe, kind] += dns_share[entry] * entry_fate[entry, kind]
            if not connects[probe]:
                spare[probe] += dns_share[entry] * entry_fate[entry, kind] * likes[probe, kind]
        if connects[probe]:
            spare[probe] += dns_share[entry] * accepts[entry]
    for probe in range(len(spare)):
        spare[probe] -= ABOVE_HALF
        passes[probe] = spare[probe] > 0
        served, silent = met[probe, SERVED], met[probe, DEAD_FRONT] + met[probe, BLOCKED]
        failed = 1 - served
        if connects[probe]:
            failed = 1 - (spare[probe] + ABOVE_HALF)
        else:
            silent += met[probe, TIMED_OUT]
        if passes[probe]:
            delay_s[probe] = met[probe, WORK] / served if served > 0 and not connects[probe] else 0.0
        else:
            delay_s[probe] = 0.0 if failed - silent > silent + MORE else timeout_s[probe]


class Vote(Struct, frozen=True):
    """Who probes an answer of a name from an area has changed its mind: when, and to what."""

    at_s: float
    name: int
    answer: int
    area: int
    believed: bool


class Names:
    """The probers of names: what they believe, which answers are healthy by their votes (`healthy[n][a]`), and which
    are in the record of their name at all (`given`)."""

    def __init__(
        self, checks: NameChecks, healthy: list[Bools], given: list[Bools], found: Findings, phases: Phases,
        first_change_s: float,
    ) -> None:  # fmt: skip
        self.network, self._checks = checks.network, checks
        self.healthy, self.given = healthy, given
        by_call = np.ones(checks.count, dtype=bool)
        self.probers = Probers(name_beats(self.network), found, phases, first_change_s, by_call)
        self.votes: list[Vote] = []

    def meet(self, now: float, flow: Flow) -> None:
        """From now on calls fare like this."""
        if self.network.names.checks:
            self.probers.meet(now, self._checks.findings(flow))

    def give(self, name: int, answers: Sequence[int]) -> None:
        """A name's record has these of its answers from now on."""
        self.given = list(self.given)
        self.given[name] = np.isin(np.arange(len(self.given[name])), answers)

    def next_s(self, now: float) -> float:
        """The second of the next verdict, or at which a call is sent that brings one."""
        return self.probers.next_s(now)

    def take(self, now: float) -> Iterator[Entry]:
        """Takes the verdicts that are due, and counts the votes anew."""
        changed = self.probers.take_verdicts(now)
        plan = self.network.plan
        for prober in changed.tolist():
            name, answer, area, _ = self.network.names.checks[prober]
            if not self.given[name][answer]:
                continue
            vote = Vote(now, name, answer, area, bool(self.probers.believes[prober]))
            self.votes.append(vote)
            given = plan.names[name].answers[answer]
            about = given.balancer or given.address or given.host or ""
            yield Entry(
                "answer", (plan.names[name].name, about), {"in_use": vote.believed, "area": plan.areas[area].name}
            )
        if len(changed):
            self.healthy = self._checks.counted(self.probers.believes)
