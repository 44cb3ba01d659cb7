"""Who watches names: what the probes of answers find, and what the votes make of it."""

from collections.abc import Callable, Sequence

import numpy as np

from northgate.engine.base import (
    BLOCKED,
    DEAD_FRONT,
    KINDS,
    SERVED,
    STATUSES,
    TIMED_OUT,
    WORK,
    Bools,
    Floats,
    kept,
    sum_columns,
    total_by,
)
from northgate.engine.network import Network
from northgate.engine.processes.probers import Findings
from northgate.engine.solver import Flow
from northgate.plan.groups import Probe

# More than half, whatever the last digit of a sum of shares may say.
ABOVE_HALF = 0.5 + 1e-9


class _Checks:
    """The name probers of a network (`Network.checks`): the entries that their calls may take, and what they like."""

    def __init__(self, network: Network) -> None:
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

    def counted(self, network: Network, believes: Bools) -> list[Bools]:
        """Per name and answer: whether more than half of its probers believe it in use."""
        healthy = [np.ones(len(name.answers), dtype=bool) for name in network.plan.names]
        for_it = total_by(self.answer, believes, len(self.answers)) * 2
        asked = np.bincount(self.answer, minlength=len(self.answers))
        for (name, answer), well in zip(self.answers, for_it > asked, strict=True):
            healthy[name][answer] = well
        return healthy


def liked(judges: Sequence[Probe]) -> Floats:
    """Per probe and kind: whether it likes what such a call comes to, as it expects the status that is answered
    then."""
    likes = np.zeros((len(judges), KINDS))
    likes[:, SERVED] = 1.0
    for cause, status in STATUSES.items():
        if status != 504:
            likes[:, cause] = [probe.expects(status) for probe in judges]
    return likes


class _Onward:
    """The probed pairs whose target leads on (`Probed.onward`): the entries by which their probes go on."""

    def __init__(self, network: Network) -> None:
        self.place, calls = network.probed.onward, network.probed.onward_call
        self.pairs = network.probed.pair[self.place]
        members, entries = network.pairs.member[self.pairs], network.entries
        mine = [
            np.flatnonzero((entries.call == call) & (entries.member == member))
            for call, member in zip(calls, members, strict=True)
        ]
        self.count = len(self.pairs)
        self.entries = np.concatenate(mine) if mine else np.zeros(0, dtype=np.int64)
        self.check = np.repeat(np.arange(self.count), [len(some) for some in mine])
        judges = [network.groups.probe[int(group)] or Probe(name="nobody") for group in network.members.group[members]]
        self.likes = liked(judges)
        self.connects = np.array([probe.protocol == "tcp" for probe in judges], dtype=bool)


_onward_of: Callable[[Network], _Onward] = kept(_Onward)


def with_onward(network: Network, flow: Flow, found: Findings) -> Findings:
    """What the probes of targets find, those of targets that lead on too: each is a call from the front, and judged as
    the probe of a name is."""
    onward = _onward_of(network)
    if not onward.count:
        return found
    dns_share = flow.state.dns_share[onward.entries]
    becomes = sum_columns(onward.check, (dns_share[:, None] * flow.entry_fate[onward.entries]).T, onward.count).T
    takes = total_by(onward.check, dns_share * flow.entry_accepts[onward.entries], onward.count)
    timeout_s = network.probed.timeout_s[onward.place]
    mine = _judged(becomes, onward.likes, onward.connects, takes, timeout_s)
    passes, delay_s, slope = found.passes.copy(), found.delay_s.copy(), found.slope.copy()
    passes[onward.place], delay_s[onward.place], slope[onward.place] = mine.passes, mine.delay_s, mine.slope
    return Findings(passes, delay_s, slope)


def _judged(becomes: Floats, likes: Floats, connects: Bools, takes: Floats, timeout_s: Floats) -> Findings:
    """What probes find that are calls: they pass if more than half of such calls would get an expected status in time
    (with `tcp`: would be taken by a living front with a target in use); a failure is known at once if most failures are
    answers or refusals, else after the time-out. All per probe, `becomes` and `likes` by kind."""
    passes = np.where(connects, takes, (becomes * likes).sum(axis=1)) > ABOVE_HALF
    served = becomes[:, SERVED]
    takes_s = np.divide(becomes[:, WORK], served, out=np.zeros(len(served)), where=(served > 0) & ~connects)
    silent = becomes[:, TIMED_OUT] + becomes[:, DEAD_FRONT] + becomes[:, BLOCKED]
    at_once = (1 - served) - silent > silent
    return Findings(passes, np.where(passes, takes_s, np.where(at_once, 0.0, timeout_s)), np.zeros(len(served)))


_checks_of: Callable[[Network], _Checks] = kept(_Checks)


def _becomes(network: Network, flow: Flow) -> Floats:
    """Per name prober and kind what becomes of its calls, as shares."""
    checks = _checks_of(network)
    shares = (flow.state.dns_share[checks.entries, None] * flow.entry_fate[checks.entries]).T
    return sum_columns(checks.check, shares, checks.count).T


def name_findings(network: Network, flow: Flow) -> Findings:
    """What the probes of names find now, and the seconds until that is known."""
    checks = _checks_of(network)
    takes = flow.state.dns_share[checks.entries] * flow.entry_accepts[checks.entries]
    taken = total_by(checks.check, takes, checks.count)
    return _judged(_becomes(network, flow), checks.likes, checks.connects, taken, checks.timeout_s)


def votes(network: Network, flow: Flow) -> list[Bools]:
    """Per name and answer: whether more than half of those who probe it would find it healthy now."""
    return counted(network, name_findings(network, flow).passes)


def counted(network: Network, believes: Bools) -> list[Bools]:
    """Per name and answer: whether more than half of its probers believe it in use."""
    return _checks_of(network).counted(network, believes)
