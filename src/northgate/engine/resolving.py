"""What clients' resolvers hold: caches are always warm, their ages spread evenly.

Who keeps answers for D seconds uses the answer set that was valid in [a, b) at time t with the share
|[a, b) ∩ (t - D, t]| / D: the mean of what was answered over the last D seconds. Between events it is linear in time.
"""

import numpy as np

from northgate.engine.network import Network
from northgate.engine.types import Floats, Ints

NEVER = np.inf
# A tail is followed in so many steps, so that what is not linear in it (queues, overload) is followed too.
STEPS_OF_TAIL = 8
DIGITS = 9


class Resolvers:
    """The answers of the recent past, and the share of each entry that follows from them.

    `option_share` is the share of each option of the name book in the answers that are given now.
    """

    def __init__(self, network: Network, option_share: Floats) -> None:
        self._network = network
        self._option = network.entries.option
        self._times = [0.0]
        self._given = [option_share]
        self._ttl_s, self._over_s, self._over_share = _holds(network)
        self._spans = sorted(
            {float(s) for s in np.concatenate([self._ttl_s, self._over_s[self._over_share > 0]]) if s > 0}
        )
        self._sets = _address_sets(network)
        self._in_set = np.zeros(len(self._option), dtype=bool)
        for mine, _ in self._sets:
            self._in_set[mine] = True
        self.longest_s = max(self._spans, default=0.0)

    def change(self, now: float, option_share: Floats) -> bool:
        """From now on these are the answers; returns whether they are others than before."""
        if np.array_equal(option_share, self._given[-1]):
            return False
        if self._times[-1] == now:
            self._given[-1] = option_share
        else:
            self._times.append(now)
            self._given.append(option_share)
        while len(self._times) > 1 and self._times[1] <= now - self.longest_s:
            del self._times[0], self._given[0]
        return True

    def told(self, now: float) -> Floats:
        """The share of its call's requests that each entry gets."""
        if not len(self._option):
            return np.zeros(0)
        made = np.ones(len(self._option))
        asks = self._option >= 0
        ttl, over = self._mean(now, self._ttl_s), self._mean(now, self._over_s)
        mixed = (1 - self._over_share) * ttl + self._over_share * over
        made[asks] = mixed[asks]
        return made

    def fresh(self) -> Floats:
        """The share of its call's requests that each entry would get if nobody held old answers."""
        asks = self._option >= 0
        if not len(self._given[-1]):
            return np.ones(len(self._option))
        return np.where(asks, self._given[-1][np.maximum(self._option, 0)], 1.0)

    def tried(self, now: float, dead: Floats) -> tuple[Floats, Floats | None]:
        """How often each entry is tried by a call, and per call the share that meets dead fronts to the end.

        `dead` is the share of each entry's connects that meet a dead front. Clients with `tries_next_address` take
        another address of the set that they hold, as long as their time lasts; of n equally likely addresses the i-th
        try is at e with `i! s_i / (n (n-1) ... (n-i))`, s_i the i-th symmetric sum of the others' `dead`. The second
        result is None when nobody has to try a second address, and NaN for the calls that never would.
        """
        told = self.told(now)
        if not (dead * told > 0).any() or not len(self._sets):
            return told, None
        told, lost = told.copy(), np.full(len(self._network.calls.client), np.nan)
        for mine, tries in self._sets:
            call = int(self._network.entries.call[mine[0]])
            made, gone = np.zeros(len(mine)), 0.0
            for given, part in self._held(now, mine):
                listed = np.flatnonzero(given > 0)
                if len(listed):
                    share, failing = _next_addresses(dead[mine][listed], min(tries, len(listed)))
                    made[listed] += part * given.sum() * share
                    gone += part * given.sum() * failing
            told[mine] = made
            lost[call] = gone + (0.0 if np.isnan(lost[call]) else lost[call])
        # What such a call meets by ways that list no other address is lost at once.
        for entry in np.flatnonzero(~np.isnan(lost)[self._network.entries.call] & (self._network.entries.member < 0)):
            if not self._in_set[entry]:
                lost[self._network.entries.call[entry]] += told[entry] * dead[entry]
        return told, lost

    def _held(self, now: float, mine: Ints) -> list[tuple[Floats, float]]:
        """The answer sets that clients hold of these entries' name, and by how many."""
        option, found = self._option[mine], []
        for hold_s, clients in (
            (self._ttl_s[mine[0]], 1 - self._over_share[mine[0]]),
            (self._over_s[mine[0]], self._over_share[mine[0]]),
        ):
            starts = [-np.inf, *self._times[1:]]
            for given, start, end in zip(self._given, starts, [*starts[1:], np.inf], strict=True):
                latest = float(end == np.inf)
                part = max(min(end, now) - max(start, now - hold_s), 0.0) / hold_s if hold_s > 0 else latest
                if part * clients > 0:
                    found.append((given[option], float(part * clients)))
        return found

    def _mean(self, now: float, hold_s: Floats) -> Floats:
        """Per entry the mean share of its option over the last `hold_s` seconds."""
        option = np.maximum(self._option, 0)
        if len(self._times) == 1:
            return self._given[0][option] if len(self._given[0]) else np.ones(len(option))
        starts = np.array(self._times)
        starts[0] = -np.inf
        ends = np.append(starts[1:], np.inf)
        low, high = now - hold_s[:, None], now
        covered = np.clip(np.minimum(ends, high) - np.maximum(starts, low), 0.0, None)
        whole = np.where(hold_s > 0, hold_s, 1.0)[:, None]
        latest = np.zeros(len(starts))
        latest[-1] = 1.0
        part = np.where(hold_s[:, None] > 0, covered / whole, latest)
        return np.asarray((part * np.array(self._given)[:, option].T).sum(axis=1))

    def next_s(self, now: float) -> float:
        """The next second at which a tail bends, ends or is looked at again; inf when nobody holds old answers."""
        best = NEVER
        for changed in self._times[1:]:
            for span in self._spans:
                if now < changed + span:
                    step = span / STEPS_OF_TAIL
                    done = np.floor((now - changed) / step + 1e-6)
                    best = min(best, round(changed + (done + 1) * step, DIGITS))
        return best

    def stale_shares(self, now: float, call_rps: Floats) -> Floats:
        """Per name the share of its clients' requests that old answers lead."""
        entries, names = self._network.entries, len(self._network.plan.names)
        if len(self._times) == 1:
            return np.zeros(names)
        age = now - self._times[-1]
        old = [np.clip(1 - age / np.where(s > 0, s, 1.0), 0.0, 1.0) * (s > 0) for s in (self._ttl_s, self._over_s)]
        share = (1 - self._over_share) * old[0] + self._over_share * old[1]
        mine = (self._option >= 0) & (entries.member < 0) & (entries.name < names)
        rps = np.where(mine, call_rps[entries.call], 0.0)
        which = np.minimum(entries.name, names - 1) if names else np.zeros(len(rps), dtype=np.int64)
        changed = self._changed_names()
        whole = np.bincount(which[mine], weights=rps[mine], minlength=names)
        stale = np.bincount(which[mine], weights=(rps * share * changed[which])[mine], minlength=names)
        return np.divide(stale, whole, out=np.zeros(names), where=whole > 0)

    def _changed_names(self) -> Floats:
        """1 for the names whose answers the last change concerned."""
        made = np.zeros(max(len(self._network.plan.names), 1))
        for place in np.flatnonzero(self._given[-1] != self._given[-2]):
            name = self._network.names.asked[place][0]
            if name >= 0:
                made[name] = 1.0
        return made


def _address_sets(network: Network) -> list[tuple[Ints, int]]:
    """The entries of each call that one answer may list together, and how many of them its client has time to try."""
    entries, calls, plan = network.entries, network.calls, network.plan
    sets: dict[tuple[int, int], list[int]] = {}
    for entry in np.flatnonzero((entries.option >= 0) & (entries.member < 0) & (entries.name < len(plan.names))):
        name, client = int(entries.name[entry]), int(calls.client[entries.call[entry]])
        if client < len(plan.clients) and plan.clients[client].tries_next_address:
            together = plan.names[name].choose in ("all", "area")
            answer = -1 if together else network.names.asked[int(entries.option[entry])][2].path[0][1]
            sets.setdefault((int(entries.call[entry]), answer), []).append(int(entry))
    found = []
    for (call, _), mine in sets.items():
        settings = plan.clients[int(calls.client[call])]
        tries = max(int(np.ceil(settings.timeout_s / settings.connect_timeout_s)), 1)
        if len(mine) > 1 and tries > 1:
            found.append((np.array(mine, dtype=np.int64), tries))
    return found


def _next_addresses(dead: Floats, tries: int) -> tuple[Floats, float]:
    """How often each of equally likely addresses is tried by a call, and the share that finds all its tries dead."""
    count = len(dead)
    made, failing = np.zeros(count), 1.0
    for place in range(count):
        sums = _symmetric_sums(np.delete(dead, place))
        ways = 1.0
        for number in range(tries):
            ways *= max(number, 1) / (count - number)
            made[place] += ways * sums[number]
    sums, ways = _symmetric_sums(dead), 1.0
    for number in range(tries):
        ways *= (number + 1) / (count - number)
    failing = ways * sums[tries]
    return made, float(failing)


def _symmetric_sums(values: Floats) -> Floats:
    """The elementary symmetric polynomials of some values: 1, their sum, the sum of their pairs' products and so on."""
    made = np.zeros(len(values) + 1)
    made[0] = 1.0
    for number, value in enumerate(values):
        made[1 : number + 2] += value * made[: number + 1].copy()
    return made


def _holds(network: Network) -> tuple[Floats, Floats, Floats]:
    """Per entry: the TTL of the name that it asks, and for which share of its clients it holds how long instead (s)."""
    entries, plan = network.entries, network.plan
    ttl = np.array([*(name.ttl_s for name in plan.names), 0.0])
    clients: Ints = network.calls.client[entries.call]
    share = np.array([*(client.overholds.share for client in plan.clients), 0.0])
    over = np.array([*(client.overholds.s for client in plan.clients), 0.0])
    asks = entries.option >= 0
    return (
        np.where(asks, ttl[entries.name], 0.0),
        np.where(asks, over[clients], 0.0),
        np.where(asks, share[clients], 0.0),
    )
