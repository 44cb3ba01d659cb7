"""A plan that is kept: where it stands, and its text. Loaded without what reads a store, or a plan."""

from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from northgate.plan import Plan


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


def as_kept(plan: "Plan") -> str:
    """A plan as it is kept; raises PlanError where it could not be read back, so that nothing unreadable is kept."""
    from northgate.plan import plan_from_text

    text = plan.model_dump_json(by_alias=True, exclude_defaults=True)
    plan_from_text(text, plan.name, is_json=True)
    return text
