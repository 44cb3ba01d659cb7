"""The application: every endpoint over one store, behind the guards."""

from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager

from fastapi import APIRouter, FastAPI

from northgate import __version__
from northgate.store.repository import Repository
from northgate.web import plans, questions
from northgate.web.computing import Computer
from northgate.web.door.guards import Guards
from northgate.web.door.opening import make_room
from northgate.web.told.problems import add_problem_handlers

# What a board asks for while it opens.
FIRST = (plans.schema_router, plans.router, questions.router)


def make_app(repository: Repository, token: str | None = None) -> FastAPI:
    """The application over a repository; with a token, for those alone who bring it."""
    return app_over(Computer(repository), token)


def first_app(computer: Computer, token: str | None = None) -> FastAPI:
    """That part of the application which answers while a board opens; it is loaded in less time than all of it."""
    return _made_of(FIRST, computer, token)


def app_over(computer: Computer, token: str | None = None) -> FastAPI:
    """The application over what computes for it."""
    from northgate.web import edits, judging
    from northgate.web.deciding import handing, log, sweeping, taking, usual, variants

    rest = (edits, judging, handing, log, sweeping, taking, usual, variants)
    return _made_of((*FIRST, *(one.router for one in rest)), computer, token)


def _made_of(routers: Sequence[APIRouter], computer: Computer, token: str | None) -> FastAPI:
    app = FastAPI(title="North Gate", version=__version__, docs_url=None, redoc_url=None, lifespan=_roomy)
    app.state.computer = computer
    for router in routers:
        app.include_router(router)
    add_problem_handlers(app)
    app.add_middleware(Guards, token=token)
    return app


@asynccontextmanager
async def _roomy(_: FastAPI) -> AsyncIterator[None]:
    make_room()
    yield
