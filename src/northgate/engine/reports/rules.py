"""A listener's rules as a table: how much each takes, what shadows it, and which takes a request."""

from northgate.engine.base import CannotRun
from northgate.engine.matching import OTHERWISE, Request, asked_request, matches, shadow_of
from northgate.engine.network import Network
from northgate.engine.reports.model import AnswerModel
from northgate.engine.solver import Flow
from northgate.plan import Problem
from northgate.plan.models.balancers import Listener


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


def listener_rules(
    flow: Flow,
    balancer: str,
    listener: str,
    url: str | None,
    method: str = "GET",
    headers: dict[str, str] | None = None,
) -> ListenerRules:
    """The table of a listener, and which rule takes a request; raises CannotRun when there is no such listener, or what
    is asked is no URL."""
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
    winner, because = None, None
    if url:
        request = asked_request(url, settings.protocol, method, headers, _host_leading_to(flow.network, balancer))
        winner, because = _winner(settings, request)

    def rate(rule: int) -> float:
        return float(flow.places.entry_rps[mine & (entries.rule == rule)].sum())

    rows = [
        RuleRow(name=rule.name, rps=rate(index), shadowed_by=shadow_of(settings, index), takes=winner == index)
        for index, rule in enumerate(settings.rules)
    ]
    last = RuleRow(name="otherwise", rps=rate(OTHERWISE), shadowed_by=None, takes=winner == OTHERWISE)
    return ListenerRules(rows=[*rows, last], because=because)


def _host_leading_to(network: Network, balancer: str) -> str:
    """Of whom a path alone is asked: the first name among whose answers a balancer is, or its own address."""
    names = network.plan.names
    leading = [entry.name for entry in names if balancer in [answer.balancer for answer in entry.answers]]
    addresses = [f"[{one}]" if ":" in one else one for one in network.book.balancers.get(balancer, ())]
    return next(iter([*leading, *addresses]), "")


def _winner(listener: Listener, request: Request) -> tuple[int, str]:
    for index, rule in enumerate(listener.rules):
        if rule.when.source is None and matches(rule.when, request):
            of = f"rule {index + 1} of {len(listener.rules)} is the first that matches"
            return index, f"{of} {request.method} {request.host}{request.path}"
    return OTHERWISE, f"no rule matches {request.method} {request.host}{request.path}"
