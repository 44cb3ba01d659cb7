"""A plan that is kept: where it stands, and its texts, asked of a store by SQL alone: without what opens a store, or
reads a plan."""

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from northgate.plan.problems import PlanError, Problem
from northgate.store.splices import CHAIN, put_together

if TYPE_CHECKING:
    from northgate.plan import Plan

# Asks a store: the rows of a query, whose values are named in it after a colon.
Ask = Callable[[str, Mapping[str, Any]], Sequence[Sequence[Any]]]

PLANS = """
SELECT plan.id, plan.key, plan.agreed, plan.variant, plan.current, revision.parent, coalesce(revision.depth, 0),
EXISTS (SELECT 1 FROM revision AS child WHERE child.plan_id = plan.id AND child.parent = plan.current)
FROM plan LEFT JOIN revision ON revision.plan_id = plan.id AND revision.number = plan.current
WHERE NOT plan.deleted ORDER BY plan.id
"""
PLACE = """
SELECT parent, depth,
EXISTS (SELECT 1 FROM revision AS child WHERE child.plan_id = :plan AND child.parent = :number)
FROM revision WHERE plan_id = :plan AND number = :number
"""
# The revision that comes so many before another.
ANCESTOR = """
WITH RECURSIVE way(number, back) AS (
    VALUES (:number, 0)
    UNION ALL
    SELECT revision.parent, way.back + 1 FROM way JOIN revision
    ON revision.plan_id = :plan AND revision.number = way.number WHERE way.back < :back
)
SELECT number FROM way WHERE back = :back
"""
# The text that a revision, or the last before it that was read from one, was read from.
SOURCE = """
WITH RECURSIVE way(parent, source) AS (
    SELECT parent, source FROM revision WHERE plan_id = :plan AND number = :number
    UNION ALL
    SELECT revision.parent, revision.source FROM way JOIN revision
    ON revision.plan_id = :plan AND revision.number = way.parent WHERE way.source IS NULL
)
SELECT source FROM way WHERE source IS NOT NULL
"""


class Head(Struct, frozen=True):
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


class Kept(Struct, frozen=True):
    """A plan in a store, whatever its revisions are."""

    id: int
    key: str
    agreed: int | None
    variant: str | None


def heads(ask: Ask) -> list[tuple[Kept, Head]]:
    """All plans at their current revision, oldest first; also those whose revision is not there."""
    found = [(Kept(*row[:4]), row[4:]) for row in ask(PLANS, {})]
    return [(kept, _head(ask, kept, *rest)) for kept, rest in found]


def head_at(ask: Ask, kept: Kept, number: int) -> Head | None:
    """Where a plan stands at a revision; None where that is not there."""
    found = ask(PLACE, {"plan": kept.id, "number": number})
    return _head(ask, kept, number, *found[0]) if found else None


def _head(ask: Ask, kept: Kept, number: int, parent: int | None, depth: int, can_redo: int) -> Head:
    edits = _edits(ask, kept, number, depth)
    return Head(kept.key, number, kept.agreed, parent is not None, bool(can_redo), edits, kept.variant)


def _edits(ask: Ask, kept: Kept, number: int, depth: int) -> int:
    """How many edits lie between a revision and the agreed one, or the first when that is not among its
    ancestors."""
    agreed = [] if kept.agreed is None else ask(PLACE, {"plan": kept.id, "number": kept.agreed})
    if not agreed or agreed[0][1] > depth:
        return depth
    back = depth - int(agreed[0][1])
    found = ask(ANCESTOR, {"plan": kept.id, "number": number, "back": back})
    return back if found and found[0][0] == kept.agreed else depth


def document_of(ask: Ask, kept: Kept, number: int) -> str | None:
    """A revision as it is kept; None where it is not there. Raises PlanError where it cannot be put together."""
    chain = ask(CHAIN, {"plan": kept.id, "number": number})
    try:
        return put_together([(splices, document) for splices, document in chain]) if chain else None
    except (ValueError, TypeError) as error:
        raise PlanError([Problem("", f"revision {number} of {kept.key} cannot be put together: {error}")]) from error


def source_of(ask: Ask, kept: Kept, number: int) -> str | None:
    """The text that a revision, or the last before it that was read from one, was read from; None when it was made
    here from the first."""
    found = ask(SOURCE, {"plan": kept.id, "number": number})
    return str(found[0][0]) if found else None


def as_kept(plan: "Plan") -> str:
    """A plan as it is kept; raises PlanError where it could not be read back, so that nothing unreadable is kept."""
    from northgate.plan import plan_from_text

    text = plan.model_dump_json(by_alias=True, exclude_defaults=True)
    plan_from_text(text, plan.name, is_json=True)
    return text
