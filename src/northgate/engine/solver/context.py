"""What the stages of a pass work with, and what they hand on."""

from msgspec import Struct

from northgate.engine.base import Floats, Ints
from northgate.engine.formulas import Queue
from northgate.engine.network import Network
from northgate.engine.solver.connections import OpenConnections
from northgate.engine.solver.retries.attempts import Repeats
from northgate.engine.solver.state import State
from northgate.engine.solver.unloaded import Unloaded


class Context(Struct, frozen=True):
    """One state while it is solved: what of it does not depend on load, its calls that may be tried more than once, and
    those over open connections."""

    unloaded: Unloaded
    repeats: Repeats
    connected: OpenConnections

    @property
    def network(self) -> Network:
        """The network."""
        return self.unloaded.network

    @property
    def state(self) -> State:
        """The state that is solved."""
        return self.repeats.state


class Stage:
    """What every stage of a pass asks its context for, at hand."""

    def __init__(self, context: Context) -> None:
        self.network, self.state = context.network, context.state
        self.unloaded, self.frame, self.choice = context.unloaded, context.unloaded.frame, context.unloaded.choice
        self.repeats, self.connected = context.repeats, context.connected
        self.fates, self.fate_of_call = self.unloaded.fates, self.unloaded.fate_of_call
        self.routes, self.cells = self.frame.routes, self.frame.cells
        self.dns_share = self.state.dns_share


class Sent(Struct, frozen=True):
    """Rates on the way forward: per entry and row, and per fate (first axis) by route, weighted group and cell."""

    entry: Floats
    row: Floats
    route: Floats
    weighted: Floats
    cell: Floats


class Stop(Struct, frozen=True):
    """Requests of some fates that end at some pairs which take them, after they may have tried others; by place, each a
    fate and a pair: what ends there, and what of it after 0, 1, ... silent ones, (tries + 1, places)."""

    fate: Ints
    pairs: Ints
    share: Floats
    waited: Floats


class Forth(Struct, frozen=True):
    """A pass half-way: requests at the machines. `share` of those who are free to be sent anywhere, `ends` where the
    requests of all end, `stops` of those that have tried others."""

    share: Floats
    ends: Floats
    stops: list[Stop]
    sent: Sent
    queue: Queue


class Back(Struct, frozen=True):
    """What becomes of a request, as shares by kind: at a pair (kind, fate, pair; `values` holds all of them in one
    piece, `kinds` says of which kind each is), at a cell, at a row, at an entry, and by row of the repeats' book.
    `later`: the book after one, two, ... connects that took their time-out, where that makes a difference to what is
    too late."""

    pair: dict[int, Floats]
    kinds: Ints
    values: Floats
    cell: Floats
    row: Floats
    entry: Floats
    book: Floats
    later: tuple[Floats, ...] = ()

    @property
    def books(self) -> tuple[Floats, ...]:
        """What becomes of a connect by row of the book, after no connect that took its time-out, after one, and so
        on."""
        return (self.book, *self.later)
