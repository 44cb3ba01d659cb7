"""What every stage gives: ways, each with its share, what is to be said of it, and where it leads or how it ends."""

from collections.abc import Callable, Mapping, Sequence
from typing import Generic, Literal, TypeVar

import numpy as np
from msgspec import Struct, field

from northgate.engine.base import Floats, Ints
from northgate.engine.matching import Request
from northgate.engine.solver import Flow
from northgate.engine.trace.answer import Hop
from northgate.engine.trace.history import History
from northgate.engine.trace.question import Asking, Question, Sender
from northgate.engine.truth import Paths

Next = TypeVar("Next")
# What comes of a connect: it is taken; it takes the client's time-out; it is turned away at once; or a target does not
# take that of its layer 7 balancer.
Connect = Literal["taken", "quiet", "away", "not taken"]
# What came back: the target that answered or failed to, the error (as which a status of 400 or more counts), the cause.
Label = tuple[str, str | None, str | None]


class End(Struct, frozen=True):
    """How a request ends: a status, or an error where there is none; why; and what became of its connect."""

    reason: str
    status: int | None = None
    error: str | None = None
    cause: str | None = None
    target: str | None = None
    zone: str | None = None
    connect: Connect = "taken"

    @property
    def failed(self) -> bool:
        """Whether that is a failure, after which a client repeats its call."""
        return self.error is not None or self.cause is not None

    @property
    def label(self) -> Label:
        """What came back."""
        error = self.error or (f"status {self.status}" if self.cause else None)
        return self.target or self.error or str(self.status), error, self.cause


# The hops of a way, worked out when somebody looks.
Hops = Callable[[], Sequence[Hop]]


def no_hops() -> Sequence[Hop]:
    """Nothing to be said."""
    return ()


class Way(Struct, Generic[Next], frozen=True):
    """One way that a request can take at a stage: its share, where it leads (`next`) or how it ends, what time it takes
    (s), and its hops, worked out when somebody looks."""

    share: float
    next: Next | None = None
    end: End | None = None
    takes_s: float = 0.0
    hops: Hops = no_hops


def shares_of(ways: Sequence[Way[Next]]) -> Floats:
    """The shares of ways."""
    return np.array([way.share for way in ways])


class Holds(Struct, frozen=True):
    """What holds a class of sources: per cell the order in which its key falls (positions of targets, -1 past the
    last), and per group the member to which a session binds it (-1: none)."""

    orders: Mapping[int, Ints] = field(default_factory=dict)
    sessions: Mapping[int, int] = field(default_factory=dict)


class Here(Struct, frozen=True):
    """Where a request is on its way: who asks, what holds it, what time of its budget has passed (s), by when balancers
    that it came through want an answer (s), behind how many balancers it is, and through which front it came last."""

    sender: Sender
    holds: Holds = field(default_factory=Holds)
    spent_s: float = 0.0
    due_s: float = np.inf
    depth: int = 0
    source: int | None = None

    @property
    def left_s(self) -> float:
        """How long its answer may still take, of the budget of the attempt and of what balancers wait."""
        return min(self.sender.timeout_s, self.due_s) - self.spent_s


class Context:
    """What stages look at: the flow of a moment, the question, what happened before, and what the requests so far have
    kept (`kept`: by point of choice)."""

    def __init__(self, flow: Flow, question: Question, history: History) -> None:
        self.flow, self.network, self.plan = flow, flow.network, flow.network.plan
        self.question, self.history, self.paths = question, history, Paths.of(flow.network)
        self.asking = Asking(self.plan, question)
        self.client, self.request = self.asking.client, self.asking.request
        self.kept: dict[tuple[object, ...], object] = {}
        # Whether the request on its way goes over the connection of the one before.
        self.same_connection = False

    @property
    def keeps(self) -> bool:
        """Whether each request keeps the connection of the one before."""
        return self.question.vary == "kept"

    def kept_at(self, *point: object) -> object | None:
        """What has been chosen at a point before, by a client who keeps his connection."""
        return self.kept.get(point) if self.keeps and self.same_connection else None


def address_point(request: Request, sender: Sender) -> tuple[object, ...]:
    """The point at which a sender chooses among the addresses of a host."""
    return "address", request.host, sender.area
