"""The application: every endpoint over one store, behind the guards."""

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from fastapi import FastAPI

from northgate import __version__
from northgate.store.repository import Repository
from northgate.web import edits, judging, plans, questions
from northgate.web.computing import Computer
from northgate.web.deciding import handing, log, sweeping, taking, usual, variants
from northgate.web.door.guards import Guards
from northgate.web.door.opening import make_room
from northgate.web.door.pages import page_routes
from northgate.web.told.problems import add_problem_handlers


def make_app(repository: Repository, token: str | None = None) -> FastAPI:
    """The application over a repository; with a token, for those alone who bring it."""
    app = FastAPI(title="North Gate", version=__version__, docs_url=None, redoc_url=None, lifespan=_roomy)
    app.state.computer = Computer(repository)
    app.include_router(plans.schema_router)
    app.include_router(plans.router)
    app.include_router(edits.router)
    app.include_router(questions.router)
    app.include_router(judging.router)
    for deciding in (handing, log, sweeping, taking, usual, variants):
        app.include_router(deciding.router)
    add_problem_handlers(app)
    app.add_middleware(Guards, token=token)
    app.router.routes.extend(page_routes())
    return app


@asynccontextmanager
async def _roomy(_: FastAPI) -> AsyncIterator[None]:
    make_room()
    yield
