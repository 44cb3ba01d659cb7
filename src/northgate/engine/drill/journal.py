"""What happens in a drill."""

from dataclasses import dataclass


@dataclass(frozen=True)
class Vote:
    """Who probes an answer of a name from an area has changed its mind: when, and to what."""

    at_s: float
    name: int
    answer: int
    area: int
    believed: bool


@dataclass(frozen=True)
class Event:
    """Something that happened: when, what kind, to whom, and in words."""

    at_s: float
    kind: str
    about: tuple[str, ...]
    message: str


@dataclass(frozen=True)
class Cascade:
    """A target that no fault touches goes out, as under its load it answers too late: when, which, and what set it
    off (None: nothing before)."""

    at_s: float
    target: str
    trigger: str | None
