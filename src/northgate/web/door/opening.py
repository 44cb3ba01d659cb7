"""The time in which a server opens: its page is there at once, and what answers the page's questions a little later."""

import asyncio
from collections.abc import Callable
from concurrent.futures import Future
from threading import Thread

from anyio import to_thread
from starlette.applications import Starlette
from starlette.types import ASGIApp, Receive, Scope, Send

from northgate.web.door.guards import Guards
from northgate.web.door.pages import is_of_page, page_routes

THREADS = 400


def make_room() -> None:
    """Room for many who wait for what is computed, so that they keep nobody from being answered."""
    to_thread.current_default_thread_limiter().total_tokens = THREADS


class Opening:
    """ASGI application: the page and what it loads, while a thread loads the application that answers all else. What
    is asked of that meanwhile waits for it."""

    def __init__(self, load: Callable[[], ASGIApp], token: str | None = None) -> None:
        self._early = Guards(Starlette(routes=page_routes()), token)
        self._loaded = Future[ASGIApp]()
        Thread(target=self._load, args=(load,), daemon=True).start()

    def _load(self, load: Callable[[], ASGIApp]) -> None:
        try:
            self._loaded.set_result(load())
        except BaseException as error:
            # Whoever asks is told.
            self._loaded.set_exception(error)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Passes on to whoever can answer."""
        if scope["type"] == "lifespan":
            await self._live(receive, send)
        elif self._loaded.done() or not is_of_page(scope["path"]):
            app = await asyncio.wrap_future(self._loaded)
            await app(scope, receive, send)
        else:
            await self._early(scope, receive, send)

    async def _live(self, receive: Receive, send: Send) -> None:
        """Answers the server when it starts and stops."""
        while True:
            message = await receive()
            if message["type"] == "lifespan.startup":
                make_room()
            await send({"type": f"{message['type']}.complete"})
            if message["type"] == "lifespan.shutdown":
                return
