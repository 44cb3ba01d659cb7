"""The endpoint that reads what is there already, and says what a plan would become with it; nothing changes yet."""

from collections.abc import AsyncIterator
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Query, Request
from fastapi.concurrency import run_in_threadpool

from northgate.intake import MOST_BYTES, OF_TEXT, LogReader, TakenIn, clients_of, text_in
from northgate.plan import PlanError, Problem
from northgate.web.plans import TheComputer
from northgate.web.told.model import WebAnswer
from northgate.web.told.problems import PROBLEM_RESPONSES

router = APIRouter(prefix="/api/plans/{key}", tags=["deciding"], responses=PROBLEM_RESPONSES)
# So much of a log is read at once (bytes); meanwhile others are answered.
AT_ONCE = 1_000_000


class BadLine(WebAnswer):
    """A line that could not be taken in, and what is wrong with it where that is known."""

    line: int
    text: str


class TakenInAnswer(WebAnswer):
    """What a file comes to: what it adds or changes, by name; how many lines or rows were read; how many of them could
    not be taken, with the first; what else is to be known; and the edit that takes it in (RFC 6902)."""

    added: list[str]
    read: int
    bad: int
    first_bad: list[BadLine]
    notes: list[str]
    patch: list[dict[str, Any]]


@router.post("/take-in", openapi_extra={"requestBody": {"content": {"application/octet-stream": {}}, "required": True}})
async def take_in(
    key: str,
    request: Request,
    computer: TheComputer,
    form: Annotated[
        Literal["clients", "names", "machines"],
        Query(alias="as", description="An access log becomes clients, a zone file names, a table (CSV) machines."),
    ],
    profile: Annotated[bool, Query(description="Of a log: how the rate changes from minute to minute, too?")] = False,
) -> TakenInAnswer:
    """Reads a file, and answers with the edit that takes it in. A log is read as it comes, of whatever size."""
    if request.headers.get("content-type") != "application/octet-stream":
        raise PlanError([Problem("", "a file is to be sent as application/octet-stream")])
    plan = await run_in_threadpool(computer.plan, key)
    if form == "clients":
        reader = LogReader()
        async for some in _pieces(request):
            await run_in_threadpool(reader.feed, some)
        return _answer(await run_in_threadpool(lambda: clients_of(reader.end(), plan, profile=profile)))
    text = b""
    async for some in _pieces(request):
        text = (text + some)[: MOST_BYTES + 1]
    return _answer(await run_in_threadpool(lambda: OF_TEXT[form](text_in(text), plan)))


async def _pieces(request: Request) -> AsyncIterator[bytes]:
    """The body, in pieces that are worth a thread."""
    kept = bytearray()
    async for some in request.stream():
        kept += some
        if len(kept) >= AT_ONCE:
            yield bytes(kept)
            kept.clear()
    yield bytes(kept)


def _answer(taken: TakenIn) -> TakenInAnswer:
    return TakenInAnswer(
        added=taken.added, read=taken.read, bad=taken.bad.count,
        first_bad=[BadLine(line=line, text=text) for line, text in taken.bad.first],
        notes=taken.notes, patch=taken.patch,
    )  # fmt: skip
