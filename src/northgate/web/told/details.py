"""Problem details (RFC 9457): what a refusal says, with the place of each thing that is wrong in the plan."""

from collections.abc import Sequence
from typing import Any

from starlette.responses import JSONResponse

from northgate.plan import PlanError, Problem
from northgate.web.told.model import WebAnswer


class PlaceProblem(WebAnswer):
    """One thing that is wrong: where in the document (JSON Pointer), in which line of the text, and what."""

    where: str
    message: str
    line: int | None = None
    column: int | None = None


class Together(WebAnswer):
    """An edit that was refused with all that has to change along with it: a patch (RFC 6902), and what it changes."""

    patch: list[dict[str, Any]]
    changes: list[str]


class IncompleteEdit(PlanError):
    """An edit that leaves no plan; with more changes it would."""

    def __init__(self, error: PlanError, together: Together | None) -> None:
        super().__init__(error.problems, error.source)
        self.together = together


class ProblemDetails(WebAnswer):
    """A problem in the sense of RFC 9457."""

    type: str = "about:blank"
    title: str
    status: int
    detail: str
    problems: list[PlaceProblem] = []
    together: Together | None = None


def problem_response(
    status: int, title: str, detail: str, problems: Sequence[Problem] = (), together: Together | None = None
) -> JSONResponse:
    """A problem as a response."""
    places = [PlaceProblem(where=p.where, message=p.message, line=p.line, column=p.column) for p in problems]
    body = ProblemDetails(title=title, status=status, detail=detail, problems=places, together=together)
    return JSONResponse(body.model_dump(), status, media_type="application/problem+json")
