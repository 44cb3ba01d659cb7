"""Into a front: what stands before it, its listener, and the rule that takes the request."""

from collections.abc import Sequence

from msgspec import Struct
from msgspec.structs import replace

from northgate.engine.matching import (
    OTHERWISE,
    Check,
    Request,
    certificate_covers,
    checks,
    host_matches,
    listener_for,
    redirected,
    rule_for,
)
from northgate.engine.trace.answer import Hop, RemedyAnswer, remedy_answer
from northgate.engine.trace.question import Sender
from northgate.engine.trace.stages.way import Context, End, Here, Hops, Way
from northgate.engine.trace.words import rule_candidates, when_words
from northgate.plan.models.balancers import Action, Balancer, Listener
from northgate.plan.problems import pointer


class Passage(Struct, frozen=True):
    """Checks between two ends: their hops, and how a request ends there that does not pass (None: it passes)."""

    hops: Hops
    end: End | None
    takes_s: float


def passage(
    context: Context, found: Sequence[Check], wait_s: float, what: str, *, layer: int, target: str | None
) -> Passage:  # fmt: skip
    """What checks come to; a request that does not pass hangs for `wait_s`."""
    failed = next((number for number, check in enumerate(found) if not check.ok), None)
    met = found if failed is None else found[: failed + 1]

    def hops() -> Sequence[Hop]:
        drawn = [check for check in met if not check.ok or check.kind != "route" or context.plan.networks]
        return [_hop(check, what, wait_s) for check in drawn]

    if failed is None:
        return Passage(hops, None, 0.0)
    because, connect = found[failed].because, "not taken" if layer == 7 else "quiet"
    status, error = (504, "blocked") if layer == 7 else (None, "timed_out")
    end = End(because, status=status, error=error, cause="blocked", target=target, connect=connect)  # type: ignore[arg-type]
    return Passage(hops, end, wait_s)


def _hop(check: Check, what: str, wait_s: float) -> Hop:
    return Hop(
        kind=check.kind, about=check.about, ok=check.ok, because=check.because, detail=what,
        latency_ms=0.0 if check.ok else wait_s * 1000,
        link=f"firewall:{check.about}" if check.kind == "firewall" else None, where=check.where or None,
        remedy=remedy_answer(check.remedy),
    )  # fmt: skip


class Entrance:
    """How a front takes a request: what its rule does with it, or where the client is sent instead."""

    def __init__(self, context: Context) -> None:
        self.context, self.flow, self.network, self.plan = context, context.flow, context.network, context.plan

    def way(self, front: int, request: Request, here: Here) -> Way[Action | Request]:
        """The only way of a request at a front: to a pool (as the action says), to where the client is redirected, or
        to its end."""
        came = self._let_in(front, request, here)
        if came.end:
            return Way(1.0, end=came.end, takes_s=came.takes_s, hops=came.hops)
        balancer = int(self.network.fronts.balancer[front])
        heard = self._heard(balancer, request)
        if heard.end or heard.next is None:
            return Way(1.0, end=heard.end, hops=lambda: [*came.hops(), *heard.hops()])
        found = self._ruled(balancer, heard.next, front, request, here)
        return replace(found, hops=lambda: [*came.hops(), *heard.hops(), *found.hops()])

    def _let_in(self, front: int, request: Request, here: Here) -> Passage:
        """Route and firewall before the front."""
        paths, sender = self.context.paths, here.sender
        came = paths.front(here.source) if here.source is not None else paths.end_of_source(sender.label, sender.span)
        protocol, gone = "udp" if request.scheme == "udp" else "tcp", self.flow.state.truth.gone_rules
        found = checks(self.plan, came, paths.front(front), protocol, request.port, gone=gone)
        what = f"{protocol} {request.port}"
        return passage(self.context, found, sender.connect_timeout_s, what, layer=4, target=None)

    def _heard(self, balancer: int, request: Request) -> Way[int]:
        """The listener that takes a request, or the end of it."""
        settings = self.plan.balancers[balancer]
        at = pointer(("balancers", balancer, "listeners"))
        number = listener_for(settings, request)
        if number is None:
            known = ", ".join(f"{one.protocol} {one.port}" for one in settings.listeners) or "nothing"
            because = f"{settings.name} listens on {known}, not on {request.scheme} {request.port}"
            unheard = Hop(
                kind="listener", about=f"{request.scheme} {request.port}", ok=False, because=because, where=at
            )
            end = End(because, error="refused", cause="refused", connect="away")
            return Way(1.0, end=end, hops=lambda: [unheard])
        return self._certified(settings, number, request, f"{at}/{number}")

    def _certified(self, settings: Balancer, number: int, request: Request, at: str) -> Way[int]:
        """A listener that takes a request, if its certificate does."""
        listener = settings.listeners[number]
        certificate = next((one for one in self.plan.certificates if one.name == listener.certificate), None)
        covered = certificate_covers(self.plan, listener.certificate, request.host, request.scheme)
        because, today = f"takes {request.scheme} on port {request.port}", self.context.question.today
        if certificate and request.scheme in ("https", "tls"):
            name = next((host for host in certificate.hosts if host_matches(host, request.host)), None)
            until = f", valid until {certificate.expires}" if certificate.expires else ""
            hosts = ", ".join(certificate.hosts)
            because = f"{name} covers the host{until}" if name else f"{hosts} does not cover {request.host}"
        named = covered
        if covered and certificate and certificate.expires and today and certificate.expires < today:
            covered, because = False, f"{certificate.name} was valid until {certificate.expires}, today is {today}"
        if covered and certificate and certificate.name in self.flow.state.truth.expired:
            covered, because = False, f"{certificate.name} has expired"
        turned_away = End(f"the client turns away: {because}", error="certificate", cause="refused")
        hops: Hops = lambda: [Hop(  # noqa: E731
            kind="listener", about=f"{listener.protocol} {listener.port}", ok=covered, because=because,
            detail=f"certificate {certificate.name}" if certificate else listener.name,
            link=f"listener:{settings.name}/{listener.name}", where=at,
            remedy=self._cover(certificate.name, request.host) if certificate and not named else None,
        )]  # fmt: skip
        return Way(1.0, number, None if covered else turned_away, hops=hops)

    def _cover(self, certificate: str, host: str) -> RemedyAnswer:
        place = [one.name for one in self.plan.certificates].index(certificate)
        patch = {"op": "add", "path": f"/certificates/{place}/hosts/-", "value": host}
        return RemedyAnswer(words=f"let certificate {certificate} cover {host}", patch=[patch])

    def _ruled(
        self, balancer: int, place: int, front: int, request: Request, here: Here
    ) -> Way[Action | Request]:  # fmt: skip
        """What the first rule that matches does with a request."""
        settings = self.plan.balancers[balancer]
        listener, sender = settings.listeners[place], here.sender if here.source is None else None
        rule = rule_for(listener, request, sender.span if sender else None)
        action = listener.otherwise if rule == OTHERWISE else listener.rules[rule].do
        end, following = None, None
        if action.respond:
            status = action.respond.status
            end = End(
                f"{settings.name} answers {status} by itself", status=status, target=settings.name,
                cause="bad_status" if status >= 400 else None, zone=self.network.front_name(front),
            )  # fmt: skip
        elif action.redirect and here.source is not None:
            # Behind another balancer nobody follows it: it is the answer.
            end = End(
                f"{settings.name} redirects", status=action.redirect.status, target=settings.name,
                zone=self.network.front_name(front),
            )  # fmt: skip
        elif action.redirect:
            following = redirected(request, action.redirect)
        return Way(1.0, following or action, end, hops=self._rule_hops(settings, place, rule, request, sender))

    def _rule_hops(self, settings: Balancer, place: int, rule: int, request: Request, sender: Sender | None) -> Hops:
        listener: Listener = settings.listeners[place]
        at = pointer(("balancers", self.plan.balancers.index(settings), "listeners", place))
        count, action = len(listener.rules), listener.otherwise if rule == OTHERWISE else listener.rules[rule].do
        because = f"the first of {count} rules that matches" if count > 1 else "the only rule, and it matches"
        if rule == OTHERWISE:
            because = {0: "there are no rules", 1: "the only rule does not match"}.get(
                count, f"none of {count} rules matches"
            )

        def hops() -> Sequence[Hop]:
            detail = when_words(listener.rules[rule].when) if rule != OTHERWISE else "whatever is left"
            detail = f"redirect {action.redirect.status}" if action.redirect else detail
            detail = f"answer {action.respond.status}" if action.respond else detail
            return [Hop(
                kind="rule", about=f"{rule + 1} {listener.rules[rule].name}" if rule != OTHERWISE else "otherwise",
                ok=not (action.respond and action.respond.status >= 400), because=because, detail=detail,
                candidates=rule_candidates(listener, rule, request, sender.span if sender else None),
                link=f"listener:{settings.name}/{listener.name}",
                where=f"{at}/rules/{rule}" if rule != OTHERWISE else f"{at}/otherwise",
            )]  # fmt: skip

        return hops
