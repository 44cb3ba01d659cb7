"""What a trace answers: the request, its hops, how it ends, and what puzzles people about it."""

from typing import Any

from northgate.engine.matching import Remedy
from northgate.engine.reports import AnswerModel


class RemedyAnswer(AnswerModel):
    """One edit that would help: in words, and as a JSON Patch."""

    words: str
    patch: list[dict[str, Any]]


def remedy_answer(remedy: Remedy | None) -> RemedyAnswer | None:
    """A remedy as an answer."""
    return RemedyAnswer(words=remedy.words, patch=list(remedy.patch)) if remedy else None


class Candidate(AnswerModel):
    """One of those that a hop might have led to: its share, and why it was left out."""

    name: str
    zone: str | None = None
    chosen: bool = False
    share: float = 0.0
    excluded: str | None = None
    truth: str | None = None
    belief: str | None = None
    note: str | None = None


class Hop(AnswerModel):
    """One stage of a trace. `link` is what stands for it on the board, `where` its place in the plan."""

    kind: str
    about: str
    ok: bool
    because: str
    detail: str = ""
    latency_ms: float = 0.0
    candidates: list[Candidate] = []
    link: str | None = None
    where: str | None = None
    remedy: RemedyAnswer | None = None


class Outcome(AnswerModel):
    """How it ends: a status, or an error where there is none; and the reason in one sentence."""

    status: int | None
    error: str | None
    latency_ms: float
    target: str | None
    cause: str | None = None
    zone: str | None = None
    reason: str = ""


class Expected(AnswerModel):
    """How often a target answered, or failed with an error for a cause, against how often that was to be expected."""

    answer: str
    error: str | None
    cause: str | None = None
    zone: str | None
    count: int
    expected_share: float


class Explained(AnswerModel):
    """Something that puzzles people, and what to change if it is not wanted."""

    puzzle: str
    words: str
    remedy: RemedyAnswer | None = None


class TraceAnswer(AnswerModel):
    """A traced request. When it was sent several times: what each got (target or error), how often, and against which
    shares; `sequence` are the places of the answers, in turn, among `expected`."""

    request: dict[str, Any]
    outcome: Outcome
    hops: list[Hop]
    explained: list[Explained]
    answers: list[str]
    counts: dict[str, int]
    expected: list[Expected]
    sequence: list[int]
