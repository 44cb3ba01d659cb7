"""What keeps strangers out: only loopback names as `Host`, only our own pages, bodies of bounded size, and headers for
the browser."""

import hmac
import re
from urllib.parse import parse_qs

from starlette.responses import RedirectResponse, Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

SECURITY_HEADERS = (
    (b"x-content-type-options", b"nosniff"),
    (b"referrer-policy", b"no-referrer"),
    (b"x-frame-options", b"DENY"),
    (
        b"content-security-policy",
        b"default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; "
        b"base-uri 'none'; form-action 'self'",
    ),
)

# What is read as it comes, and not kept: logs.
MOST_STREAMED = 20_000_000_000
COOKIE = "northgate"
LOCAL = re.compile(r"(?:localhost|127(?:\.[0-9]{1,3}){3}|\[::1\])(?::[0-9]{1,5})?", re.IGNORECASE)


def is_local_host(host: str) -> bool:
    """Whether a `Host` header names this machine's loopback: against pages that rebind their name to 127.0.0.1."""
    return LOCAL.fullmatch(host) is not None


class Guards:
    """ASGI middleware: refuses foreign hosts, foreign origins and oversized bodies, adds security headers.

    With a token it answers only those who bring it: in a cookie, which the address with the token sets, or as
    `Authorization: Bearer`. It keeps other users of the machine out.
    """

    def __init__(self, app: ASGIApp, token: str | None = None) -> None:
        self._app, self._token = app, token

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Passes on what is allowed; every answer has the headers, refusals too."""
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return

        async def with_headers(message: Message) -> None:
            if message["type"] == "http.response.start":
                own = {name.lower() for name, _ in message["headers"]}
                added = [header for header in SECURITY_HEADERS if header[0] not in own]
                message = {**message, "headers": [*message["headers"], *added]}
            await send(message)

        headers = {name.lower(): value.decode("latin-1") for name, value in scope["headers"]}
        refusal = _refused(headers, scope["path"])
        if refusal is None and self._token and not _brings(headers, self._token):
            if _asked_with(scope, self._token):
                await _let_in(scope["path"], self._token)(scope, receive, with_headers)
                return
            refusal = 401, "Only for who has its token", "Open the address that North Gate told when it was started"
        if refusal is not None:
            await _refusal(*refusal)(scope, receive, with_headers)
        elif b"content-length" in headers or b"transfer-encoding" in headers:
            await self._bounded(headers, scope, receive, with_headers)
        else:
            # It has no body (RFC 9112, 6.3).
            await self._app(scope, receive, with_headers)

    async def _bounded(self, headers: dict[bytes, str], scope: Scope, receive: Receive, send: Send) -> None:
        declared, most = headers.get(b"content-length", "0"), _most(scope["path"])
        if not declared.isdigit() or int(declared) > most:
            await _too_large(most)(scope, receive, send)
            return
        seen = 0

        async def counted() -> Message:
            nonlocal seen
            message = await receive()
            seen += len(message.get("body", b""))
            if seen > most:
                raise _TooLarge
            return message

        try:
            await self._app(scope, counted, send)
        except _TooLarge:
            await _too_large(most)(scope, receive, send)


class _TooLarge(Exception):
    """The body went on beyond what its length declared."""


# The first page is handed out before what follows is loaded: what knows plans.


def _most(path: str) -> int:
    """How many bytes a body may have."""
    from northgate.plan.reading import MAX_BYTES

    return MOST_STREAMED if path.endswith("/take-in") else MAX_BYTES


def _too_large(most: int) -> Response:
    return _refusal(413, "Too large", f"A request may hold {most // 1_000_000} MB at most")


def _refusal(status: int, title: str, detail: str) -> Response:
    from northgate.web.told.details import problem_response

    return problem_response(status, title, detail)


def _brings(headers: dict[bytes, str], token: str) -> bool:
    """Whether a request has the token: in its cookie, or as a bearer."""
    cookies = (one.strip().partition("=") for one in headers.get(b"cookie", "").split(";"))
    given = [value for name, _, value in cookies if name == COOKIE]
    kind, _, bearer = headers.get(b"authorization", "").partition(" ")
    given += [bearer.strip()] if kind.lower() == "bearer" else []
    return any(hmac.compare_digest(one.encode(), token.encode()) for one in given)


def _asked_with(scope: Scope, token: str) -> bool:
    """Whether the token stands in the address of a page."""
    given = parse_qs(scope["query_string"].decode("latin-1")).get("token", [""])[0]
    page = scope["method"] == "GET" and not scope["path"].startswith("/api")
    return page and hmac.compare_digest(given.encode(), token.encode())


def _let_in(path: str, token: str) -> Response:
    """On to the same page without the token in its address, which is in a cookie from then on."""
    answer = RedirectResponse(f"/{path.lstrip('/')}", 303)
    answer.set_cookie(COOKIE, token, httponly=True, samesite="strict")
    return answer


def _refused(headers: dict[bytes, str], path: str) -> tuple[int, str, str] | None:
    """Why a request is refused: status, title and detail; None where it is not."""
    host, origin = headers.get(b"host", ""), headers.get(b"origin")
    if not is_local_host(host):
        return 421, "Not for this host", "North Gate answers to localhost and loopback addresses only"
    if origin is not None and origin.lower() != f"http://{host.lower()}":
        return 403, "Not from this origin", "Requests from pages of other origins are refused"
    # What the browser says of who asks cannot be set by a page.
    if path.startswith("/api") and headers.get(b"sec-fetch-site", "none") not in ("same-origin", "none"):
        return 403, "Not from this site", "Requests from pages of other sites are refused"
    return None
