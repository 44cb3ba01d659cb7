"""Endpoints that ask the engine: the state now, a drill, a drill at a second, what if."""

import datetime
from collections.abc import Sequence
from typing import Annotated, Literal

from fastapi import APIRouter, Depends, Query, Response
from pydantic import BaseModel, Field

from northgate.engine.processes import Phases
from northgate.engine.reports import (
    BoardState,
    Change,
    DrillAnswer,
    FoldedStrip,
    LeverAnswer,
    ListenerRules,
    PhasesAnswer,
    ProbeConsequence,
    Strip,
    WhatIfAnswer,
    ZoneLoss,
    board_state,
    drill_answer,
    folded_strips,
    listener_rules,
    phases_answer,
    probe_consequence,
    proofs_at,
    strips,
)
from northgate.engine.trace import Question, TraceAnswer
from northgate.plan.models.faults import Part
from northgate.web.plans import Revision, TheComputer
from northgate.web.tasks import ProbeAsked
from northgate.web.told.model import WebAnswer
from northgate.web.told.problems import PROBLEM_RESPONSES
from northgate.web.told.writing import written
from northgate.web.waiting.leaving import watch_client

router = APIRouter(
    prefix="/api/plans/{key}", tags=["questions"], responses=PROBLEM_RESPONSES, dependencies=[Depends(watch_client)]
)


class WhatIfQuestion(BaseModel):
    """The parts to lose together, or to add only now, and the groups whose berths are wanted."""

    faults: list[Part] = Field(min_length=1, max_length=20)
    groups: list[str] | None = None
    change: Change = "lost"


Groups = Annotated[list[str] | None, Query(description="Groups whose berths are wanted; all, when they are few.")]


@router.get("/state", response_model=BoardState)
def state_now(key: str, computer: TheComputer, groups: Groups = None, revision: Revision = None) -> Response:
    """The board now, with no fault."""
    return written(board_state(computer.settled(key, revision), groups=groups))


@router.post("/what-if", response_model=WhatIfAnswer)
def state_under_faults(
    key: str, question: WhatIfQuestion, computer: TheComputer, revision: Revision = None
) -> Response:
    """The board at the three moments of a loss, or of an addition."""
    answer = computer.what_if(key, revision, question.faults, question.groups, question.change)
    return Response(answer, media_type="application/json")


@router.get("/drills/{drill}")
def run_a_drill(
    key: str,
    drill: str,
    computer: TheComputer,
    utilisation: Annotated[bool, Query(description="With every instance's utilisation over time?")] = True,
    revision: Revision = None,
) -> DrillAnswer:
    """A drill's outcome."""
    return drill_answer(computer.run(key, revision, drill), with_utilisation=utilisation)


class Progress(WebAnswer):
    """How far a drill that is being run has come; nothing while nobody runs it. `waits`: how many are computed before
    it, where it waits for its turn."""

    reached_s: float | None
    waits: int | None


@router.get("/drills/{drill}/progress")
def progress_of_drill(key: str, drill: str, computer: TheComputer, revision: Revision = None) -> Progress:
    """How far a drill has been run."""
    reached_s, waits = computer.drill_progress(key, revision, drill)
    return Progress(reached_s=reached_s, waits=waits)


@router.get("/drills/{drill}/phases")
def phases_of_drill(key: str, drill: str, computer: TheComputer, revision: Revision = None) -> list[PhasesAnswer]:
    """What a drill comes to if its probes notice first, as they are spread, or last."""
    every: tuple[Phases, ...] = ("best", "spread", "worst")
    return [phases_answer(computer.run(key, revision, drill, phases)) for phases in every]


@router.get("/drills/{drill}/levers")
def levers_of_drill(key: str, drill: str, computer: TheComputer, revision: Revision = None) -> list[LeverAnswer]:
    """Which settings would have helped a drill most, each with the edit that makes it so."""
    return computer.levers(key, revision, drill)


@router.get("/drills/{drill}/state")
def state_in_drill(
    key: str,
    drill: str,
    computer: TheComputer,
    at: Annotated[float, Query(ge=0, le=1e7, description="Seconds into the drill.")],
    groups: Groups = None,
    revision: Revision = None,
) -> BoardState:
    """The board at a second of a drill."""
    run = computer.run(key, revision, drill)
    return board_state(run.flow_at(at), at, groups, proofs_at(run, at))


@router.get("/drills/{drill}/strips")
def strips_of_drill(
    key: str,
    drill: str,
    computer: TheComputer,
    group: Annotated[str | None, Query(description="Only the targets of this group.")] = None,
    revision: Revision = None,
) -> list[Strip]:
    """Truth and belief of targets over a drill."""
    return strips(computer.run(key, revision, drill), group)


@router.get("/drills/{drill}/folded")
def folded_strips_of_drill(key: str, drill: str, computer: TheComputer, revision: Revision = None) -> list[FoldedStrip]:
    """Truth and belief of targets over a drill, by group and zone."""
    return folded_strips(computer.run(key, revision, drill))


@router.get("/consequences")
def consequences(key: str, computer: TheComputer, revision: Revision = None) -> list[ProbeConsequence]:
    """What each probe's numbers mean in seconds."""
    return [probe_consequence(probe) for probe in computer.plan(key, revision).probes]


class TraceQuestion(BaseModel):
    """One request, or many in turn; or the probe of a target. At a moment of a drill, or now."""

    url: Annotated[str, Field(max_length=4096)] = ""
    client: str | None = None
    source: str | None = None
    area: str | None = None
    method: Annotated[str, Field(max_length=40)] = "GET"
    headers: dict[str, str] = {}
    session: Literal["none", "kept"] = "none"
    times: int = Field(1, ge=1, le=10_000)
    vary: Literal["connection", "kept", "source", "area"] = "connection"
    show: int = Field(0, ge=0, lt=10_000, description="Whose way is told, counted from 0.")
    drill: str | None = None
    at_s: float = Field(0, ge=0, le=1e7)
    probe_group: str | None = None
    probe_target: str | None = None
    probe_front: str | None = None

    def asked(self) -> Question | ProbeAsked:
        """What is followed: the probe where one is named."""
        if self.probe_group and self.probe_target:
            return ProbeAsked(self.probe_group, self.probe_target, self.probe_front)
        own = self.model_dump(exclude={"drill", "at_s", "probe_group", "probe_target", "probe_front"})
        return Question(**own, today=datetime.date.today())


@router.post("/trace", response_model=TraceAnswer)
def trace_a_request(key: str, question: TraceQuestion, computer: TheComputer, revision: Revision = None) -> Response:
    """One request hop by hop, or what many get in turn; or a probe."""
    answer = computer.traced(key, revision, question.drill, question.at_s, question.asked())
    return Response(answer, media_type="application/json")


@router.get("/zone-losses")
def losses_of_zones(key: str, computer: TheComputer, revision: Revision = None) -> list[ZoneLoss]:
    """What each zone's loss leaves the others to carry."""
    return computer.zone_losses(key, revision)


@router.get("/rules")
def rules_of_listener(
    key: str,
    computer: TheComputer,
    balancer: str,
    listener: str,
    url: Annotated[str | None, Query(description="Which rule takes this URL, or path?", max_length=4096)] = None,
    method: Annotated[str, Query(max_length=40)] = "GET",
    header: Annotated[Sequence[str], Query(description="Headers of the request, as `name: value`.")] = (),
    revision: Revision = None,
) -> ListenerRules:
    """A listener's rules in order: their rates, what shadows them, and which of them takes a request."""
    headers = {name.strip(): value.strip() for name, _, value in (one.partition(":") for one in header)}
    return listener_rules(computer.settled(key, revision), balancer, listener, url, method, headers)
