"""Which rule of a listener takes a request. Rules see the request only, never health.

Sources: RFC 3986 section 5.2.4 (dot segments), RFC 9110 section 4.2.3 (hosts compare without case), RFC 9110 section
5.1 (header names compare without case).
"""

from collections.abc import Sequence

from northgate.engine.matching.requests import CONNECT, Request, plain_host
from northgate.engine.matching.spans import Range, within
from northgate.plan import Plan
from northgate.plan.models.balancers import Balancer, Listener, When


def certificate_covers(plan: Plan, name: str | None, host: str, scheme: str) -> bool:
    """Whether a listener's certificate, if it has one, names the host that a client asks for (RFC 6125)."""
    found = next((one for one in plan.certificates if one.name == name), None)
    asks = bool(host) and scheme in ("https", "tls")
    return found is None or not asks or any(covers_host(one, host) for one in found.hosts)


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


def _any_path(patterns: Sequence[str], path: str) -> bool:
    # A loop of its own: hundreds of rules are asked for every call of every client.
    for pattern in patterns:  # noqa: SIM110
        if path_matches(pattern, path):
            return True
    return False


def matches(when: When, request: Request) -> bool:
    """Whether everything that `when` asks fits the request, its source aside."""
    if when.path is not None and not _any_path(when.path, request.path):
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
