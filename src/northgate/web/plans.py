"""Endpoints on plans: list, read, import, export, copy, delete."""

import json
from functools import cache
from typing import Annotated, Literal

from fastapi import APIRouter, Depends, Query, Request, Response
from fastapi.concurrency import run_in_threadpool
from pydantic import BaseModel, Field

from northgate import work
from northgate.plan import Plan, PlanError, Problem, plan_from_text
from northgate.plan.models.schema import plan_schema
from northgate.plan.overview import index_of, next_steps
from northgate.plan.proposal import MachineRow, Server, propose, propose_server
from northgate.plan.writing import plan_as_json, plan_as_yaml
from northgate.store.examples import example_plans
from northgate.store.head import Head
from northgate.store.repository import UnknownPlan
from northgate.web import tasks
from northgate.web.computing import Computer
from northgate.web.told.model import WebAnswer
from northgate.web.told.plans import PlanHead, PlanWhole, told_head
from northgate.web.told.problems import PROBLEM_RESPONSES
from northgate.web.waiting.leaving import gone, stop_if

# The longest title that a copy can add a word to.
MOST_TITLE = 19_000
# A text of so many characters is read by another process.
LONG_TEXT = 30_000

router = APIRouter(prefix="/api/plans", tags=["plans"], responses=PROBLEM_RESPONSES)


def computer_of(request: Request) -> Computer:
    """The application's computer."""
    found: Computer = request.app.state.computer
    return found


TheComputer = Annotated[Computer, Depends(computer_of)]
# No plan has more revisions: what a question may name.
LATEST = 2**31
Revision = Annotated[int | None, Query(ge=1, le=LATEST, description="By default the current one.")]


def plan_head(computer: Computer, head: Head) -> PlanHead:
    """What the list says of a plan."""
    return told_head(computer.plan(head.key, head.revision), head)


def plan_whole(computer: Computer, head: Head, response: Response) -> PlanWhole:
    """A plan as a client reads it, with the tag that an edit of it must name."""
    response.headers["etag"] = f'"{head.revision}"'
    return PlanWhole(head=plan_head(computer, head), document=computer.plan(head.key, head.revision))


@router.get("")
def list_plans(computer: TheComputer) -> list[PlanHead]:
    """All plans; one that cannot be read is told as such, and can be given out and deleted like the others."""
    return [_listed(computer, head) for head in computer.repository.list()]


def _listed(computer: Computer, head: Head) -> PlanHead:
    try:
        return plan_head(computer, head)
    except (PlanError, UnknownPlan) as error:
        return PlanHead(
            key=head.key, name=head.key, title=head.key, revision=head.revision, agreed=head.agreed, edits=head.edits,
            can_undo=head.can_undo, can_redo=head.can_redo, instances=0, zones=0, drills=0,
            variant=head.variant, unreadable=str(error)[:300],
        )  # fmt: skip


@router.post("", status_code=201, openapi_extra={"requestBody": {"content": {"text/plain": {}}, "required": True}})
async def import_plan(request: Request, computer: TheComputer) -> PlanHead:
    """Takes in a plan file, YAML or JSON."""
    text = await text_of(request)
    # Reading takes its time: meanwhile others are answered.
    return await run_in_threadpool(lambda: plan_head(computer, computer.repository.add(read_plan_text(text), text)))


def read_plan_text(text: str) -> Plan:
    """A plan from its text; another process reads what is long. Raises PlanError."""
    if len(text) < LONG_TEXT:
        return plan_from_text(text)
    left = gone()
    return work.alone(tasks.read, text, watch=lambda: stop_if(left.is_set()), short=True)


async def text_of(request: Request) -> str:
    """The body of a request as text; raises PlanError."""
    try:
        return (await request.body()).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise PlanError([Problem("", f"is not UTF-8 text (byte {error.start})")]) from error


@router.get("/{key}")
def read_plan(key: str, computer: TheComputer, response: Response, revision: Revision = None) -> PlanWhole:
    """A plan at a revision; its `ETag` is the revision."""
    return plan_whole(computer, computer.repository.head(key, revision), response)


class IndexUser(WebAnswer):
    """An object that refers to another one."""

    kind: str
    name: str


class IndexEntry(WebAnswer):
    """An object of a plan: where it stands, what it is in few words, its addresses, who uses it, and whether nobody
    does."""

    kind: str
    name: str
    where: str
    says: str
    used_by: list[IndexUser]
    unused: bool
    addresses: list[str]


class NextStepAnswer(WebAnswer):
    """One thing that a plan still lacks: a kind of object to add, or a place to fill."""

    words: str
    add: str | None
    where: str | None


class PlanIndex(WebAnswer):
    """Everything that a plan has, and what it still lacks, the next thing to do first."""

    entries: list[IndexEntry]
    next: list[NextStepAnswer]


@router.get("/{key}/index")
def index_of_plan(key: str, computer: TheComputer, revision: Revision = None) -> PlanIndex:
    """Every object of a plan with what uses it, and what the plan still lacks."""
    plan = computer.plan(key, revision)
    return plan_index(plan)


def plan_index(plan: Plan) -> PlanIndex:
    """The index of a plan, as a client reads it."""
    return PlanIndex(
        entries=[IndexEntry.model_validate(entry, from_attributes=True) for entry in index_of(plan)],
        next=[NextStepAnswer.model_validate(step, from_attributes=True) for step in next_steps(plan)],
    )


@router.get("/{key}/file", response_class=Response)
def export_plan(
    key: str,
    computer: TheComputer,
    revision: Revision = None,
    form: Annotated[Literal["yaml", "json"], Query(alias="as")] = "yaml",
) -> Response:
    """The plan file; YAML keeps the comments and order of the text that was taken in."""
    head = computer.repository.head(key, revision)
    try:
        plan = computer.plan(key, head.revision)
    except PlanError:
        # What cannot be read is given out as it is kept.
        kept = computer.repository.document(key, head.revision)
        headers = {"content-disposition": f'attachment; filename="{key}.plan.json"'}
        return Response(kept, media_type="application/json", headers=headers)
    text = plan_as_json(plan) if form == "json" else _yaml(computer, head, plan)
    kind = "application/json" if form == "json" else "application/yaml"
    headers = {"content-disposition": f'attachment; filename="{key}.plan.{form}"'}
    return Response(text, media_type=kind, headers=headers)


def _yaml(computer: Computer, head: Head, plan: Plan) -> str:
    source = computer.repository.source(head.key, head.revision)
    untouched = (
        source and not source.lstrip().startswith("{") and computer.repository.is_as_read(head.key, head.revision)
    )
    return source if untouched and source else plan_as_yaml(plan, source)


@router.post("/{key}/copy", status_code=201)
def copy_plan(key: str, computer: TheComputer, revision: Revision = None) -> PlanHead:
    """A second plan that begins as this one is."""
    head = computer.repository.head(key, revision)
    plan = computer.plan(key, head.revision)
    copied = plan.model_copy(update={"title": f"{(plan.title or plan.name)[:MOST_TITLE]} (copy)"})
    text = plan_as_yaml(copied, computer.repository.source(key, head.revision))
    return plan_head(computer, computer.repository.add(copied, text))


@router.delete("/{key}", status_code=204)
def delete_plan(key: str, computer: TheComputer) -> None:
    """Takes a plan off the list; it can be brought back."""
    computer.repository.set_deleted(key, deleted=True)


@router.post("/{key}/restore")
def restore_plan(key: str, computer: TheComputer) -> PlanHead:
    """Brings a deleted plan back."""
    computer.repository.set_deleted(key, deleted=False)
    return plan_head(computer, computer.repository.head(key))


schema_router = APIRouter(prefix="/api", tags=["plans"])


class MachineRowBody(BaseModel):
    """A pasted machine; what is left out is proposed."""

    model_config = {"extra": "forbid"}

    name: str
    zone: str
    port: int | None = None
    capacity_rps: float | None = None
    service_ms: float | None = None
    fault_domain: str | None = None


class ProposalBody(BaseModel):
    """What a first plan is made of."""

    name: str
    title: str = ""
    regions: dict[str, list[str]] = Field(min_length=1, max_length=50)
    rows: list[MachineRowBody] = Field(max_length=20_000)
    url: str


@schema_router.post("/proposal", responses=PROBLEM_RESPONSES)
def propose_plan(body: ProposalBody) -> Plan:
    """A first plan from regions, machines and a URL; nothing is kept yet."""
    rows = [MachineRow(**row.model_dump(exclude_none=True)) for row in body.rows]
    return propose(body.name, body.title, body.regions, rows, body.url)


class ServerBody(BaseModel):
    """A server that is there already, at an address of its own."""

    model_config = {"extra": "forbid"}

    name: str
    title: str = ""
    server: str
    public_address: str
    url: str
    rps: float | None = Field(default=None, gt=0)
    capacity_rps: float | None = Field(default=None, gt=0)


@schema_router.post("/proposal/server", responses=PROBLEM_RESPONSES)
def propose_plan_of_server(body: ServerBody) -> Plan:
    """A first plan of one server as it stands today; nothing is kept yet."""
    given = body.model_dump(include={"rps", "capacity_rps"}, exclude_none=True)
    return propose_server(body.name, body.title, Server(body.server, body.public_address, **given), body.url)


class Example(WebAnswer):
    """A plan that ships with North Gate, to begin from; or a trap, to see what the review says of it."""

    name: str
    title: str
    notes: str
    is_trap: bool


# How the names of plans begin that show what can go wrong.
TRAP = "trap-"


@schema_router.get("/examples")
def list_examples() -> list[Example]:
    """The plans that ship with North Gate."""
    plans = [plan for plan, _ in example_plans().values()]
    return [
        Example(name=plan.name, title=plan.title or plan.name, notes=plan.notes, is_trap=plan.name.startswith(TRAP))
        for plan in plans
    ]


@schema_router.post("/examples/{name}", status_code=201, responses=PROBLEM_RESPONSES)
def take_example(name: str, computer: TheComputer) -> PlanHead:
    """Takes in a fresh copy of a plan that ships with North Gate."""
    plans = example_plans()
    if name not in plans:
        raise UnknownPlan(name, list(plans))
    return plan_head(computer, computer.repository.add(*plans[name]))


@schema_router.get("/schema", response_model=dict[str, object])
def schema() -> Response:
    """The JSON Schema of the plan file; `x-refers-to` says what a string names."""
    return Response(_schema_text(), media_type="application/json")


@cache
def _schema_text() -> str:
    return json.dumps(plan_schema())
