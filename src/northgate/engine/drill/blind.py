"""Blind times: beliefs that are wrong for a while. Only reads what probers meet and believe."""

from collections.abc import Iterator

import numpy as np
from msgspec import Struct

from northgate.engine.base import Bools, Floats, Ints, where_true
from northgate.engine.formulas import Bounds, down_bounds, up_bounds
from northgate.engine.processes import Entry, Targets, World
from northgate.engine.truth import ANSWERS, Encounter


class BlindRow(Struct, frozen=True):
    """A belief that was wrong for a while: from when the truth changed to when the belief followed (None: never).

    `bounds` is None where no probe asks about what was lost, so that nobody can notice (`unseen`).
    """

    pair: int
    change: str
    true_at_s: float
    believed_at_s: float | None
    ended_at_s: float
    bounds: Bounds | None

    @property
    def unseen(self) -> bool:
        """Whether no probe asks about what was lost: it asks another port, or another page."""
        return self.bounds is None

    @property
    def blind_s(self) -> float:
        """How long the belief was wrong, in seconds."""
        return self.ended_at_s - self.true_at_s


class BlindTimes:
    """The rows of blind times, as they open and close. Arrays are per probed pair."""

    def __init__(self, world: World, targets: Targets) -> None:
        self.network, self.world, self.targets = world.network, world, targets
        self.rows: list[BlindRow] = []
        found, count = targets.found, len(self.network.probed.pair)
        self._met = targets.probers.believes.copy()
        self._wrong_since = np.full(count, np.nan)
        # How long an answer took when it last was one, and the shortest and longest since its prober began to pass.
        self._answer_s = found.delay_s
        self._quickest_s, self._slowest_s = found.delay_s, found.delay_s
        self._failed_at_once = np.zeros(count, dtype=bool)
        # Whether requests meet nothing good there without any fault, and since when they have lost what no probe asks
        # about.
        self._failing: tuple[Encounter, Bools] | None = None
        self._never_well = self._requests_fail(world.without_faults())
        self._unseen_since = np.full(count, np.nan)

    def look(self, now: float) -> Iterator[Entry]:
        """Opens a row where the finding now contradicts the belief, closes those where it turned back unnoticed."""
        outcome, alive, before = self.targets.found, self.targets.alive, self._met
        flipped = where_true(outcome.passes != before)
        self._met = outcome.passes.copy()
        for prober in flipped[~np.isnan(self._wrong_since[flipped])].tolist():
            self._close(prober, now, believed=False)
        opens = flipped[alive[flipped] & (outcome.passes != self.targets.probers.believes)[flipped]]
        self._wrong_since[opens] = now
        self._note_answers(before)
        self._wrong_since[~alive] = np.nan
        unseen = alive & outcome.passes & self._requests_fail(self.world.encounter) & ~self._never_well
        yield from self._look_unseen(now, unseen)

    def grow(self, more_s: Floats) -> None:
        """Until now, just before anything else happens, backlogs have grown by so much per machine (s): so much longer
        answers take, as long as they are awaited."""
        found, probed = self.targets.found, self.network.probed
        more = np.where(found.passes, more_s[self.network.pairs.machine[probed.pair]], 0.0)
        if more.any():
            delay_s = np.minimum(found.delay_s + more, np.maximum(found.delay_s, probed.timeout_s))
            self._answer_s = np.where(found.passes, delay_s, self._answer_s)
            self._quickest_s = np.where(found.passes, np.minimum(self._quickest_s, delay_s), self._quickest_s)
            self._slowest_s = np.where(found.passes, np.maximum(self._slowest_s, delay_s), self._slowest_s)

    def _note_answers(self, before: Bools) -> None:
        outcome = self.targets.found
        begun = outcome.passes & ~before
        self._failed_at_once = np.where(outcome.passes, self._failed_at_once, outcome.delay_s == 0)
        self._answer_s = np.where(outcome.passes, outcome.delay_s, self._answer_s)
        low, high = (np.where(begun, outcome.delay_s, bound) for bound in (self._quickest_s, self._slowest_s))
        self._quickest_s = np.where(outcome.passes, np.minimum(low, outcome.delay_s), low)
        self._slowest_s = np.where(outcome.passes, np.maximum(high, outcome.delay_s), high)

    def _look_unseen(self, now: float, unseen: Bools) -> Iterator[Entry]:
        """Opens and closes rows of what requests have lost at targets whose probes pass all the same."""
        for prober in where_true(~np.isnan(self._unseen_since) & ~unseen).tolist():
            self._close_unseen(prober, now)
        begun = unseen & np.isnan(self._unseen_since)
        self._unseen_since = np.where(begun, now, self._unseen_since)
        if begun.any():
            machines = self.network.pairs.machine[self.network.probed.pair[begun]]
            yield Entry("unseen", tuple(dict.fromkeys(self.network.machines.names[int(one)] for one in machines)))

    def _requests_fail(self, met: Encounter) -> Bools:
        """Per probed pair: whether some client's requests meet nothing there, or a page that is no good; kept while
        they meet the same."""
        if self._failing is None or self._failing[0] is not met:
            self._failing = (met, self._fails(met))
        return self._failing[1]

    def _fails(self, met: Encounter) -> Bools:
        pairs = self.network.probed.pair
        fails = ((met.fate_met != ANSWERS) | met.bad_page)[:, pairs]
        return np.asarray((fails & self._fates_asking(met)[:, pairs]).any(axis=0))

    def _fates_asking(self, met: Encounter) -> Bools:
        """Per fate and pair: whether calls of clients that fare so may come there."""
        network = self.network
        made = np.zeros((met.fate_met.shape[0], len(network.cells.front)), dtype=bool)
        fate = met.fate[network.calls.outcome]
        np.logical_or.at(made, fate, network.kept.at_cells)
        return made[:, network.pairs.cell]

    def verdicts(self, now: float, probers: Ints) -> None:
        """These probers have changed their mind: what was wrong is right."""
        for prober in probers[~np.isnan(self._wrong_since[probers])].tolist():
            self._close(prober, now, believed=True)

    def finish(self, now: float) -> tuple[BlindRow, ...]:
        """Closes what is still open; gives all rows in order."""
        for prober in where_true(~np.isnan(self._wrong_since)).tolist():
            self._close(prober, now, believed=False)
        for prober in where_true(~np.isnan(self._unseen_since)).tolist():
            self._close_unseen(prober, now)
        return tuple(sorted(self.rows, key=lambda row: (row.true_at_s, row.pair)))

    def _close(self, prober: int, now: float, *, believed: bool) -> None:
        since = float(self._wrong_since[prober])
        self._wrong_since[prober] = np.nan
        believes = bool(self.targets.probers.believes[prober])
        up = believes if believed else not believes
        pair = int(self.network.probed.pair[prober])
        at_s = now if believed else None
        self.rows.append(BlindRow(pair, "up" if up else "down", since, at_s, now, self._bounds(prober, pair, up=up)))

    def _close_unseen(self, prober: int, now: float) -> None:
        pair, since = int(self.network.probed.pair[prober]), float(self._unseen_since[prober])
        self._unseen_since[prober] = np.nan
        if now > since:
            self.rows.append(BlindRow(pair, "down", since, None, now, None))

    def _bounds(self, prober: int, pair: int, *, up: bool) -> Bounds:
        probe = self.network.groups.probe[int(self.network.pairs.group[pair])]
        assert probe is not None
        at_once = bool(self._failed_at_once[prober])
        if up:
            quickest = up_bounds(probe, answer_s=float(self._quickest_s[prober]), at_once=at_once)
            slowest = up_bounds(probe, answer_s=float(self._slowest_s[prober]), at_once=at_once)
            return Bounds(quickest.earliest, slowest.latest)
        return down_bounds(probe, at_once=at_once, answer_s=float(self._answer_s[prober]))
