"""Endpoints that edit a plan: JSON Patch against a revision, undo, redo, agree, and what renaming and deleting need."""

import re
from collections.abc import Sequence
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Body, Depends, Header, Query, Request, Response
from fastapi.concurrency import run_in_threadpool
from pydantic import BaseModel, Field

from northgate.engine.base import CannotRun
from northgate.engine.reports import BoardState, ProbeConsequence, board_state, probe_consequence
from northgate.plan import Plan, PlanError, Problem
from northgate.plan.difference import difference, place_words
from northgate.plan.editing import MAX_OPERATIONS, Patch, patched, removal, renaming, users_of
from northgate.plan.merging import merged
from northgate.plan.problems import pointer
from northgate.plan.references import Reference
from northgate.plan.together import completed
from northgate.store.head import Head
from northgate.store.repository import NothingToMoveTo
from northgate.web.computing import Computer
from northgate.web.plans import LATEST, Revision, TheComputer, plan_whole, read_plan_text, text_of
from northgate.web.told.details import IncompleteEdit, PlaceProblem, Together
from northgate.web.told.model import WebAnswer
from northgate.web.told.plans import PlanWhole
from northgate.web.told.problems import EDIT_RESPONSES
from northgate.web.told.writing import written
from northgate.web.waiting.leaving import watch_client

router = APIRouter(prefix="/api/plans/{key}", tags=["edits"], responses=EDIT_RESPONSES)


class PatchOperation(BaseModel):
    """One operation of a JSON Patch (RFC 6902)."""

    op: Literal["add", "remove", "replace", "move", "copy", "test"]
    path: str
    value: Any = None
    source: str | None = Field(default=None, alias="from")

    def plain(self) -> dict[str, Any]:
        """The operation as RFC 6902 writes it."""
        made: dict[str, Any] = {"op": self.op, "path": self.path}
        if self.op in ("add", "replace", "test"):
            made["value"] = self.value
        if self.op in ("move", "copy"):
            made["from"] = self.source
        return made


class ChangeAnswer(WebAnswer):
    """One difference in words, and whether it can be made in place or replaces the thing."""

    about: str
    words: str
    effect: Literal["in place", "replace", "added", "removed"]


class EditAnswer(PlanWhole):
    """The plan after an edit, and what the edit changed, in words."""

    changes: list[ChangeAnswer]


class PreparedPatch(WebAnswer):
    """A patch to be sent, and the places that it touches besides the object itself: as pointers, and as people call
    them."""

    references: list[str]
    places: list[str]
    patch: list[dict[str, Any]]


IfMatch = Annotated[str, Header(description="The revision that the edit is made of, as in `ETag`.")]
Operations = Annotated[list[PatchOperation], Body(max_length=MAX_OPERATIONS)]


def revision_in(if_match: str) -> int:
    """The revision that an `If-Match` header names."""
    found = re.fullmatch(r'(?:W/)?"?(\d{1,12})"?', if_match.strip())
    if not found:
        raise PlanError([Problem("", f"If-Match must name one revision, as ETag does; found {if_match!r}")])
    return int(found[1])


@router.patch("", response_model=EditAnswer)
def edit_plan(
    key: str, operations: Operations, if_match: IfMatch, computer: TheComputer, response: Response
) -> Response:
    """Makes a revision by a JSON Patch on the document; 412 when the plan has moved on since."""
    patch, before = [operation.plain() for operation in operations], revision_in(if_match)

    def change(plan: Plan) -> Plan:
        try:
            return patched(plan, patch)
        except PlanError as error:
            raise IncompleteEdit(error, _offer(plan, patch)) from error

    head = computer.edit(key, before, change)
    return written(edited(computer, head, before, response), response.headers)


def _offer(plan: Plan, patch: Patch) -> Together | None:
    """What would have to change along with an edit that is refused."""
    try:
        whole = completed(plan, patch)
    except PlanError:
        return None
    if whole is None:
        return None
    changes = difference(plan, patched(plan, whole))
    return Together(patch=whole, changes=[f"{change.about}: {change.words}" for change in changes])


class Preview(WebAnswer):
    """What an edit would make of the plan: the document, the board now, what each probe would mean, or what would stand
    in the way of a run."""

    document: Plan
    state: BoardState | None
    consequences: list[ProbeConsequence]
    problems: list[PlaceProblem]


class PreviewQuestion(BaseModel):
    """An edit that is only looked at, and the groups whose berths are wanted."""

    patch: Operations
    groups: list[str] | None = None


@router.post("/preview", dependencies=[Depends(watch_client)])
def preview_edit(key: str, question: PreviewQuestion, computer: TheComputer, revision: Revision = None) -> Preview:
    """What an edit would make of the plan; nothing is kept of it."""
    made = patched(computer.plan(key, revision), [operation.plain() for operation in question.patch])
    state, problems = None, list[PlaceProblem]()
    try:
        state = board_state(computer.settled_of(made), groups=question.groups)
    except CannotRun as error:
        problems = [PlaceProblem(where=one.where, message=one.message) for one in error.problems]
    meanings = [probe_consequence(probe) for probe in made.probes]
    return Preview(document=made, state=state, consequences=meanings, problems=problems)


@router.put("/file", openapi_extra={"requestBody": {"content": {"text/plain": {}}, "required": True}})
async def update_from_file(
    key: str, request: Request, if_match: IfMatch, computer: TheComputer, response: Response
) -> EditAnswer:
    """Makes a revision that is what a plan file says, YAML or JSON; answers with what that changes."""
    text, before = await text_of(request), revision_in(if_match)

    def update() -> EditAnswer:
        made = read_plan_text(text)
        return edited(computer, computer.edit(key, before, lambda _: made, text), before, response)

    return await run_in_threadpool(update)


@router.post("/undo")
def undo(key: str, if_match: IfMatch, computer: TheComputer, response: Response) -> EditAnswer:
    """Goes back to the revision before."""
    before = revision_in(if_match)
    return edited(computer, computer.repository.undo(key, before), before, response)


@router.post("/redo")
def redo(key: str, if_match: IfMatch, computer: TheComputer, response: Response) -> EditAnswer:
    """Goes on to the revision that was undone."""
    before = revision_in(if_match)
    return edited(computer, computer.repository.redo(key, before), before, response)


def edited(computer: Computer, head: Head, before: int, response: Response) -> EditAnswer:
    """The plan at its new revision, with the difference to the one before."""
    whole = plan_whole(computer, head, response)
    return EditAnswer(
        head=whole.head, document=whole.document, changes=_changes(computer, head.key, before, head.revision)
    )


def _changes(computer: Computer, key: str, since: int, revision: int | None) -> list[ChangeAnswer]:
    changes = difference(computer.plan(key, since), computer.plan(key, revision))
    return [ChangeAnswer.model_validate(change, from_attributes=True) for change in changes]


class EditAgain(BaseModel):
    """An edit that came too late: the revision that it was made of, and its JSON Patch."""

    made_of: int = Field(ge=1)
    patch: Operations


@router.post("/again")
def edit_again(key: str, late: EditAgain, if_match: IfMatch, computer: TheComputer, response: Response) -> EditAnswer:
    """Makes an edit of an earlier revision once more, of the current one: what it meant is found by name."""
    patch, before = [operation.plain() for operation in late.patch], revision_in(if_match)
    base = computer.plan(key, late.made_of)
    head = computer.edit(key, before, lambda now: merged(base, patched(base, patch), now))
    return edited(computer, head, before, response)


@router.post("/revert")
def revert(
    key: str,
    revision: Annotated[int, Query(ge=1, le=LATEST, description="The revision whose edit is taken back.")],
    if_match: IfMatch,
    computer: TheComputer,
    response: Response,
) -> EditAnswer:
    """Takes back what one edit changed, however many have come since: they stay."""
    before, parent = revision_in(if_match), computer.repository.parent(key, revision)
    if parent is None:
        raise NothingToMoveTo("no edit made this revision")
    base, undone = computer.plan(key, revision), computer.plan(key, parent)
    head = computer.edit(key, before, lambda now: merged(base, undone, now))
    return edited(computer, head, before, response)


@router.get("/difference")
def difference_in_words(
    key: str, computer: TheComputer, since: Annotated[int, Query(ge=1, le=LATEST)], revision: Revision = None
) -> list[ChangeAnswer]:
    """What a revision has other than an earlier one."""
    return _changes(computer, key, since, revision)


@router.get("/removal")
def prepare_removal(key: str, computer: TheComputer, kind: str, name: str, revision: Revision = None) -> PreparedPatch:
    """What deleting an object takes along, and the patch that does it."""
    plan = computer.plan(key, revision)
    return _prepared(plan, users_of(plan, kind, name), removal(plan, kind, name))


def _prepared(plan: Plan, users: Sequence[Reference], patch: Patch) -> PreparedPatch:
    return PreparedPatch(
        references=[pointer(reference.location) for reference in users],
        places=[place_words(plan, reference.location) for reference in users],
        patch=patch,
    )


@router.get("/renaming")
def prepare_renaming(
    key: str, computer: TheComputer, kind: str, name: str, to: str, revision: Revision = None
) -> PreparedPatch:
    """The patch that renames an object and every reference to it."""
    plan = computer.plan(key, revision)
    return _prepared(plan, users_of(plan, kind, name), renaming(plan, kind, name, to))
