"""Requests as rules see them. Sources: RFC 3986 section 5.2.4 (dot segments), RFC 9110 section 4.2.3 (hosts)."""

import re
from functools import lru_cache
from urllib.parse import parse_qsl, urlsplit, urlunsplit

from msgspec import Struct, field
from msgspec.structs import replace

from northgate.engine.base import CannotRun
from northgate.plan import Problem
from northgate.plan.models.balancers import Redirect
from northgate.plan.models.traffic import check_url

DEFAULT_PORTS = {"http": 80, "https": 443}
# A scheme without the two strokes and the host behind it.
HALF_A_URL = re.compile(r"(https?|tcp|tls|udp):(?!//[^/])(?!\d+(/|$))")
# The scheme of one who only connects, as a probe by tcp does.
CONNECT = "connect"


class Request(Struct, frozen=True):
    """What a rule may look at, except the source; `path` is without dot segments, headers are in lower case."""

    scheme: str
    host: str
    port: int
    path: str
    method: str = "GET"
    headers: dict[str, str] = field(default_factory=dict)
    query: tuple[tuple[str, str], ...] = ()


def request_for(url: str, method: str = "GET", headers: dict[str, str] | None = None) -> Request:
    """The request that a URL makes."""
    asked = _request_of(url)
    lowered = {name.lower(): value for name, value in (headers or {}).items()}
    return replace(asked, method=method, headers=lowered) if lowered or method != asked.method else asked


def asked_request(
    url: str, scheme: str, method: str = "GET", headers: dict[str, str] | None = None, host: str = ""
) -> Request:
    """The request for a URL that somebody typed, perhaps without its scheme, or a path alone, which is then asked of
    `host`; raises CannotRun when it is none."""
    half = HALF_A_URL.match(url)
    if half:
        sample = f"{half[1]}://www.beckwater.example/tiles/7"
        raise CannotRun([Problem("/url", f"{url!r} is not a URL such as {sample}; a path alone begins with /")])
    whole = url if "://" in url else f"{scheme}://{host if url.startswith('/') else ''}{url}"
    try:
        return request_for(check_url(whole), method, headers)
    except ValueError as error:
        raise CannotRun([Problem("/url", str(error))]) from error


@lru_cache(maxsize=4096)
def _request_of(url: str) -> Request:
    parts = urlsplit(url)
    return Request(
        scheme=parts.scheme,
        host=plain_host(parts.hostname or ""),
        port=parts.port or DEFAULT_PORTS.get(parts.scheme, 0),
        path=plain_path(parts.path),
        query=tuple(parse_qsl(parts.query, keep_blank_values=True)),
    )


def plain_host(text: str) -> str:
    """A host for comparison: lower case, without port, brackets and trailing dot."""
    host = text.lower()
    if host.startswith("["):
        return host[1:].partition("]")[0]
    return (host.partition(":")[0] if host.count(":") == 1 else host).rstrip(".")


def plain_path(path: str) -> str:
    """A path without dot segments (RFC 3986 section 5.2.4); nothing is decoded."""
    kept: list[str] = []
    segments = path.split("/")[1:] if path.startswith("/") else path.split("/")
    for segment in segments:
        if segment == "..":
            kept = kept[:-1]
        elif segment != ".":
            kept.append(segment)
    if segments and segments[-1] in (".", ".."):
        kept.append("")
    return "/" + "/".join(kept)


def url_of(request: Request) -> str:
    """The URL of a request."""
    port = {"http": 80, "https": 443}.get(request.scheme) == request.port
    return urlunsplit(
        (request.scheme, request.host if port else f"{request.host}:{request.port}", request.path, "", "")
    )


def redirected(request: Request, redirect: Redirect) -> Request:
    """What the client asks next: what a redirect does not give stays as it was asked."""
    scheme = redirect.protocol or request.scheme
    port = redirect.port or (request.port if scheme == request.scheme else {"http": 80, "https": 443}[scheme])
    return replace(
        request, scheme=scheme, host=plain_host(redirect.host or request.host), port=port,
        path=redirect.path or request.path,
    )  # fmt: skip
