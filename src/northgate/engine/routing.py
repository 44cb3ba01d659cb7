"""Which rule of a listener takes a request. Rules see the request only, never health.

Sources: RFC 3986 section 5.2.4 (dot segments), RFC 9110 section 4.2.3 (hosts compare without case), RFC 9110 section
5.1 (header names compare without case).
"""

import ipaddress
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache
from urllib.parse import parse_qsl, urlsplit

import numpy as np

from northgate.engine.types import Bools
from northgate.plan.balancers import Listener, When
from northgate.plan.traffic import ClientGroup

DEFAULT_PORTS = {"http": 80, "https": 443}


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


def listener_for(listeners: Sequence[Listener], request: Request) -> int | None:
    """The position of the listener on which a request arrives, None when nobody listens there."""
    for index, listener in enumerate(listeners):
        if listener.port == request.port and listener.protocol == request.scheme:
            return index
    return None


OTHERWISE = -1


def rule_shares(listener: Listener, request: Request, client: ClientGroup) -> list[tuple[int, float]]:
    """Which rules take a client group's request: (rule, share of its sources), `OTHERWISE` for the last word.

    Without source rules one rule takes all; a source rule takes the share of the group's addresses that it names.
    """
    found: list[tuple[int, float]] = []
    left: Bools | None = None
    for number, rule in enumerate(listener.rules):
        if not matches(rule.when, request):
            continue
        if rule.when.source is None:
            return [*found, (number, _share(left))]
        left = np.ones(client.sources, dtype=bool) if left is None else left
        taken = left & _from_any(rule.when.source, client)
        if taken.any():
            found.append((number, float(taken.mean())))
            left = left & ~taken
        if not left.any():
            return found
    return [*found, (OTHERWISE, _share(left))]


def _share(left: Bools | None) -> float:
    return 1.0 if left is None else float(left.mean())


def source_numbers(client: ClientGroup) -> list[int]:
    """The addresses of a client group's sources as numbers: spread evenly over its network, or over and over it."""
    network = ipaddress.ip_network(client.cidr)
    base, size, count = int(network.network_address), network.num_addresses, client.sources
    if count > size:
        return [base + index % size for index in range(count)]
    return [base + index * size // count for index in range(count)]


def _from_any(cidrs: Sequence[str], client: ClientGroup) -> Bools:
    version = ipaddress.ip_network(client.cidr).version
    ranges = [
        (int(network.network_address), int(network.broadcast_address))
        for network in map(ipaddress.ip_network, cidrs)
        if network.version == version
    ]
    return np.array(
        [any(low <= number <= high for low, high in ranges) for number in source_numbers(client)], dtype=bool
    )
