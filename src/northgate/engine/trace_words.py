"""What a trace says of requests and rules, in words."""

import ipaddress
from dataclasses import replace
from urllib.parse import urlunsplit

from northgate.engine.reach import Range
from northgate.engine.routing import (
    OTHERWISE,
    Request,
    from_any,
    host_matches,
    matches,
    path_matches,
    plain_host,
)
from northgate.engine.tracing import Candidate
from northgate.plan.balancers import Listener, Redirect, When


def rule_candidates(listener: Listener, chosen: int, request: Request, span: Range | None) -> list[Candidate]:
    """A listener's rules in order, `otherwise` last."""
    found = [
        Candidate(
            name=one.name, chosen=number == chosen, share=1.0 if number == chosen else 0.0, note=when_words(one.when),
            excluded=None if number == chosen else why_not_rule(one.when, request, span, number, chosen),
        )
        for number, one in enumerate(listener.rules)
    ]  # fmt: skip
    last = chosen == OTHERWISE
    why = None if last else "an earlier rule matches"
    return [*found, Candidate(name="otherwise", chosen=last, share=float(last), excluded=why)]


def in_numbers(name: str) -> tuple[str, int, str]:
    """Sorts tiles-2 before tiles-10."""
    head, _, tail = name.rpartition("-")
    return (head, int(tail), name) if tail.isdigit() else (name, 0, name)


def is_address(text: str) -> bool:
    """Whether a text is an IP address."""
    try:
        ipaddress.ip_address(text)
    except ValueError:
        return False
    return True


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


def tier_words(tier: int, count: int) -> str:
    """Which of its tiers serves a pool."""
    return "its only tier" if count == 1 else f"tier {tier + 1} of {count}"


def method_words(balance: str) -> str:
    """A method of balance in words."""
    return balance.replace("-", " ")


def when_words(when: When) -> str:
    """What a rule asks of a request."""
    words = [
        f"{field} {', '.join(getattr(when, field))}"
        for field in ("host", "path", "method", "source")
        if getattr(when, field)
    ]
    for kind, fields in (("header", when.header), ("query", when.query)):
        words += [f"{kind} {name} = {' | '.join(values)}" for name, values in (fields or {}).items()]
    return " · ".join(words) or "anything"


def why_not_rule(when: When, request: Request, span: Range | None, number: int, chosen: int) -> str:
    """Why a rule does not take a request, or that it would."""
    if matches(when, request) and from_any(when.source, span):
        return "would match, but an earlier rule does" if 0 <= chosen < number else "matches"
    if when.path is not None and not any(path_matches(pattern, request.path) for pattern in when.path):
        return f"path {', '.join(when.path)} is not {request.path}"
    if when.host is not None and not any(host_matches(pattern, request.host) for pattern in when.host):
        return f"host {', '.join(when.host)} is not {request.host}"
    if when.method is not None and request.method not in when.method:
        return f"method {', '.join(when.method)} is not {request.method}"
    if not from_any(when.source, span):
        return f"the source is not in {', '.join(when.source or [])}"
    return f"{when_words(when)} does not match"
