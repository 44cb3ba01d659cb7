"""A listener's rules as a table: how much each takes, what shadows it, and which takes a request."""

from collections.abc import Callable

from northgate.engine.answers import AnswerModel
from northgate.engine.errors import CannotRun
from northgate.engine.flow import Flow
from northgate.engine.routing import OTHERWISE, asked_request, host_matches, matches
from northgate.plan import Problem
from northgate.plan.balancers import Listener, When


class RuleRow(AnswerModel):
    """One rule: the requests per second that it takes now, and an earlier rule that takes all it could match."""

    name: str
    rps: float
    shadowed_by: str | None
    takes: bool


class ListenerRules(AnswerModel):
    """The rules in order, the last row being `otherwise`; `because` says why the taking row takes the URL asked."""

    rows: list[RuleRow]
    because: str | None


def listener_rules(flow: Flow, balancer: str, listener: str, url: str | None, method: str = "GET") -> ListenerRules:
    """The table of a listener; raises CannotRun when there is no such listener."""
    plan, entries = flow.network.plan, flow.network.entries
    found = [
        (number, position, one)
        for number, owner in enumerate(plan.balancers)
        for position, one in enumerate(owner.listeners)
        if (owner.name, one.name) == (balancer, listener)
    ]
    if not found:
        raise CannotRun([Problem("/balancers", f"there is no listener {listener!r} of {balancer!r}")])
    number, position, settings = found[0]
    mine = (entries.balancer == number) & (entries.listener == position)
    winner, because = _winner(settings, url, method)

    def rate(rule: int) -> float:
        return float(flow.places.entry_rps[mine & (entries.rule == rule)].sum())

    rows = [
        RuleRow(name=rule.name, rps=rate(index), shadowed_by=shadow_of(settings, index), takes=winner == index)
        for index, rule in enumerate(settings.rules)
    ]
    last = RuleRow(name="otherwise", rps=rate(OTHERWISE), shadowed_by=None, takes=winner == OTHERWISE)
    return ListenerRules(rows=[*rows, last], because=because)


def _winner(listener: Listener, url: str | None, method: str) -> tuple[int | None, str | None]:
    if not url:
        return None, None
    request = asked_request(url, listener.protocol, method)
    for index, rule in enumerate(listener.rules):
        if rule.when.source is None and matches(rule.when, request):
            return index, f"rule {index + 1} of {len(listener.rules)} is the first that matches {request.path}"
    return OTHERWISE, f"no rule matches {request.host}{request.path}"


def shadow_of(listener: Listener, index: int) -> str | None:
    """The earliest rule before this one that matches everything this one does; None when there is none."""
    when = listener.rules[index].when
    return next((rule.name for rule in listener.rules[:index] if covers(rule.when, when)), None)


def covers(wide: When, narrow: When) -> bool:
    """Whether every request that `narrow` matches is matched by `wide` too."""
    return (
        _covers_words(wide.host, narrow.host, host_matches)
        and _covers_words(wide.path, narrow.path, _path_covers)
        and _covers_words(wide.method, narrow.method, str.__eq__)
        and _covers_words(wide.source, narrow.source, str.__eq__)
        and _covers_values(wide.header, narrow.header)
        and _covers_values(wide.query, narrow.query)
    )


def _path_covers(wide: str, narrow: str) -> bool:
    return narrow.startswith(wide[:-1]) if wide.endswith("*") else wide == narrow


def _covers_words(wide: list[str] | None, narrow: list[str] | None, fits: Callable[[str, str], bool]) -> bool:
    if wide is None:
        return True
    return narrow is not None and all(any(one == other or fits(one, other) for one in wide) for other in narrow)


def _covers_values(wide: dict[str, list[str]] | None, narrow: dict[str, list[str]] | None) -> bool:
    return all(
        name in (narrow or {}) and set((narrow or {})[name]) <= set(values) for name, values in (wide or {}).items()
    )
