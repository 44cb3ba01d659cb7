"""Balancers: listeners, certificates, rules and where they lead."""

import datetime
from collections.abc import Iterator

from northgate.engine.matching import (
    OTHERWISE,
    Request,
    certificate_covers,
    host_matches,
    listener_for,
    redirected,
    request_for,
    rule_for,
    shadow_of,
    span_of,
    within,
)
from northgate.plan.models.balancers import Action, Balancer, Listener
from northgate.plan.models.groups import Target
from northgate.plan.models.traffic import Call
from northgate.review.context import Context, place
from northgate.review.registry import Found, finding

SOON_DAYS = 30
# Redirects that lead to each other further than this go round.
FAR = 10


@finding("no-listener", "stops")
def no_listener(context: Context) -> Iterator[Found]:
    """A name leads to a balancer on which nobody listens."""
    for index, balancer in enumerate(context.plan.balancers):
        if not balancer.listeners and balancer.name in context.led_balancers:
            yield Found(
                place("balancers", index, "listeners"), balancer.name,
                f"a name leads to {balancer.name}, and nobody listens there", "add a listener",
            )  # fmt: skip


def _calls(context: Context) -> Iterator[tuple[str, str, Call, int, Listener, str]]:
    """Every call and each balancer to which its name or address may lead: the client, the place of the call, the call,
    the balancer's place, and the listener that takes it."""
    for number, client in enumerate(context.plan.clients):
        for position, call in enumerate(client.calls):
            request = request_for(call.url, call.method, call.headers)
            for index, balancer in enumerate(context.plan.balancers):
                if balancer.name in _led(context, request.host) or request.host in balancer.addresses:
                    found = listener_for(balancer, request)
                    if found is not None:
                        where = place("clients", number, "calls", position, "url")
                        yield client.name, where, call, index, balancer.listeners[found], balancer.name


def _led(context: Context, host: str, deep: int = FAR, *, only_first: bool = False) -> set[str]:
    """The balancers to which a host name leads; `only_first`: without those that only take over, by order."""
    found: set[str] = set()
    for name in context.plan.names:
        if name.name.lower().rstrip(".") == host:
            for answer in name.answers[:1] if only_first and name.choose == "order" else name.answers:
                found |= {answer.balancer} if answer.balancer else set()
                if answer.host and deep:
                    found |= _led(context, answer.host.lower().rstrip("."), deep - 1, only_first=only_first)
    return found


def _unheard(context: Context, *, standby: bool) -> Iterator[Found]:
    """Calls for which a balancer has no listener, of those to which clients are led now, or of those that stand by."""
    places = {balancer.name: index for index, balancer in enumerate(context.plan.balancers)}
    for client in context.plan.clients:
        for call in client.calls:
            request = request_for(call.url, call.method, call.headers)
            led, first = _led(context, request.host), _led(context, request.host, only_first=True)
            for name in sorted(led - first if standby else first):
                balancer = context.balancers.get(name)
                if balancer and balancer.listeners and listener_for(balancer, request) is None:
                    patch = _like_it(context, first, request, balancer) if standby else ()
                    when = "once they are led there" if standby else "now"
                    yield Found(
                        place("balancers", places[name], "listeners"), name,
                        f"{client.name} ask {call.url}, and {name} has no listener that takes {request.scheme} on port "
                        f"{request.port}: they fail {when}",
                        f"add such a listener to {name}" + ("" if patch else ", or ask another port"), patch,
                    )  # fmt: skip


def _like_it(context: Context, first: set[str], request: Request, balancer: Balancer) -> tuple[dict[str, object], ...]:
    """The edit that gives a balancer the listener that takes a request elsewhere."""
    for name in sorted(first & set(context.balancers)):
        number = listener_for(context.balancers[name], request)
        if number is not None:
            listener = context.balancers[name].listeners[number]
            taken = {one.name for one in balancer.listeners}
            called = listener.name if listener.name not in taken else f"{listener.name}-{request.port}"
            value = {**listener.model_dump(mode="json", by_alias=True), "name": called}
            where = place("balancers", context.plan.balancers.index(balancer), "listeners", "-")
            return ({"op": "add", "path": where, "value": value},)
    return ()


@finding("nobody-listens", "stops")
def nobody_listens(context: Context) -> Iterator[Found]:
    """Clients ask a balancer by a protocol and port at which it does not listen."""
    yield from _unheard(context, standby=False)


@finding("standby-deaf", "risks")
def standby_deaf(context: Context) -> Iterator[Found]:
    """A balancer that is to take over by its name does not listen at a port that clients ask of the one before it."""
    yield from _unheard(context, standby=True)


@finding("certificate-host", "stops")
def certificate_host(context: Context) -> Iterator[Found]:
    """A listener's certificate does not cover a host for which clients ask there: they end the handshake."""
    places = {one.name: index for index, one in enumerate(context.plan.certificates)}
    for client, _, call, _, listener, balancer in _calls(context):
        request = request_for(call.url)
        if listener.certificate in places and not certificate_covers(
            context.plan, listener.certificate, request.host, request.scheme
        ):
            where = place("certificates", places[listener.certificate or ""], "hosts")
            yield Found(
                where, listener.certificate or "",
                f"{client} ask {balancer} for {request.host}, which certificate {listener.certificate} does not cover",
                f"let it cover {request.host}", ({"op": "add", "path": f"{where}/-", "value": request.host},),
            )  # fmt: skip


def _certificates(context: Context) -> Iterator[tuple[str, str, datetime.date, str]]:
    """Certificates in use that say when they expire: name, place, day, and who uses them."""
    users: dict[str, str] = {}
    for balancer in context.plan.balancers:
        for listener in balancer.listeners:
            if listener.certificate:
                users.setdefault(listener.certificate, f"listener {listener.name} of {balancer.name}")
    for index, one in enumerate(context.plan.certificates):
        if one.expires and one.name in users:
            yield one.name, place("certificates", index, "expires"), one.expires, users[one.name]


@finding("certificate-expired", "stops")
def certificate_expired(context: Context) -> Iterator[Found]:
    """A certificate in use has expired: no client trusts it any more."""
    for name, where, expires, user in _certificates(context):
        if expires < context.today:
            yield Found(where, name, f"certificate {name} of {user} has expired on {expires}", "renew it")


@finding("certificate-expires-soon", "risks")
def certificate_expires_soon(context: Context) -> Iterator[Found]:
    """A certificate in use expires within thirty days."""
    for name, where, expires, user in _certificates(context):
        left = (expires - context.today).days
        if 0 <= left <= SOON_DAYS:
            yield Found(where, name, f"certificate {name} of {user} expires in {left} days, on {expires}", "renew it")


@finding("redirect-loop", "stops")
def redirect_loop(context: Context) -> Iterator[Found]:
    """A redirect leads to itself, or back to itself through others: clients give up."""
    for client, where, call, index, listener, _ in _calls(context):
        balancer, request = context.plan.balancers[index], request_for(call.url, call.method, call.headers)
        current: Listener | None = listener
        seen: list[Request] = []
        for _ in range(FAR):
            if current is None or (action := _taken(current, request)).redirect is None:
                break
            if request in seen:
                yield Found(
                    where, balancer.name,
                    f"{client} ask {call.url}: the redirects of {balancer.name} lead them round and round",
                    "let the redirect lead to another protocol, host, port or path",
                )  # fmt: skip
                break
            seen.append(request)
            request = redirected(request, action.redirect)
            leads_back = balancer.name in _led(context, request.host) or request.host in balancer.addresses
            found = listener_for(balancer, request) if leads_back else None
            current = balancer.listeners[found] if found is not None else None


def _taken(listener: Listener, request: Request) -> Action:
    """What a listener does with a request from anywhere."""
    number = rule_for(listener, request, None)
    return listener.otherwise if number == OTHERWISE else listener.rules[number].do


@finding("call-refused", "stops")
def call_refused(context: Context) -> Iterator[Found]:
    """The rule that takes a client's call answers it with an error itself."""
    for client, where, call, _, listener, balancer in _calls(context):
        request = request_for(call.url, call.method, call.headers)
        action = _taken(listener, request)
        if action.respond is not None and action.respond.status >= 400:
            yield Found(
                where, client,
                f"{client} ask {call.url}: no rule of listener {listener.name} of {balancer} sends it on, and the "
                "answer "
                f"is {action.respond.status}",
                "add a rule that takes it, or let `otherwise` send it to a pool",
            )  # fmt: skip


@finding("rule-shadowed", "advice")
def rule_shadowed(context: Context) -> Iterator[Found]:
    """An earlier rule takes all that a later one could match, so that the later never gets a request."""
    for index, balancer in enumerate(context.plan.balancers):
        for position, listener in enumerate(balancer.listeners):
            for number, rule in enumerate(listener.rules):
                shadow = shadow_of(listener, number)
                if shadow is not None:
                    rules = ("balancers", index, "listeners", position, "rules")
                    first = next(at for at, one in enumerate(listener.rules) if one.name == shadow)
                    patch = {"op": "move", "from": place(*rules, number), "path": place(*rules, first)}
                    yield Found(
                        place(*rules, number), balancer.name,
                        f"rule {rule.name} of listener {listener.name} of {balancer.name} never gets a request: "
                        f"{shadow} before it takes all that it matches",
                        f"move {rule.name} before {shadow}", (patch,),
                    )  # fmt: skip


@finding("rule-unreachable", "advice")
def rule_unreachable(context: Context) -> Iterator[Found]:
    """A rule asks for hosts of which none leads to its balancer."""
    for index, balancer in enumerate(context.plan.balancers):
        known = [name.name.lower().rstrip(".") for name in context.plan.names]
        leading = [host for host in known if balancer.name in _led(context, host)] + list(balancer.addresses)
        for position, listener in enumerate(balancer.listeners):
            for number, rule in enumerate(listener.rules):
                hosts = rule.when.host
                if hosts and leading and not any(host_matches(pattern, host) for pattern in hosts for host in leading):
                    where = place("balancers", index, "listeners", position, "rules", number, "when", "host")
                    yield Found(
                        where, balancer.name,
                        f"rule {rule.name} of {balancer.name} takes {', '.join(hosts)}, and no name of the plan that "
                        f"leads here is called so",
                        "add the name, or take another host",
                    )  # fmt: skip


@finding("otherwise-no-fallback", "advice")
def otherwise_no_fallback(context: Context) -> Iterator[Found]:
    """A rule's pool has one choice only, and the listener's `otherwise` leads to another pool. That is no fallback:
    rules look at the request, never at health, so that `otherwise` never takes over what the rule has taken."""
    told = set()
    for doing in context.doings:
        pool, other = doing.action.pool, doing.listener.otherwise.pool
        if doing.rule is None or pool not in context.pools or other in (None, pool) or pool in told:
            continue
        told.add(pool)
        index, found = context.pools[pool]
        if len(found.tiers) == 1:
            yield Found(
                place("pools", index, "tiers"), pool,
                f"when pool {pool} has nobody left, {doing.called} still takes its requests, and they fail: "
                f"`otherwise`, pool {other}, does not take over",
                f"give {pool} a second choice, if there is something that may answer instead",
            )  # fmt: skip


@finding("internal-behind-public", "stops")
def internal_behind_public(context: Context) -> Iterator[Found]:
    """A name that clients on the public Internet ask leads to an internal balancer, which they cannot reach."""
    inside = [network.cidr for network in context.plan.networks]
    for client, _, call, index, _, balancer in _calls(context):
        found = context.plan.balancers[index]
        source = next(one.cidr for one in context.plan.clients if one.name == client)
        if found.exposure == "internal" and not any(within(span_of(source), cidr) for cidr in inside):
            yield Found(
                place("balancers", index, "exposure"), balancer,
                f"{client}, on the public Internet, ask {call.url}, which leads to {balancer}: that is internal, so "
                "clients do not reach it",
                f"make {balancer} public",
                ({"op": "add", "path": place("balancers", index, "exposure"), "value": "public"},),
            )  # fmt: skip


@finding("balancer-idle-race", "risks")
def balancer_idle_race(context: Context) -> Iterator[Found]:
    """A balancer closes a quiet connection before it stops waiting for the target's answer: slow answers are lost."""
    for doing, group in context.led_groups:
        idle_s, waits_s = doing.balancer.idle_timeout_s, group.response_timeout_s
        if doing.balancer.layer == 7 and idle_s < waits_s:
            where = place("balancers", context.plan.balancers.index(doing.balancer), "idle_timeout_s")
            yield Found(
                where, doing.balancer.name,
                f"{doing.balancer.name} closes what is quiet for {idle_s:g} s, but waits {waits_s:g} s for answers of "
                f"{group.name}: an answer in between finds its connection closed",
                f"close after {2 * waits_s:g} s", ({"op": "add", "path": where, "value": 2 * waits_s},),
            )  # fmt: skip


@finding("limit-exceeded", "risks")
def limit_exceeded(context: Context) -> Iterator[Found]:
    """The platform allows fewer listeners, rules or targets than the plan has, fleets counted at their most."""
    limits = context.plan.platform.limits
    for index, balancer in enumerate(context.plan.balancers):
        yield from _over(
            limits.listeners_per_balancer, len(balancer.listeners), "listeners", balancer.name, ("balancers", index)
        )
        for position, listener in enumerate(balancer.listeners):
            about = f"listener {listener.name} of {balancer.name}"
            at = ("balancers", index, "listeners", position)
            yield from _over(limits.rules_per_listener, len(listener.rules), "rules", about, at, balancer.name)
    for index, group in enumerate(context.plan.target_groups):
        count = sum(_most(context, target) for target in group.targets)
        yield from _over(limits.targets_per_group, count, "targets", group.name, ("target_groups", index))
    for machine, groups in _groups_by_machine(context).items():
        last = context.groups[groups[-1]][0]
        yield from _over(limits.groups_per_target, len(groups), "groups", machine, ("target_groups", last, "targets"))


def _most(context: Context, target: Target) -> int:
    """How many machines a target may ever stand for."""
    fleets = [one for one in context.plan.fleets if one.name == target.fleet or target.tagged in one.instance.tags]
    single = sum(target.tagged in one.tags for one in context.plan.instances) if target.tagged else not target.fleet
    return sum(fleet.scale.max if fleet.scale else fleet.count for fleet in fleets) + int(single)


def _over(
    limit: int | None, count: int, what: str, called: str, at: tuple[str | int, ...], about: str | None = None
) -> Iterator[Found]:
    if limit is not None and count > limit:
        yield Found(
            place(*at), about or called, f"{called} has {count} {what}, and the platform allows {limit}",
            "take some away, or have the limit raised",
        )  # fmt: skip


def _groups_by_machine(context: Context) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for group in context.plan.target_groups:
        for machine in context.targets(group):
            found.setdefault(machine.name, []).append(group.name)
    return found


@finding("two-balancers", "risks")
def two_balancers(context: Context) -> Iterator[Found]:
    """The platform lets a target stand behind one balancer only, and one stands behind several."""
    if not context.plan.platform.one_balancer_per_target:
        return
    users: dict[str, dict[str, None]] = {}
    for doing, group in context.led_groups:
        users.setdefault(group.name, {})[doing.balancer.name] = None
    for machine, groups in _groups_by_machine(context).items():
        behind = list(dict.fromkeys(name for group in groups for name in users.get(group, ())))
        if len(behind) > 1:
            yield Found(
                place("target_groups", context.groups[groups[0]][0], "targets"), machine,
                f"{machine} stands behind {' and '.join(behind)}, and the platform allows one balancer for a target",
                "give each balancer targets of its own",
            )  # fmt: skip
