"""What is so, whoever believes what: faults, what exists, and the truth that follows; and how much clients ask for."""

from bisect import bisect_right
from collections.abc import Collection, Iterator, Sequence

import numpy as np
from msgspec.structs import replace

from northgate.engine.base import NEVER, Bools, Floats, Ints, floats
from northgate.engine.network import Network
from northgate.engine.processes.process import Entry
from northgate.engine.truth import Encounter, Paths, ProbeView, Truth, encounter, probe_view, truth_under
from northgate.plan.models.faults import Part


class World:
    """The faults in force, the machines that exist, the truth under them, and what requests and probes meet.

    `exists` and `starting` change where there are autoscalers, or fleets that are scaled `by_hand` (`scaled`): which
    machines are there, and which of them do not serve yet.
    """

    def __init__(self, network: Network, by_hand: Collection[str] = ()) -> None:
        self.network, self.paths = network, Paths.of(network)
        self.faults: list[Part] = []
        self.expired: frozenset[str] = frozenset()
        # Per pair: whether its target is registered yet (None: all are).
        self.registered: Bools | None = None
        self.scaled = bool(by_hand) or any(fleet.scale for fleet in network.plan.fleets)
        self.exists: Bools = ~network.machines.spare
        self.starting: Ints = np.zeros(0, dtype=np.int64)
        self.stale = False
        self.most_targets = 0
        self._look()

    def _look(self) -> None:
        truth = truth_under(self.network, self.faults)
        if self.expired:
            truth = replace(truth, expired=self.expired)
        if self.scaled:
            # What is not there, or does not serve yet, is silent.
            silent = truth.machine_silent | ~self.exists
            silent[self.starting] = True
            truth = truth.with_silent(silent)
        self.truth: Truth = truth
        self.view: ProbeView = probe_view(self.paths, truth)
        self.encounter: Encounter = encounter(self.paths, truth)
        self.most_targets = max(self.most_targets, int((self.exists & self.network.machines.real).sum()))

    def fail(self, part: Part) -> None:
        """A part is lost from now on."""
        self.faults.append(part)
        self.stale = True

    def restore(self, part: Part) -> None:
        """A part that was lost is back."""
        self.faults.remove(part)
        self.stale = True

    def expire(self, certificate: str) -> None:
        """A certificate is valid no longer."""
        self.expired |= {certificate}
        self.stale = True

    def populate(self, exists: Bools, starting: Ints) -> None:
        """These machines exist from now on, and these of them do not serve yet."""
        self.exists, self.starting, self.stale = exists, starting, True

    def renew(self) -> Truth:
        """Works out truth anew after changes; returns what it was before."""
        before, self.stale = self.truth, False
        self._look()
        return before

    def without_faults(self) -> Encounter:
        """What requests meet when nothing has failed."""
        return encounter(self.paths, truth_under(self.network, ()))

    def present(self) -> Bools | None:
        """Which machines are there; None where all of them always are."""
        return self.exists if self.scaled else None

    @property
    def living_zones(self) -> Bools:
        """Per zone: whether neither it nor its region is lost."""
        lost = {fault.zone for fault in self.faults} | {fault.region for fault in self.faults}
        zones, regions = self.network.zones, self.network.regions
        of_zone = [regions[int(region)] for region in self.network.zone_region]
        return np.array([not lost & {zone, region} for zone, region in zip(zones, of_zone, strict=True)], dtype=bool)


class Demand:
    """How much clients ask for: their rates, profiles and surges."""

    def __init__(self, network: Network) -> None:
        self.network = network
        self.surges: dict[str, float] = {}
        # When any profile steps, in order.
        self._steps_s = sorted(float(step[0]) for client in network.plan.clients for step in client.profile)

    def surge(self, clients: str, factor: float) -> None:
        """A client group asks so many times as much from now on."""
        self.surges[clients] = factor

    def stands(self, now: float) -> Iterator[Floats]:
        """When rates change next, in seconds from now."""
        yield np.array([self.next_s(now) - now])

    def next_s(self, now: float) -> float:
        """The second of the next step of a profile; inf when there is none."""
        later = bisect_right(self._steps_s, now)
        return self._steps_s[later] if later < len(self._steps_s) else NEVER

    def call_rps(self, now: float) -> Floats:
        """The rate of each call (requests/s)."""
        calls = self.network.calls
        rates = [
            client.rps * self.surges.get(client.name, 1.0) * profile_factor(client.profile, now)
            for client in self.network.plan.clients
        ]
        # One past the last are those who probe names: they ask for nothing.
        return floats([*rates, 0.0])[calls.client] * calls.share

    def take(self, now: float) -> Iterator[Entry]:  # noqa: ARG002
        """What is asked from now on is seen by the next solve."""
        yield from ()


def profile_factor(profile: Sequence[Sequence[float]], second: float) -> float:
    """The factor in force at a second: that of the last step of the profile up to it, 1 before the first."""
    factor = 1.0
    for start, value in profile:
        if start <= second:
            factor = value
    return factor
