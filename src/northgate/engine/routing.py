"""Which rule of a listener takes a request. Rules see the request only, never health.

Sources: RFC 3986 section 5.2.4 (dot segments), RFC 9110 section 4.2.3 (hosts compare without case), RFC 9110 section
5.1 (header names compare without case).
"""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache
from urllib.parse import parse_qsl, urlsplit

from northgate.engine.errors import CannotRun
from northgate.engine.reach import Range, within
from northgate.plan import Problem
from northgate.plan.balancers import Balancer, Listener, When
from northgate.plan.traffic import check_url

DEFAULT_PORTS = {"http": 80, "https": 443}
# The scheme of one who only connects, as a probe by tcp does.
CONNECT = "connect"
# What each kind of listener takes, by the scheme of what is asked; at layer 4 the bytes alone matter.
TAKES = {
    "http": ("http", CONNECT),
    "https": ("https", CONNECT),
    "tcp": ("tcp", "http", "https", "tls", CONNECT),
    "tls": ("tls", "https", CONNECT),
    "udp": ("udp",),
}
OTHERWISE = -1
NO_PAGE = 404


@dataclass(frozen=True)
class Request:
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


def asked_request(url: str, scheme: str, method: str = "GET", headers: dict[str, str] | None = None) -> Request:
    """The request for a URL that somebody typed, perhaps without its scheme; raises CannotRun when it is none."""
    whole = url if "://" in url else f"{scheme}://{url}"
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


def host_matches(pattern: str, host: str) -> bool:
    """Whether a host fits a pattern: the same, or one label in place of a leading `*`."""
    wanted = plain_host(pattern)
    if not wanted.startswith("*."):
        return wanted == host
    label, dot, rest = host.partition(".")
    return bool(label and dot) and rest == wanted[2:]


def path_matches(pattern: str, path: str) -> bool:
    """Whether a path is the pattern, or begins with what stands before its trailing `*`."""
    return path.startswith(pattern[:-1]) if pattern.endswith("*") else path == pattern


def matches(when: When, request: Request) -> bool:
    """Whether everything that `when` asks fits the request, its source aside."""
    if when.path is not None and not any(path_matches(pattern, request.path) for pattern in when.path):
        return False
    return (
        (when.host is None or any(host_matches(pattern, request.host) for pattern in when.host))
        and (when.method is None or request.method in when.method)
        and all(request.headers.get(name.lower()) in values for name, values in (when.header or {}).items())
        and all(
            any(key == name and value in values for key, value in request.query)
            for name, values in (when.query or {}).items()
        )
    )


def listener_for(balancer: Balancer, request: Request) -> int | None:
    """The position of the listener on which a request arrives, None when nobody listens there."""
    for index, listener in enumerate(balancer.listeners):
        if listener.port == request.port and request.scheme in TAKES[listener.protocol]:
            return index
    return None


def rule_for(listener: Listener, request: Request, source: Range | None) -> int:
    """The first rule that matches a request from a source (None: not known); `OTHERWISE` when there is none."""
    for number, rule in enumerate(listener.rules):
        if matches(rule.when, request) and from_any(rule.when.source, source):
            return number
    return OTHERWISE


def from_any(cidrs: Sequence[str] | None, source: Range | None) -> bool:
    """Whether a source is in one of these networks; where none are asked for, it is."""
    return cidrs is None or (source is not None and any(within(source, cidr) for cidr in cidrs))


def covers_host(pattern: str, host: str) -> bool:
    """Whether a certificate's name covers a host: the same, or one label in place of a leading `*` (RFC 6125)."""
    return host_matches(pattern, host)


def page_status(pages: dict[str, int], path: str) -> int:
    """The status of a path: that of the longest page that begins it, 404 when there is none."""
    fitting = [page for page in pages if path.startswith(page)]
    return pages[max(fitting, key=len)] if fitting else NO_PAGE
