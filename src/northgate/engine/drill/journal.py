"""What happens in a drill, written down."""

from collections.abc import Iterable, Mapping
from typing import Any

from msgspec import Struct, field

from northgate.engine.processes import Entry

# What may set off a cascade; and events after which something has to settle.
TRIGGERS = ("fail", "surge", "remove", "scaled", "roll")
UNSETTLING = (
    "surge", "fail", "restore", "drain", "undrain", "front", "verdict", "answer", "scaled", "remove", "expire",
    "change_answers", "roll", "rolled", "registered",
)  # fmt: skip


class Event(Struct, frozen=True):
    """Something that happened: when, of what kind, to whom, and the facts of it (words are made of them in
    `reports.words`)."""

    at_s: float
    kind: str
    about: tuple[str, ...]
    facts: Mapping[str, Any] = field(default_factory=dict)


class Cascade(Struct, frozen=True):
    """A target that no fault touches goes out, as under its load it answers too late: when, which, and what set it
    off (None: nothing before)."""

    at_s: float
    target: str
    trigger: Event | None


class Journal:
    """Reads what processes tell, and keeps it as events."""

    def __init__(self) -> None:
        self.events: list[Event] = []
        self.cascade: Cascade | None = None
        # The last second of an event after which something has to settle.
        self.unsettled_s = 0.0
        self._trigger: Event | None = None

    def write(self, now: float, entries: Iterable[Entry]) -> None:
        """Writes down what has been told at a second."""
        for entry in entries:
            facts = {"trigger": self._trigger} if entry.kind == "cascade" else dict(entry.facts)
            event = Event(now, entry.kind, entry.about, facts)
            self.events.append(event)
            if entry.kind in TRIGGERS:
                self._trigger = event
            if entry.kind in UNSETTLING:
                self.unsettled_s = now
            if entry.kind == "cascade":
                self.cascade = Cascade(now, entry.about[0], self._trigger)
