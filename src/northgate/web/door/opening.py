"""What a server answers with: its page is there at once, and what answers the page's questions a little later."""

from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, wait
from threading import Event

from anyio import to_thread
from msgspec import Struct
from starlette.applications import Starlette
from starlette.responses import Response
from starlette.routing import Match
from starlette.types import ASGIApp, Receive, Scope, Send

from northgate.web.door.guards import Guards
from northgate.web.door.pages import is_of_page, pages

THREADS = 400
READING = ("GET", "HEAD")


def make_room() -> None:
    """Room for many who wait for what is computed, so that they keep nobody from being answered."""
    to_thread.current_default_thread_limiter().total_tokens = THREADS


class Stage(Struct, frozen=True):
    """An application of a server that opens, and which questions it answers."""

    app: ASGIApp
    answers: Callable[[Scope], bool]


def part(app: Starlette) -> Stage:
    """A part of the whole: it answers what it knows."""
    return Stage(app, lambda scope: any(route.matches(scope)[0] is Match.FULL for route in app.routes))


def whole(app: Starlette) -> Stage:
    """An application that answers all."""
    return Stage(app, lambda _: True)


def prepared(answers: Mapping[tuple[str, str], bytes], revision: int, token: str | None) -> Stage:
    """Answers (JSON) that are known already, by path and query: they hold for the revision of a plan."""

    async def answer(scope: Scope, receive: Receive, send: Send) -> None:
        known = Response(answers[_asked(scope)], media_type="application/json", headers={"etag": f'"{revision}"'})
        await known(scope, receive, send)

    return Stage(Guards(answer, token), lambda scope: scope["method"] == "GET" and _asked(scope) in answers)


def _asked(scope: Scope) -> tuple[str, str]:
    return scope["path"], scope["query_string"].decode("latin-1")


class Opening:
    """ASGI application: the page and what it loads, and everything else as soon as one of the stages that come can
    answer it, the last of which answers all. `wanted` is set once somebody waits for that last one."""

    def __init__(self, stages: Sequence[Future[Stage]], wanted: Event, token: str | None = None) -> None:
        self._pages = Guards(pages(), token)
        self._stages, self._wanted = list(stages), wanted

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Passes on to whoever can answer."""
        if scope["type"] == "lifespan":
            await self._live(receive, send)
        elif is_of_page(scope["path"]):
            await self._pages(scope, receive, send)
        else:
            app = await self._who_answers(scope)
            await app(scope, receive, send)

    async def _who_answers(self, scope: Scope) -> ASGIApp:
        last = self._stages[-1]
        if scope["method"] not in READING:
            # What it changes, no earlier stage knows of.
            self._stages = [last]
        while True:
            coming = [stage for stage in self._stages if not stage.done()]
            for stage in self._stages:
                if stage.done() and stage.exception() is None and stage.result().answers(scope):
                    return stage.result().app
            if not coming:
                # It could not be loaded: whoever asks is told why.
                return last.result().app
            if coming == [last]:
                self._wanted.set()
            await to_thread.run_sync(wait, coming, None, FIRST_COMPLETED, abandon_on_cancel=True)

    async def _live(self, receive: Receive, send: Send) -> None:
        """Answers the server when it starts and stops."""
        while True:
            message = await receive()
            if message["type"] == "lifespan.startup":
                make_room()
            await send({"type": f"{message['type']}.complete"})
            if message["type"] == "lifespan.shutdown":
                return
