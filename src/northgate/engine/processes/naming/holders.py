"""Who asks names, and for how long they hold what they are told."""

from collections.abc import Iterator, Sequence

import numpy as np
from msgspec import Struct

from northgate.engine.base import DIGITS, NEVER, Floats, Ints
from northgate.engine.network import Network, Record

# A tail is followed in so many steps, so that what is not linear in it (queues, overload) is followed too.
STEPS_OF_TAIL = 8
# What changes within so many seconds changes together: an answer that was given for a nanosecond is held by nobody.
TOGETHER_S = 1e-8


class Holder(Struct, frozen=True):
    """Those who hold answers alike: of which asker, and which share of them keeps them how long instead (s)."""

    asker: int
    over_share: float
    over_s: float


class Holders:
    """Everyone who asks names: who holds answers alike (`holders`), the holder of each entry and call (-1: it asks no
    name), the names by which each holder goes (`below`), and per name who goes by it (`followers`: pairs of a call and
    the holder of that name), for how long its records are held by some (`spans`, s) and by clients (s)."""

    def __init__(self, network: Network) -> None:
        self._network, self._names = network, network.names
        self._find_holders()
        self._find_spans()

    def _find_holders(self) -> None:
        """Everyone who asks, and how each entry follows from what they are told."""
        entries, calls, plan = self._network.entries, self._network.calls, self._network.plan
        self.holders: list[Holder] = []
        number: dict[Holder, int] = {}
        self.of_entry = np.full(len(entries.call), -1)
        self.of_call = np.full(len(calls.client), -1)
        for entry in np.flatnonzero(entries.asker >= 0):
            client = int(calls.client[entries.call[entry]])
            keeps = plan.clients[client].overholds if client < len(plan.clients) and entries.member[entry] < 0 else None
            share, keeps_s = (keeps.share, keeps.s if keeps.share else 0.0) if keeps else (0.0, 0.0)
            if client == len(plan.clients):
                # Whoever probes asks anew each time.
                share, keeps_s = 1.0, 0.0
            holder = Holder(int(entries.asker[entry]), share, keeps_s)
            mine = number.setdefault(holder, len(number))
            self.of_entry[entry] = mine
            if entries.member[entry] < 0:
                self.of_call[entries.call[entry]] = mine
        self.holders = list(number)
        self.below = self._names_below()
        self.areas = sorted({self._names.askers[one.asker].area for one in self.holders})
        self._find_followers(number)

    def _names_below(self) -> list[tuple[int, ...]]:
        return [self._names.names_below(self._names.askers[one.asker].name) for one in self.holders]

    def _find_followers(self, number: dict[Holder, int]) -> None:
        """Per name who goes by it, himself or through an alias: pairs of a call and the holder of that name."""
        plan, calls = self._network.plan, self._network.calls
        self.followers: list[list[tuple[int, int]]] = [[] for _ in plan.names]
        for call in np.flatnonzero((self.of_call >= 0) & (calls.client < len(plan.clients))):
            holder = self.holders[self.of_call[call]]
            area = self._names.askers[holder.asker].area
            for name in self.below[self.of_call[call]]:
                own = Holder(self._names.asker(name, area), holder.over_share, holder.over_s)
                self.followers[name].append((int(call), number.setdefault(own, len(number))))
        self.holders = list(number)
        self.every = range(len(self.holders))
        self.below = self._names_below()

    def _find_spans(self) -> None:
        """Per name for how long its records are held (s), by some of those who go by it."""
        self.spans: list[list[float]] = []
        for name, entry in enumerate(self._network.plan.names):
            over = {self.holders[holder].over_s for _, holder in self.followers[name]}
            asked = any(
                name in below and one.over_share < 1 for one, below in zip(self.holders, self.below, strict=True)
            )
            self.spans.append(sorted(span for span in over | ({entry.ttl_s} if asked else set()) if span > 0))
        self.longest_s = [max(spans, default=0.0) for spans in self.spans]
        clients = [{self.holders[holder] for _, holder in followers} for followers in self.followers]
        self.clients_hold_s = [
            max([entry.ttl_s, *(one.over_s for one in some)]) if some else 0.0
            for entry, some in zip(self._network.plan.names, clients, strict=True)
        ]


class Tails:
    """The records of the recent past, each with the second from which on it was valid, and who may hold them still."""

    def __init__(self, who: Holders, records: Sequence[Record]) -> None:
        self.who = who
        self._times: list[list[float]] = [[0.0] for _ in records]
        self._records = [[record] for record in records]
        # When each name's record changed, all of it.
        self._changes: list[list[float]] = [[] for _ in records]

    @property
    def settles_s(self) -> float:
        """The second from which on nobody holds an answer that has changed; 0 if none ever did."""
        held = zip(self._changes, self.who.clients_hold_s, strict=True)
        return max((changes[-1] + hold_s for changes, hold_s in held if changes), default=0.0)

    def next_s(self, now: float) -> float:
        """The next second at which a tail bends, ends or is looked at again; inf when nobody holds old answers."""
        best = NEVER
        for changed, span in self._tails(now):
            step = span / STEPS_OF_TAIL
            done = np.floor((now - changed) / step + 1e-6)
            best = min(best, round(changed + (done + 1) * step, DIGITS))
        return best

    def bends_s(self, now: float) -> float:
        """The next second at which a tail bends or ends: until then every record's share changes evenly."""
        return min((round(changed + span, DIGITS) for changed, span in self._tails(now)), default=NEVER)

    def _tails(self, now: float) -> Iterator[tuple[float, float]]:
        """When answers changed, and for how long some then hold the old ones, who do so still; without those who hold
        them for ever."""
        for times, spans in zip(self._times, self.who.spans, strict=True):
            for changed in times[1:]:
                yield from ((changed, span) for span in spans if now < changed + span - TOGETHER_S < NEVER)

    def stands(self, now: float) -> Iterator[Floats | Ints]:
        """The records that anyone holds, and for how long they have been valid (s)."""
        for times, records, longest_s in zip(self._times, self._records, self.who.longest_s, strict=True):
            held = [at for at in range(len(times)) if at + 1 == len(times) or times[at + 1] > now - longest_s]
            yield np.array([now - times[at] for at in held[1:]])
            yield np.frombuffer(b"".join(b"".join(records[at].key) for at in held), dtype=np.uint8).astype(np.int64)
