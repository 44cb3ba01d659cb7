"""Everything that rates depend on at one moment."""

from collections.abc import Sequence
from math import prod

import numpy as np
from msgspec import Struct

from northgate.engine.base import Bools, Floats, Floats1, Floats2, Ints, cached, compiled, same
from northgate.engine.network import Answers
from northgate.engine.truth import Encounter, Truth


class Held(Struct, frozen=True):
    """What sources hold, as shares of them: `sessions[k, m]` of the k-th kind of session (`Network.session_kinds`) on
    member m, `connections[k, p]` of the k-th kind of connection (`Network.connection_kinds`) through pair p, of which
    `strays[k, p]` have outlived the session that led them there (no kinds, where sessions lead no connection)."""

    sessions: Floats
    connections: Floats
    strays: Floats

    @property
    def parts(self) -> tuple[Floats, Floats, Floats]:
        """All three."""
        return self.sessions, self.connections, self.strays

    def apart(self, other: "Held") -> float:
        """Which share of the sources of a kind, at most, is held otherwise."""
        made = np.zeros(1)
        for mine, theirs in zip(self.parts, other.parts, strict=True):
            if len(mine):
                _find_apart(mine, theirs, made)
        return float(made[0])


@compiled
def _find_apart(held: Floats2, others: Floats2, made: Floats1) -> None:
    """`Held.apart`, of one sort; no less than what is `made` already."""
    for kind in range(held.shape[0]):
        whole = 0.0
        for place in range(held.shape[1]):
            whole += abs(held[kind, place] - others[kind, place])
        made[0] = max(made[0], whole)


class Attempts(Struct, frozen=True, dict=True):
    """How often calls connect, against once each: `book` by what their outcomes are kept by (`repeats.Repeats`:
    entries, then classes of held calls at entries); `after_one` the same when one attempt has been made already;
    `over_open` how often over open connections, by kind and pair; `lost`: which share of the calls there goes on
    without its connection, as that has ended under it. None of it depends on how many there are.

    `numbers` are all of them in a row, one part after the other, each of its shape."""

    numbers: Floats
    shapes: tuple[tuple[int, ...], ...]

    @classmethod
    def of(cls, book: Floats, after_one: Floats, over_open: Floats, lost: Floats) -> "Attempts":
        """Attempts of these parts."""
        parts = (book, after_one, over_open, lost)
        return cls(np.concatenate([part.ravel() for part in parts]), tuple([part.shape for part in parts]))

    @cached
    def parts(self) -> tuple[Floats, Floats, Floats, Floats]:
        """Each part."""
        (rows,), (again,), over_open, lost = self.shapes
        numbers, begin = self.numbers, rows + again
        end = begin + prod(over_open)
        return numbers[:rows], numbers[rows:begin], numbers[begin:end].reshape(over_open), numbers[end:].reshape(lost)

    @property
    def book(self) -> Floats:
        """By row of the book, as above."""
        return self.parts[0]

    @property
    def after_one(self) -> Floats:
        """By row of the book, as above."""
        return self.parts[1]

    @property
    def over_open(self) -> Floats:
        """By kind of connection and pair, as above."""
        return self.parts[2]

    @property
    def lost(self) -> Floats:
        """By kind of connection and pair, as above."""
        return self.parts[3]

    def fits(self, other: "Attempts") -> bool:
        """Whether both are about the same entries, connections and classes."""
        return self.shapes == other.shapes

    def off(self, wanted: "Attempts") -> Floats:
        """How far what is wanted lies from this: all differences in a row."""
        return wanted.numbers - self.numbers

    def moved(self, by: Floats) -> "Attempts":
        """So far from here, all differences in a row; and never below nothing."""
        return Attempts(np.maximum(self.numbers + by, 0.0), self.shapes)


class State(Struct, frozen=True):
    """Everything that rates depend on: truth and what requests meet under it, what each pair's front believes, which
    fronts are in their address, which answers of each name are healthy, the answers that everyone holds, the warmth (0
    to 1) of each pair's target, the rate of each call (requests/s), the backlog of each machine (seconds of work), and
    the sessions and connections that sources hold. `attempts`: how often calls were tried in the state before, from
    which a retry storm goes on; `shares`: where those were sent who are chosen by how busy they are, a place to begin.
    `fresh`: what entries would be told if nobody held old answers. `exists`: which
    machines are there, where autoscalers launch them (None: all). `given`: which answers of each name are in its
    record, where that is changed by hand (None: all). `leaving`: the machines that leave; rates know it by `in_use`.
    `owed`: where keys bind those whose connections lead elsewhere, of each kind of session and by member, as shares of
    all these."""

    truth: Truth
    encounter: Encounter
    in_use: Bools
    in_address: Bools
    healthy: Sequence[Bools]
    answers: Answers
    warmth: Floats
    call_rps: Floats
    backlog_s: Floats
    held: Held | None = None
    attempts: Attempts | None = None
    shares: Floats | None = None
    fresh: Floats | None = None
    exists: Bools | None = None
    given: Sequence[Bools] | None = None
    leaving: Bools | None = None
    owed: Floats | None = None

    @property
    def dns_share(self) -> Floats:
        """The share of its call's first connects that each entry gets."""
        return self.answers.dns_share

    def living_in_use(self, front: Ints) -> Bools:
        """What is believed in use by fronts that live; `front` is that of each pair."""
        return np.asarray(self.in_use & ~self.truth.front_dead[front])

    def like(self, other: "State", within_s: float = 0.0) -> bool:
        """Whether rates are those of another state: all is the same but where to begin to look for them, and backlogs
        but for so many seconds."""
        mine, theirs = self._others, other._others
        return (
            self.truth is other.truth
            and self.encounter is other.encounter
            and self.answers.sets == other.answers.sets
            and len(mine) == len(theirs)
            and all(same(one, two) for one, two in zip(mine, theirs, strict=True))
            and float(np.abs(self.backlog_s - other.backlog_s).max(initial=0.0)) <= within_s
        )

    @property
    def numbers(self) -> list[Bools | Floats]:
        """All that rates depend on, but for truth and where to begin to look for them."""
        return [*self._others, self.backlog_s]

    @property
    def _others(self) -> list[Bools | Floats]:
        """All numbers but backlogs."""
        held = [] if self.held is None else self.held.parts
        others = [one for one in (self.fresh, self.exists, self.owed) if one is not None]
        return [
            self.in_use, self.in_address, *self.healthy, self.dns_share, self.warmth, self.call_rps,
            *held, *others, *(self.given or ()),
        ]  # fmt: skip

    def present(self, machines: Ints) -> Bools:
        """Whether machines are there at all."""
        return np.ones(len(machines), dtype=bool) if self.exists is None else self.exists[machines]
