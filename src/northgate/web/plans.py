"""Endpoints on plans: list, read, import, export."""

from typing import Annotated, Literal

from fastapi import APIRouter, Depends, Query, Request, Response
from pydantic import BaseModel

from northgate.plan import Plan, PlanError, Problem, plan_from_text
from northgate.plan.writing import plan_as_json, plan_as_yaml
from northgate.store.repository import StoredPlan
from northgate.web.computing import Computer
from northgate.web.problems import PROBLEM_RESPONSES

router = APIRouter(prefix="/api/plans", tags=["plans"], responses=PROBLEM_RESPONSES)


def computer_of(request: Request) -> Computer:
    """The application's computer."""
    found: Computer = request.app.state.computer
    return found


TheComputer = Annotated[Computer, Depends(computer_of)]
Revision = Annotated[int | None, Query(ge=1, description="By default the current one.")]


class PlanHead(BaseModel):
    """A plan in the list."""

    key: str
    title: str
    revision: int
    agreed: int | None
    instances: int
    zones: int
    drills: int


class PlanWhole(BaseModel):
    """A plan at one revision; `document` is the plan file as JSON, with every default filled in."""

    head: PlanHead
    document: Plan


def _head(stored: StoredPlan) -> PlanHead:
    plan = stored.plan
    return PlanHead(
        key=stored.key,
        title=plan.title or plan.name,
        revision=stored.revision,
        agreed=stored.agreed,
        instances=len(plan.instances) + sum(fleet.count for fleet in plan.fleets),
        zones=sum(len(region.zones) for region in plan.regions),
        drills=len(plan.drills),
    )


@router.get("")
def list_plans(computer: TheComputer) -> list[PlanHead]:
    """All plans."""
    return [_head(stored) for stored in computer.repository.list()]


@router.post("", status_code=201, openapi_extra={"requestBody": {"content": {"text/plain": {}}, "required": True}})
async def import_plan(request: Request, computer: TheComputer) -> PlanHead:
    """Takes in a plan file, YAML or JSON."""
    try:
        text = (await request.body()).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise PlanError([Problem("", f"is not UTF-8 text (byte {error.start})")]) from error
    return _head(computer.repository.add(plan_from_text(text), text))


@router.get("/{key}")
def read_plan(key: str, computer: TheComputer, revision: Revision = None) -> PlanWhole:
    """A plan at a revision."""
    stored = computer.stored(key, revision)
    return PlanWhole(head=_head(stored), document=stored.plan)


@router.get("/{key}/file", response_class=Response)
def export_plan(
    key: str,
    computer: TheComputer,
    revision: Revision = None,
    form: Annotated[Literal["yaml", "json"], Query(alias="as")] = "yaml",
) -> Response:
    """The plan file."""
    stored = computer.stored(key, revision)
    text = plan_as_json(stored.plan) if form == "json" else stored.source or plan_as_yaml(stored.plan)
    kind = "application/json" if form == "json" else "application/yaml"
    headers = {"content-disposition": f'attachment; filename="{key}.plan.{form}"'}
    return Response(text, media_type=kind, headers=headers)
