"""Whether a plan can be run: nothing dangles, no probe outruns its own beat, and all that it uses is computed."""

from collections.abc import Callable, Iterable, Iterator

from northgate.engine.base import CannotRun
from northgate.engine.matching import is_address, plain_host, request_for
from northgate.engine.network.own_addresses import without_address
from northgate.plan import Plan, Problem
from northgate.plan.checks import contradictions
from northgate.plan.models.balancers import Balancer
from northgate.plan.problems import did_you_mean, pointer
from northgate.plan.references import dangling


def check_runnable(plan: Plan) -> None:
    """Raises CannotRun with everything that stands in the way of a run."""
    problems = obstacles(plan)
    if problems:
        raise CannotRun(problems)


def obstacles(plan: Plan) -> list[Problem]:
    """Everything that stands in the way of a run, in document order."""
    return [problem for obstacle in OBSTACLES.values() for problem in obstacle(plan)]


def _impatient_probes(plan: Plan) -> Iterator[Problem]:
    for index, probe in enumerate(plan.probes):
        if probe.next_after == "send" and probe.timeout_s > probe.interval_s:
            yield Problem(
                pointer(("probes", index, "timeout_s")),
                f"probe {probe.name} waits {probe.timeout_s:g} s for an answer but sends every {probe.interval_s:g} s; "
                f"lower timeout_s to at most {probe.interval_s:g}, or count the interval from the result",
            )


def _unknown_hosts(plan: Plan) -> Iterator[Problem]:
    known = {plain_host(entry.name) for entry in plan.names}
    addresses = {address for balancer in plan.balancers for address in balancer.addresses}
    addresses |= {instance.public_address for instance in plan.instances if instance.public_address}
    for index, client in enumerate(plan.clients):
        for position, call in enumerate(client.calls):
            host = request_for(call.url).host
            if host not in known | addresses and not is_address(host):
                yield Problem(
                    pointer(("clients", index, "calls", position, "url")),
                    f"no name of the plan answers for {host!r}{did_you_mean(host, sorted(known))}",
                )


def _late_steps(plan: Plan) -> Iterator[Problem]:
    for index, drill in enumerate(plan.drills):
        for position, step in enumerate(drill.steps):
            if step.at_s > drill.lasts_s:
                yield Problem(
                    pointer(("drills", index, "steps", position, "at_s")),
                    f"the step comes at {step.at_s:g} s, after the drill has ended at {drill.lasts_s:g} s",
                )


def _ports_of_name_probes(plan: Plan) -> Iterator[Problem]:
    probes = {probe.name: probe for probe in plan.probes}
    for index, name in enumerate(plan.names):
        probe = probes.get(name.probe or "")
        if probe and probe.port == "same":
            yield Problem(
                pointer(("names", index, "probe")),
                f"a name has no port of its own: give probe {probe.name} the port that it is to ask",
            )


def _straight_to_instances(plan: Plan) -> Iterator[Problem]:
    """Names and clients lead to balancers, to public addresses of instances, or outside the plan."""
    owned = {instance.address: instance.name for instance in plan.instances if instance.address}
    for index, name in enumerate(plan.names):
        for position, answer in enumerate(name.answers):
            if answer.address in owned:
                where = pointer(("names", index, "answers", position, "address"))
                yield Problem(
                    where,
                    f"{answer.address} is {owned[answer.address]}; a name leads to balancers and public addresses",
                )
    for index, client in enumerate(plan.clients):
        for position, call in enumerate(client.calls):
            if request_for(call.url).host in owned:
                where = pointer(("clients", index, "calls", position, "url"))
                yield Problem(where, f"this is the address of {owned[request_for(call.url).host]}, not of a balancer")


def remarks(plan: Plan) -> list[Problem]:
    """What contradicts itself in a plan, and what it leaves open that a run needs, with what is then taken for it: the
    run goes on all the same."""
    return [*contradictions(plan), *unknown_latencies(plan)]


def unknown_latencies(plan: Plan) -> Iterator[Problem]:
    """Regions among which clients of an area are led by nearness, and whose latency from there the plan does not
    tell."""
    for index, area in enumerate(plan.areas):
        needed: dict[str, str] = {}
        for client in plan.clients:
            for call in client.calls if client.area == area.name else ():
                needed |= _regions_by_nearness(plan, request_for(call.url).host, ())
        lacking = [region for region in needed if region not in area.latency_ms]
        for region in lacking:
            yield Problem(
                pointer(("areas", index, "latency_ms")),
                f"{area.name} has no latency to {region}, of which {needed[region]} takes the nearest: it counts as "
                "infinitely far",
            )


def _regions_by_nearness(plan: Plan, host: str, above: tuple[str, ...]) -> dict[str, str]:
    """The regions among which those who ask a host are led by nearness, each with what chooses."""
    balancers, found = {one.name: one for one in plan.balancers}, dict[str, str]()
    name = next((one for one in plan.names if plain_host(one.name) == host), None)
    if name is None or host in above:
        led = [one for one in plan.balancers if host in one.addresses]
    else:
        led = [balancers[one.balancer] for one in name.answers if one.balancer in balancers]
        regions = {region: name.name for one in led for region in _regions_of(plan, one)}
        found |= regions if name.choose == "nearest" and len(regions) > 1 else {}
        for answer in name.answers:
            if answer.host:
                found |= _regions_by_nearness(plan, plain_host(answer.host), (*above, host))
    for balancer in led:
        regions = dict.fromkeys(_regions_of(plan, balancer), balancer.name)
        found |= regions if balancer.address_kind == "anycast" and len(regions) > 1 else {}
    return found


def _regions_of(plan: Plan, balancer: Balancer) -> list[str]:
    """The regions in which a balancer has fronts."""
    return [region.name for region in plan.regions if set(region.zones) & set(balancer.zones)]


# What stands in the way of a run, by what it is told as (`northgate.review`).
OBSTACLES: dict[str, Callable[[Plan], Iterable[Problem]]] = {
    "dangling-reference": dangling,
    "probe-impatient": _impatient_probes,
    "unknown-host": _unknown_hosts,
    "name-probe-port": _ports_of_name_probes,
    "late-step": _late_steps,
    "straight-to-instance": _straight_to_instances,
    "no-address": without_address,
}
