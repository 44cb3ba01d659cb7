"""What a trace says of requests and rules, in words."""

from northgate.engine.matching import OTHERWISE, Range, Request, from_any, host_matches, matches, path_matches
from northgate.engine.trace.answer import Candidate
from northgate.plan.models.balancers import Listener, When


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


def tier_words(tier: int, count: int) -> str:
    """Which of its tiers serves a pool."""
    return "its only tier" if count == 1 else f"tier {tier + 1} of {count}"


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
