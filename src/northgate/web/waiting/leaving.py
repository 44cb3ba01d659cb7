"""Whether anybody still waits for an answer: a browser that has gone on leaves work that nobody wants."""

import asyncio
from collections.abc import AsyncIterator
from contextvars import ContextVar
from threading import Event

from fastapi import Request

LOOK_EVERY_S = 0.05

_gone: ContextVar[Event | None] = ContextVar("gone", default=None)


class Abandoned(Exception):
    """Nobody waits for this answer any more."""


def gone() -> Event:
    """Is set once the client of the request that is being answered has left; outside a request, never."""
    return _gone.get() or Event()


def stop_if(wanted: bool) -> None:
    """Raises Abandoned where that is wanted."""
    if wanted:
        raise Abandoned


async def watch_client(request: Request) -> AsyncIterator[None]:
    """While a request is answered, looks whether its client is still there."""
    left = Event()
    token = _gone.set(left)

    async def look() -> None:
        while not await request.is_disconnected():
            await asyncio.sleep(LOOK_EVERY_S)
        left.set()

    looking = asyncio.create_task(look())
    try:
        yield
    finally:
        looking.cancel()
        _gone.reset(token)
