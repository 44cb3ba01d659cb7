"""Usual changes that make another plan: a share moved, another port or layer, a balancer before a server."""

import copy
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from northgate.change.asked import Ask, ByPlan, Given, choice, free, machines, named, number
from northgate.change.edits import ChangeStep, Edit
from northgate.change.steps import steps_between
from northgate.engine.base import CannotRun
from northgate.plan import Plan, Problem, plan_from_data
from northgate.plan.editing import patched, removal, renaming, users_of, whole_data
from northgate.plan.together import completed

Data = dict[str, Any]
# A share is moved in these parts, each looked at for so long (s).
PARTS, SEEN_S = (0.01, 0.05, 0.25, 1.0), 60.0


def share_asks(plan: Plan) -> list[Ask]:
    """What it asks of a plan; nothing where it cannot be made of it."""
    pooled = list(dict.fromkeys(group for pool in plan.pools for group in pool.tiers[0].groups))
    groups = [one.name for one in plan.target_groups]
    if not pooled or len(groups) < 2:
        return []
    other = next(at for at, group in enumerate(groups) if group != pooled[0])
    return [choice("from", "from", pooled), choice("to", "to", groups, first=other)]


def share(plan: Plan, given: Given) -> ByPlan:
    """The weight of one group goes over to another, in parts, in the first tier of every pool that has the one."""
    old, new = given["from"], given["to"]
    if old == new:
        raise CannotRun([Problem("", f"to: {old} is to send its share to another group than itself")])
    places = {pool.name: dict(pool.tiers[0].groups) for pool in plan.pools if old in pool.tiers[0].groups}
    steps = list[ChangeStep]()
    if any(new not in groups for groups in places.values()):
        words = f"bring {new} in with weight 0, to be proven"
        steps.append(ChangeStep(words, _weighted(plan, {pool: {new: 0} | groups for pool, groups in places.items()})))
    has = max(groups.get(new, 0) / max(groups[old] + groups.get(new, 0), 1) for groups in places.values())
    for part in (one for one in PARTS if one > has):
        moved = {pool: _moved(groups, old, new, part) for pool, groups in places.items()}
        needs = (len(steps) - 1,) if steps else ()
        steps.append(ChangeStep(f"send {part:.0%} of it to {new}", _weighted(plan, moved), needs, SEEN_S))
    if not steps:
        raise CannotRun([Problem("", f"to: {new} has all of it already")])
    return ByPlan(steps, steps[-1].apply(plan))


def _moved(groups: Mapping[str, int], old: str, new: str, part: float) -> dict[str, int]:
    """Weights, which are whole numbers, with this part of what two groups have at the new one."""
    both, times = groups[old] + groups.get(new, 0), 1 if part == 1 else round(1 / min(PARTS))
    there = round(both * times * part)
    return {name: weight * times for name, weight in groups.items()} | {old: both * times - there, new: there}


def _weighted(plan: Plan, weights: Mapping[str, Mapping[str, int]]) -> tuple[Edit, ...]:
    """The edits that give the first tiers of pools these weights."""
    pools = {one["name"]: one for one in whole_data(plan)["pools"] if one["name"] in weights}
    for name, pool in pools.items():
        pool["tiers"][0]["groups"] = dict(weights[name])
    return tuple(Edit("set", "pools", name, {"tiers": pool["tiers"]}) for name, pool in pools.items())


def port_asks(plan: Plan) -> list[Ask]:
    """What it asks of a plan; nothing where it cannot be made of it."""
    groups = [one for one in plan.target_groups if machines(plan, one)]
    return [choice("group", "group", [one.name for one in groups]), number("port", "to port", 8443)] if groups else []


def port(plan: Plan, given: Given) -> ByPlan:
    """Its machines serve the new port, too; a group on that port is proven beside the old, and takes its place."""
    name, port = given["group"], int(given["port"])
    group = named(plan.target_groups, name)
    if group.port == port:
        raise CannotRun([Problem("", f"port: {name} is on port {port} already")])
    data = whole_data(patched(plan, renaming(plan, "target_group", name, free(plan.target_groups, f"{name}-{port}"))))
    made = data["target_groups"][plan.target_groups.index(group)]
    made["port"] = port
    mine = set(machines(plan, group))
    firewalls = set()
    for holder, machine in _templates(data, plan):
        if mine & set(holder):
            firewalls.add(machine["firewall"])
            same = [one for one in machine["serves"] if one["port"] == group.port]
            machine["serves"] += [one | {"port": port} for one in copy.deepcopy(same) if port not in _ports(machine)]
    for firewall in data["firewalls"]:
        if firewall["name"] in firewalls:
            rules = [one for one in firewall["allow_in"] if _holds(one["ports"], group.port)]
            firewall["allow_in"] += [
                one | {"ports": [str(port)]} for one in copy.deepcopy(rules) if not _holds(one["ports"], port)
            ]
    after = plan_from_data(data)
    return ByPlan(steps_between(plan, after), after)


def _templates(data: Data, plan: Plan) -> Iterator[tuple[Sequence[str], Data]]:
    """What machines are made of, each with the names of those."""
    for one in data["instances"]:
        yield [one["name"]], one
    for fleet, one in zip(plan.fleets, data["fleets"], strict=True):
        yield fleet.instance_names(), one["instance"]


def _ports(machine: Data) -> list[int]:
    return [one["port"] for one in machine["serves"]]


def _holds(ranges: Sequence[str], port: int) -> bool:
    bounds = (one.partition("-") for one in map(str, ranges))
    return any(int(low) <= port <= int(high or low) for low, _, high in bounds)


def layer_asks(plan: Plan) -> list[Ask]:
    """What it asks of a plan; nothing where it cannot be made of it."""
    names = [one.name for one in plan.balancers if one.listeners]
    return [choice("balancer", "balancer", names)] if names else []


def layer(plan: Plan, given: Given) -> ByPlan:
    """A balancer of the other layer is built beside the old with groups and pools of its own; what led to the old leads
    there, and what nobody uses any more goes."""
    name = given["balancer"]
    old = named(plan.balancers, name)
    to, suffix = 11 - old.layer, f"-layer-{11 - old.layer}"
    pools = _pools_of(plan, name)
    groups = {group for pool in plan.pools if pool.name in pools for tier in pool.tiers for group in tier.groups}
    beside = _beside(plan, {"target_groups": groups, "pools": pools, "balancers": {name}}, suffix)
    place = len(beside.balancers) - 1
    patch = completed(beside, [{"op": "replace", "path": f"/balancers/{place}/layer", "value": to}])
    if patch is None:
        raise CannotRun([Problem("", f"balancer: what {name} does cannot be done at layer {to}")])
    made = patched(beside, patch)
    # All that spoke of the old speaks of the new, but the old itself.
    made = patched(made, renaming(made, "balancer", name, name + suffix)[1:])
    for kind, some in (("balancer", {name}), ("pool", pools), ("target_group", groups)):
        for one in sorted(some):
            if not users_of(made, kind, one):
                made = patched(made, removal(made, kind, one))
    steps = steps_between(plan, made)
    if not old.addresses:
        return ByPlan(steps, made)
    words = f"give {name}{suffix} the address of the old, {', '.join(old.addresses)}"
    moved = Edit("set", "balancers", name + suffix, {"addresses": list(old.addresses)})
    steps.append(ChangeStep(words, (moved,), (len(steps) - 1,)))
    return ByPlan(steps, steps[-1].apply(made))


def _beside(plan: Plan, some: Mapping[str, set[str]], suffix: str) -> Plan:
    """The plan with copies of these groups, pools and balancers, which lead to each other as the old ones do."""
    data = whole_data(plan)
    copies = {
        field: [copy.deepcopy(one) for one in data[field] if one["name"] in names] for field, names in some.items()
    }
    for one in copies["pools"]:
        for tier in one["tiers"]:
            tier["groups"] = {group + suffix: weight for group, weight in tier["groups"].items()}
    for one in copies["balancers"]:
        one["addresses"] = []
        for listener in one["listeners"]:
            for does in (listener["otherwise"], *(rule["do"] for rule in listener["rules"])):
                if does["pool"]:
                    does["pool"] += suffix
    for field, made in copies.items():
        data[field] += [one | {"name": one["name"] + suffix} for one in made]
    return plan_from_data(data)


def _pools_of(plan: Plan, balancer: str) -> set[str]:
    listeners = named(plan.balancers, balancer).listeners
    does = [does for one in listeners for does in (one.otherwise, *(rule.do for rule in one.rules))]
    return {one.pool for one in does if one.pool}


def before_asks(plan: Plan) -> list[Ask]:
    """What it asks of a plan; nothing where it cannot be made of it."""
    servers = [one.name for one in plan.instances if one.public_address and one.serves]
    return [choice("instance", "server", servers)] if servers else []


def before(plan: Plan, given: Given) -> ByPlan:
    """A balancer with a front in each zone of the region is built and proven; in one moment it takes the server's
    address over, and names answer with it."""
    server = named(plan.instances, given["instance"])
    region = next(one for one in plan.regions if server.zone in one.zones)
    front, data = free(plan.balancers, f"{server.name}-front"), whole_data(plan)
    listeners, at_7 = [], all(one.protocol == "http" for one in server.serves)
    for service in server.serves:
        port, speaks = service.port, "http" if at_7 else "udp" if service.protocol == "udp" else "tcp"
        called = f"{server.name}-{port}"
        probe = free(plan.probes, called)
        data["probes"].append({"name": probe, "protocol": "tcp"})
        group, pool = free(plan.target_groups, called), free(plan.pools, called)
        target = {"instance": server.name}
        data["target_groups"].append(
            {"name": group, "protocol": speaks, "port": port, "probe": probe, "targets": [target]}
        )
        data["pools"].append({"name": pool, "tiers": [{"groups": {group: 1}}]})
        listeners.append({"name": called, "protocol": speaks, "port": port, "otherwise": {"pool": pool}})
    data["balancers"].append({
        "name": front, "layer": 7 if at_7 else 4, "zones": dict.fromkeys(region.zones), "listeners": listeners,
    })  # fmt: skip
    for firewall in data["firewalls"]:
        if firewall["name"] == server.firewall:
            ports = [str(one.port) for one in server.serves]
            firewall["allow_in"].append({"protocol": "any", "ports": ports, "from": f"balancer:{front}"})
    beside = plan_from_data(data)
    steps = steps_between(plan, beside)
    answer = {"balancer": front, "instance": None}
    names = [
        Edit("set", "names", one.name, {"answers": [
            each.model_dump(mode="json", by_alias=True) | (answer if each.instance == server.name else {})
            for each in one.answers
        ]})
        for one in plan.names if any(each.instance == server.name for each in one.answers)
    ]  # fmt: skip
    take_over = ChangeStep(
        f"{front} takes {server.public_address} over from {server.name}",
        (
            Edit("set", "instances", server.name, {"public_address": None}),
            Edit("set", "balancers", front, {"addresses": [server.public_address]}), *names,
        ),
        tuple(range(len(steps))),
    )  # fmt: skip
    return ByPlan([*steps, take_over], take_over.apply(beside))
