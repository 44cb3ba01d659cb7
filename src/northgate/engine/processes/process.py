"""What all processes share: when they next move, and what they then have to tell."""

from collections.abc import Iterable, Mapping
from typing import Any, Protocol

from msgspec import Struct, field


class Entry(Struct, frozen=True):
    """Something that happened: of what kind, to whom, and the facts of it, from which words are made elsewhere."""

    kind: str
    about: tuple[str, ...]
    facts: Mapping[str, Any] = field(default_factory=dict)


class Process(Protocol):
    """Something that moves by itself between two solves."""

    def next_s(self, now: float) -> float:
        """The second at which something next happens here, after `now`; inf when nothing will."""

    def take(self, now: float) -> Iterable[Entry]:
        """Lets everything happen that is due at `now`, and tells of it."""
