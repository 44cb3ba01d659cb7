"""Which errors are told as which problems (`details.py`)."""

from collections.abc import Sequence
from http import HTTPStatus
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from starlette.exceptions import HTTPException

from northgate.engine.base import CannotRun
from northgate.plan import PlanError, Problem
from northgate.plan.problems import did_you_mean, pointer
from northgate.store.repository import NothingToMoveTo, StaleRevision, UnknownPlan
from northgate.store.states import StoreError
from northgate.web.told.details import IncompleteEdit, ProblemDetails, problem_response
from northgate.web.waiting.leaving import Abandoned
from northgate.work import Busy


def add_problem_handlers(app: FastAPI) -> None:
    """Turns the errors of plan, engine, store and framework into problem details."""
    _of_the_plan(app)
    _of_the_store(app)

    @app.exception_handler(Abandoned)
    def abandoned(_: Request, error: Abandoned) -> JSONResponse:
        return problem_response(503, "Nobody waits for this answer any more", str(error))

    @app.exception_handler(Busy)
    def busy(_: Request, error: Busy) -> JSONResponse:
        return problem_response(503, "Too much is asked at once", str(error))

    @app.exception_handler(RequestValidationError)
    def malformed(_: Request, error: RequestValidationError) -> JSONResponse:
        problems = [Problem(pointer(one["loc"][1:]), str(one["msg"])) for one in error.errors()]
        return problem_response(422, "The request cannot be read", _first(problems), problems)

    @app.exception_handler(HTTPException)
    def refused(request: Request, error: HTTPException) -> JSONResponse:
        nowhere = error.status_code == 404 and error.detail == HTTPStatus.NOT_FOUND.phrase
        detail = f"There is no {request.url.path}" if nowhere else str(error.detail)
        return problem_response(error.status_code, _title(error), detail)


def _of_the_plan(app: FastAPI) -> None:
    @app.exception_handler(PlanError)
    def not_a_plan(_: Request, error: PlanError) -> JSONResponse:
        # What is wrong with a question has its place in that, not in the plan.
        asked = any(one.where.startswith("--") for one in error.problems)
        title = "This cannot be asked" if asked else "This is not a plan"
        return problem_response(422, title, _first(error.problems), error.problems)

    @app.exception_handler(IncompleteEdit)
    def incomplete(_: Request, error: IncompleteEdit) -> JSONResponse:
        return problem_response(422, "This is not a plan", _first(error.problems), error.problems, error.together)

    @app.exception_handler(CannotRun)
    def cannot_run(_: Request, error: CannotRun) -> JSONResponse:
        return problem_response(409, "The plan cannot be run as it stands", _first(error.problems), error.problems)


def _of_the_store(app: FastAPI) -> None:
    @app.exception_handler(UnknownPlan)
    def unknown(_: Request, error: UnknownPlan) -> JSONResponse:
        return problem_response(404, "There is no such plan", f"{error}{did_you_mean(error.key, error.known)}")

    @app.exception_handler(StaleRevision)
    def stale(_: Request, error: StaleRevision) -> JSONResponse:
        return problem_response(412, "The plan has changed since", str(error))

    @app.exception_handler(NothingToMoveTo)
    def nothing(_: Request, error: NothingToMoveTo) -> JSONResponse:
        return problem_response(409, "Nothing to do", str(error))

    @app.exception_handler(StoreError)
    def not_kept(_: Request, error: StoreError) -> JSONResponse:
        return problem_response(507, "The plans cannot be read or kept", f"{error}; nothing was changed")


def _first(problems: Sequence[Problem]) -> str:
    more = f" (and {len(problems) - 1} more)" if len(problems) > 1 else ""
    return problems[0].describe() + more if problems else ""


def _title(error: Any) -> str:
    return {404: "Not found", 405: "Not allowed", 413: "Too large", 421: "Not for this host"}.get(
        error.status_code, "The request was refused"
    )


PROBLEM_RESPONSES: dict[int | str, dict[str, Any]] = {
    status: {"model": ProblemDetails, "description": text}
    for status, text in (
        (404, "There is no such plan, drill or revision"),
        (409, "The plan cannot be run as it stands"),
        (422, "The request or the plan cannot be read"),
        (503, "Too much is asked at once"),
    )
}

EDIT_RESPONSES = PROBLEM_RESPONSES | {412: {"model": ProblemDetails, "description": "The plan has changed since"}}
