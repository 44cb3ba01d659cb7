"""What is told of a plan that is kept."""

from dataclasses import dataclass


@dataclass(frozen=True)
class Head:
    """Where a plan stands: its key, the revision looked at, the agreed one, and what can be undone and redone.

    `edits` counts those since the agreed revision, or since the plan was taken in; `variant` is what a variant of
    another plan is called.
    """

    key: str
    revision: int
    agreed: int | None
    can_undo: bool
    can_redo: bool
    edits: int
    variant: str | None = None
