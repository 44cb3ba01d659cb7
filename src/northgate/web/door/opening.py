"""The time in which a server opens: its page is there at once, and what answers the page's questions a little later."""

import asyncio
from collections.abc import Callable, Sequence
from concurrent.futures import Future
from threading import Event, Thread

from anyio import to_thread
from starlette.applications import Starlette
from starlette.routing import Match
from starlette.types import Receive, Scope, Send

from northgate.web.door.guards import Guards
from northgate.web.door.pages import is_of_page, page_routes

THREADS = 400
# Where nobody asks for more than the first application answers, the next is loaded after so long (s).
UNASKED_S = 1.0


def make_room() -> None:
    """Room for many who wait for what is computed, so that they keep nobody from being answered."""
    to_thread.current_default_thread_limiter().total_tokens = THREADS


class Opening:
    """ASGI application: the page and what it loads, while a thread loads the applications that answer all else, each
    all that the one before it does and more. What is asked meanwhile waits for the first that answers it."""

    def __init__(self, loads: Sequence[Callable[[], Starlette]], token: str | None = None) -> None:
        self._early = Guards(Starlette(routes=page_routes()), token)
        self._loaded = [Future[Starlette]() for _ in loads]
        # Is set once something is asked for that waits for all.
        self._wanted = Event()
        Thread(target=self._load, args=(loads,), daemon=True).start()

    def _load(self, loads: Sequence[Callable[[], Starlette]]) -> None:
        for number, (load, loaded) in enumerate(zip(loads, self._loaded, strict=True)):
            if number:
                # What is there answers sooner while nothing else is loaded.
                self._wanted.wait(UNASKED_S)
            try:
                loaded.set_result(load())
            except BaseException as error:
                # Whoever asks is told.
                for one in self._loaded[number:]:
                    one.set_exception(error)
                return

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Passes on to whoever can answer."""
        if scope["type"] == "lifespan":
            await self._live(receive, send)
        elif not self._loaded[-1].done() and is_of_page(scope["path"]):
            await self._early(scope, receive, send)
        else:
            app = await self._who_answers(scope)
            await app(scope, receive, send)

    async def _who_answers(self, scope: Scope) -> Starlette:
        *some, last = self._loaded
        if not last.done():
            for loaded in some:
                app = await asyncio.wrap_future(loaded)
                if any(route.matches(scope)[0] is Match.FULL for route in app.routes):
                    return app
            self._wanted.set()
        return await asyncio.wrap_future(last)

    async def _live(self, receive: Receive, send: Send) -> None:
        """Answers the server when it starts and stops."""
        while True:
            message = await receive()
            if message["type"] == "lifespan.startup":
                make_room()
            await send({"type": f"{message['type']}.complete"})
            if message["type"] == "lifespan.shutdown":
                return
