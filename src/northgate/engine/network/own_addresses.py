"""Instances that are asked at an address of their own, without a balancer in between.

Such an instance is compiled as the simplest balancer there is: at layer 4, one front in its zone that never dies of
itself and passes every port that the instance serves on to it. What a client meets is then what the machine does: it
answers, refuses, or stays silent. Names of what is made so hold a space, so that no plan has them.
"""

from collections.abc import Iterator
from typing import Literal, TypeVar

from northgate.engine.matching import request_for
from northgate.plan import Plan, Problem
from northgate.plan.models.balancers import Action, Balancer, Listener
from northgate.plan.models.groups import Pool, Target, TargetGroup, Tier
from northgate.plan.models.machines import Instance, Service
from northgate.plan.models.traffic import DnsEntry, LastResort
from northgate.plan.problems import pointer

ITSELF = " itself"
# Nobody in between forgets a connection on which nothing comes.
NEVER_S = 1e7


def own_balancer(instance: str) -> str:
    """What the balancer is called that stands for an instance's own address."""
    return instance + ITSELF


def is_own(balancer: str) -> bool:
    """Whether a balancer stands for an instance's own address."""
    return balancer.endswith(ITSELF)


def with_own_addresses(plan: Plan) -> Plan:
    """The plan with a balancer for each instance at whose own address somebody asks; the plan itself when nobody
    does."""
    asked = _asked(plan)
    led = [one for one in plan.instances if one.public_address and one.name in asked]
    if not led:
        return plan
    groups = [_group(one, service) for one in led for service in one.serves]
    # The address is the balancer's now.
    led_names = {one.name for one in led}
    instances = [
        one.model_copy(update={"public_address": None}) if one.name in led_names else one for one in plan.instances
    ]
    made = {
        "instances": instances,
        "target_groups": [*plan.target_groups, *groups],
        "pools": [*plan.pools, *(Pool.model_construct(name=one.name, tiers=[_tier(one.name)]) for one in groups)],
        "balancers": [*plan.balancers, *(_balancer(one) for one in led)],
        "names": [_name(entry, {one.public_address: one.name for one in led}) for entry in plan.names],
    }
    expanded = plan.model_copy(update=made)
    # What is kept of the plan as it was does not hold for this one.
    vars(expanded).pop("machines", None)
    return expanded


def _asked(plan: Plan) -> set[str]:
    """The instances to whose own addresses names and clients lead."""
    named = {one.public_address: one.name for one in plan.instances if one.public_address}
    ends = [end for entry in plan.names for end in (*entry.answers, entry.when_none_healthy) if end]
    hosts = [request_for(call.url).host for client in plan.clients for call in client.calls]
    addresses = [*(end.address for end in ends if end.address), *hosts]
    return {end.instance for end in ends if end.instance} | {named[one] for one in addresses if one in named}


def without_address(plan: Plan) -> Iterator[Problem]:
    """Answers that lead to instances which have no address of their own."""
    known = {one.name for one in plan.instances if one.public_address}
    instances = {one.name for one in plan.instances}
    for index, entry in enumerate(plan.names):
        for position, answer in enumerate(entry.answers):
            if answer.instance in instances - known:
                where = pointer(("names", index, "answers", position, "instance"))
                yield Problem(where, f"{answer.instance} has no public_address at which it could be asked")


def _port_name(instance: Instance, service: Service) -> str:
    return own_balancer(instance.name) + (f" {service.protocol} {service.port}" if len(instance.serves) > 1 else "")


def _group(instance: Instance, service: Service) -> TargetGroup:
    return TargetGroup(
        name="itself", port=service.port, protocol="udp" if service.protocol == "udp" else "tcp",
        targets=[Target(instance=instance.name)], reach="any", when_none_healthy="send-anyway",
    ).model_copy(update={"name": _port_name(instance, service)})  # fmt: skip


def _tier(group: str) -> Tier:
    return Tier(groups={"itself": 1}).model_copy(update={"groups": {group: 1}})


def _balancer(instance: Instance) -> Balancer:
    made = Balancer(
        name="itself", layer=4, zones={instance.zone: instance.subnet}, addresses=[instance.public_address or ""],
        idle_timeout_s=NEVER_S,
    )  # fmt: skip
    listeners = [_listener(instance, service) for service in instance.serves]
    return made.model_copy(update={"name": own_balancer(instance.name), "listeners": listeners})


def _listener(instance: Instance, service: Service) -> Listener:
    protocol: Literal["udp", "tcp"] = "udp" if service.protocol == "udp" else "tcp"
    action = Action(pool="itself").model_copy(update={"pool": _port_name(instance, service)})
    return Listener.model_construct(
        name=f"{protocol}-{service.port}", protocol=protocol, port=service.port, certificate=None, rules=[],
        otherwise=action,
    )  # fmt: skip


def _name(entry: DnsEntry, own: dict[str | None, str]) -> DnsEntry:
    last = _led(entry.when_none_healthy, own) if entry.when_none_healthy else None
    answers = [_led(answer, own) for answer in entry.answers]
    return entry.model_copy(update={"answers": answers, "when_none_healthy": last})


End = TypeVar("End", bound=LastResort)


def _led(end: End, own: dict[str | None, str]) -> End:
    instance = end.instance or own.get(end.address)
    if instance is None:
        return end
    return end.model_copy(update={"instance": None, "address": None, "balancer": own_balancer(instance)})
