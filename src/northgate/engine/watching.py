"""Who watches names: what the probes of answers find, and what the votes make of it."""

from collections.abc import Callable

import numpy as np

from northgate.engine.flow import BLOCKED, DEAD_FRONT, KINDS, SERVED, STATUSES, TIMED_OUT, WORK, Flow
from northgate.engine.network import Network
from northgate.engine.probing import Outcome
from northgate.engine.types import Bools, Floats, kept, sum_columns, total_by

# More than half, whatever the last digit of a sum of shares may say.
ABOVE_HALF = 0.5 + 1e-9


class _Checks:
    """The name probers of a network (`Network.checks`): the entries that their calls may take, and what they like."""

    def __init__(self, network: Network) -> None:
        checks, plan = network.checks, network.plan
        self.count = len(checks)
        probes = {probe.name: probe for probe in plan.probes}
        judges = [probes[plan.names[name].probe or ""] for name, _, _, _ in checks]
        mine = [network.entries_of_call[call] for _, _, _, call in checks]
        self.entries = np.concatenate(mine) if mine else np.zeros(0, dtype=np.int64)
        self.check = np.repeat(np.arange(self.count), [len(some) for some in mine])
        self.timeout_s = np.array([probe.timeout_s for probe in judges], dtype=np.float64)
        self.connects = np.array([probe.protocol == "tcp" for probe in judges], dtype=bool)
        # Failures that a probe likes, as it expects the status that a balancer then answers.
        self.likes = np.zeros((self.count, KINDS))
        self.likes[:, SERVED] = 1.0
        for cause, status in STATUSES.items():
            if status != 504:
                self.likes[:, cause] = [probe.expects(status) for probe in judges]
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


_checks_of: Callable[[Network], _Checks] = kept(_Checks)


def _becomes(network: Network, flow: Flow) -> Floats:
    """Per name prober and kind what becomes of its calls, as shares."""
    checks = _checks_of(network)
    shares = (flow.moment.told[checks.entries, None] * flow.entry_fate[checks.entries]).T
    return sum_columns(checks.check, shares, checks.count).T


def _passes(network: Network, flow: Flow, becomes: Floats) -> Bools:
    checks = _checks_of(network)
    good = (becomes * checks.likes).sum(axis=1)
    if checks.connects.any():
        takes = flow.moment.told[checks.entries] * flow.entry_accepts[checks.entries]
        good = np.where(checks.connects, total_by(checks.check, takes, checks.count), good)
    return np.asarray(good > ABOVE_HALF)


def name_outcome(network: Network, flow: Flow) -> Outcome:
    """What the probes of names find now, and the seconds until that is known.

    One passes if more than half of such calls would get an expected status in time (with `tcp`: would be taken by a
    living front with a target in use); a failure is known at once if most failures are answers or refusals, else after
    the time-out.
    """
    checks, becomes = _checks_of(network), _becomes(network, flow)
    passes = _passes(network, flow, becomes)
    served = becomes[:, SERVED]
    takes_s = np.divide(becomes[:, WORK], served, out=np.zeros(checks.count), where=(served > 0) & ~checks.connects)
    silent = becomes[:, TIMED_OUT] + becomes[:, DEAD_FRONT] + becomes[:, BLOCKED]
    at_once = (1 - served) - silent > silent
    delay_s = np.where(passes, takes_s, np.where(at_once, 0.0, checks.timeout_s))
    return Outcome(passes, delay_s, np.zeros(checks.count))


def votes(network: Network, flow: Flow) -> list[Bools]:
    """Per name and answer: whether more than half of those who probe it would find it healthy now."""
    return counted(network, _passes(network, flow, _becomes(network, flow)))


def counted(network: Network, believes: Bools) -> list[Bools]:
    """Per name and answer: whether more than half of its probers believe it in use."""
    return _checks_of(network).counted(network, believes)
