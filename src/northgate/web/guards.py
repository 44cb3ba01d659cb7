"""What keeps strangers out: only loopback names as `Host`, bodies of bounded size, and headers for the browser."""

import ipaddress

from starlette.types import ASGIApp, Message, Receive, Scope, Send

from northgate.plan.reading import MAX_BYTES
from northgate.web.problems import problem_response

SECURITY_HEADERS = (
    (b"x-content-type-options", b"nosniff"),
    (b"referrer-policy", b"no-referrer"),
    (b"x-frame-options", b"DENY"),
    (
        b"content-security-policy",
        b"default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'",
    ),
)


def is_local_host(host: str) -> bool:
    """Whether a `Host` header names this machine's loopback: against pages that rebind their name to 127.0.0.1."""
    name = host.rpartition(":")[0] if not host.endswith("]") and ":" in host else host
    name = name.strip("[]").lower()
    if name == "localhost":
        return True
    try:
        return ipaddress.ip_address(name).is_loopback
    except ValueError:
        return False


class Guards:
    """ASGI middleware: refuses foreign hosts, foreign origins and oversized bodies, adds security headers."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Passes on what is allowed."""
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        headers = {name.lower(): value.decode("latin-1") for name, value in scope["headers"]}
        if not is_local_host(headers.get(b"host", "")):
            detail = "North Gate answers to localhost and loopback addresses only"
            await problem_response(421, "Not for this host", detail)(scope, receive, send)
            return
        if not _same_origin(headers.get(b"origin")):
            detail = "Requests from pages of other origins are refused"
            await problem_response(403, "Not from this origin", detail)(scope, receive, send)
            return
        await self._bounded(headers, scope, receive, send)

    async def _bounded(self, headers: dict[bytes, str], scope: Scope, receive: Receive, send: Send) -> None:
        declared = headers.get(b"content-length", "0")
        too_large = problem_response(413, "Too large", f"A request may hold {MAX_BYTES // 1_000_000} MB at most")
        if not declared.isdigit() or int(declared) > MAX_BYTES:
            await too_large(scope, receive, send)
            return
        seen = 0

        async def counted() -> Message:
            nonlocal seen
            message = await receive()
            seen += len(message.get("body", b""))
            if seen > MAX_BYTES:
                raise _TooLarge
            return message

        async def with_headers(message: Message) -> None:
            if message["type"] == "http.response.start":
                own = {name.lower() for name, _ in message["headers"]}
                added = [header for header in SECURITY_HEADERS if header[0] not in own]
                message = {**message, "headers": [*message["headers"], *added]}
            await send(message)

        try:
            await self._app(scope, counted, with_headers)
        except _TooLarge:
            await too_large(scope, receive, send)


class _TooLarge(Exception):
    """The body went on beyond what its length declared."""


def _same_origin(origin: str | None) -> bool:
    return origin is None or is_local_host(origin.partition("://")[2])
