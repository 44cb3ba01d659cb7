"""The index of a plan: every object with what it is in few words, what uses it, and whether nothing does."""

from collections import defaultdict
from collections.abc import Callable, Iterator
from typing import Any
from urllib.parse import urlsplit

from msgspec import Struct

from northgate.plan.models.addressing import AddressBook
from northgate.plan.models.balancers import Action, Balancer, Listener
from northgate.plan.models.document import Plan
from northgate.plan.models.groups import Pool, Probe, Target, TargetGroup
from northgate.plan.models.machines import Machine
from northgate.plan.models.traffic import Answer, LastResort
from northgate.plan.problems import Location, pointer
from northgate.plan.references import Reference, definitions, references

# What stands for itself: nothing in a plan needs to refer to it.
_FOR_THEMSELVES = ("region", "client", "drill", "listener")
# Who names what without putting it to use: (owner, object).
_NO_USE = {("firewall", "balancer"), ("firewall", "firewall"), ("area", "region"), ("network", "network")}


class User(Struct, frozen=True):
    """An object that refers to another one."""

    kind: str
    name: str


class Entry(Struct, frozen=True):
    """An object of the plan: its kind and name, where it stands, what it is, who uses it, and whether nobody does.

    `where` is a JSON Pointer; `unused` is false for what needs no user, such as client groups. `addresses` are those
    that an instance, the instances of a fleet (in order; empty where one has none) or a balancer have, given in the
    plan or taken from the next that is free.
    """

    kind: str
    name: str
    where: str
    says: str
    used_by: tuple[User, ...]
    unused: bool
    addresses: tuple[str, ...]


def index_of(plan: Plan) -> list[Entry]:
    """Every object of the plan, kind by kind, in document order within its kind."""
    users, book = _users(plan), AddressBook(plan)
    return [
        Entry(
            kind, name, pointer(location), _says(plan, kind, location), tuple(used),
            unused=kind not in _FOR_THEMSELVES and not any(_is_use(one, kind) for one in used),
            addresses=_addresses(book, kind, _at(plan, location)),
        )
        for kind, name, location in _everything(plan)
        for used in [users[kind, name]]
    ]  # fmt: skip


def _addresses(book: AddressBook, kind: str, found: Any) -> tuple[str, ...]:
    if kind == "balancer":
        return tuple(book.balancers[found.name])
    if kind == "fleet":
        return tuple(book.instances[name] or "" for name in found.instance_names())
    given = (book.instances[found.name], found.public_address) if kind == "instance" else ()
    return tuple(address for address in given if address)


def _is_use(user: User, kind: str) -> bool:
    return user.kind != "drill" and (user.kind, kind) not in _NO_USE


def _everything(plan: Plan) -> Iterator[tuple[str, str, Location]]:
    yield from definitions(plan)
    for index, balancer in enumerate(plan.balancers):
        for position, listener in enumerate(balancer.listeners):
            yield "listener", f"{balancer.name}/{listener.name}", ("balancers", index, "listeners", position)


def _at(plan: Plan, location: Location) -> Any:
    here: Any = plan
    for part in location:
        here = here[part] if isinstance(part, int) else getattr(here, part)
    return here


def _users(plan: Plan) -> dict[tuple[str, str], list[User]]:
    """Who refers to each object, by its kind and name: each user once, in document order."""
    owners: dict[Location, User] = {
        location[:2]: User(kind, name) for kind, name, location in definitions(plan) if len(location) == 2
    }
    found: dict[tuple[str, str], dict[User, None]] = defaultdict(dict)
    for reference in references(plan):
        owner = owners.get(reference.location[:2])
        if owner:
            found[_named(plan, reference)][owner] = None
    for owner, host in _asked_hosts(plan):
        found["name", host][owner] = None
    owners_of = _owners_of_addresses(plan)
    for owner, address in _asked_addresses(plan):
        for kind, name in owners_of.get(address, ()):
            found[kind, name][owner] = None
    for network in plan.networks:
        for subnet in network.subnets:
            others = {user: None for user in found["subnet", subnet.name] if user != User("network", network.name)}
            found["network", network.name].update(others)
    return defaultdict(list, {key: list(users) for key, users in found.items()})


def _owners_of_addresses(plan: Plan) -> dict[str, list[tuple[str, str]]]:
    owners: dict[str, list[tuple[str, str]]] = defaultdict(list)
    for balancer in plan.balancers:
        for address in balancer.addresses:
            owners[address].append(("balancer", balancer.name))
    for instance in plan.instances:
        for address in filter(None, (instance.address, instance.public_address)):
            owners[address].append(("instance", instance.name))
    return owners


def _named(plan: Plan, reference: Reference) -> tuple[str, str]:
    """The kind and name of the object that a reference leads to; of an instance of a fleet, the fleet."""
    kind, name = reference.kind, reference.name
    if kind == "zone or region":
        return ("region" if any(one.name == name for one in plan.regions) else "zone"), name
    if kind == "any instance" and all(one.name != name for one in plan.instances):
        fleet = name.rpartition("-")[0]
        return "fleet", fleet
    return ("instance" if kind == "any instance" else kind), name


def _asked_hosts(plan: Plan) -> Iterator[tuple[User, str]]:
    """Names of the plan that stand as hosts: in the URLs of clients, as targets, as answers."""
    known = {_bare(one.name): one.name for one in plan.names}
    for owner, host in _hosts(plan):
        if _bare(host) in known:
            yield owner, known[_bare(host)]


def _bare(host: str) -> str:
    return host.lower().rstrip(".")


def _hosts(plan: Plan) -> Iterator[tuple[User, str]]:
    for client in plan.clients:
        yield from ((User("client", client.name), urlsplit(call.url).hostname or "") for call in client.calls)
    for owner, end in _ends(plan):
        yield owner, end.host or ""


def _asked_addresses(plan: Plan) -> Iterator[tuple[User, str]]:
    yield from _hosts(plan)
    for owner, end in _ends(plan):
        yield owner, end.address or ""


def _ends(plan: Plan) -> Iterator[tuple[User, Target | LastResort]]:
    for group in plan.target_groups:
        yield from ((User("target_group", group.name), target) for target in group.targets)
    for name in plan.names:
        last = [name.when_none_healthy] if name.when_none_healthy else []
        yield from ((User("name", name.name), answer) for answer in [*name.answers, *last])


def _says(plan: Plan, kind: str, location: Location) -> str:
    """In few words, what an object is."""
    if kind == "zone":
        return f"in {plan.regions[int(location[1])].name}"
    return _SAYS[kind](_at(plan, location))


def _counted(count: int, word: str) -> str:
    return f"{count} {word}" if count == 1 else f"{count} {word}s"


def _probe(probe: Probe) -> str:
    port = "" if probe.port == "same" else f" on port {probe.port}"
    asked = f"{probe.protocol}{f' {probe.path}' if probe.protocol != 'tcp' else ''}{port}"
    return f"{asked} every {probe.interval_s:g} s, out after {probe.unhealthy_after}, back after {probe.healthy_after}"


def _group(group: TargetGroup) -> str:
    watched = f"probe {group.probe}" if group.probe else "no probe"
    targets = _counted(len(group.targets), "entry").replace("entrys", "entries") if group.targets else "no targets yet"
    return f"{group.protocol} {group.port}, {targets}, {group.balance.replace('-', ' ')}, {watched}"


def _pool(pool: Pool) -> str:
    return "; ".join(f"{place}: {', '.join(tier.groups)}" for place, tier in enumerate(pool.tiers, 1))


def _machine(machine: Machine) -> str:
    serves = ", ".join(f"{one.protocol} {one.port}" for one in machine.serves) or "serves nothing"
    return serves + (f", {machine.capacity_rps:g}/s" if machine.capacity_rps else "")


def _balancer(balancer: Balancer) -> str:
    return f"{balancer.exposure}, layer {balancer.layer}, {', '.join(balancer.zones)}"


def _action(action: Action) -> str:
    if action.pool:
        return f"pool {action.pool}"
    return f"answers {action.respond.status}" if action.respond else "redirects"


def _listener(listener: Listener) -> str:
    rules = f"{_counted(len(listener.rules), 'rule')}, " if listener.rules else ""
    return f"{listener.protocol} {listener.port}, {rules}otherwise {_action(listener.otherwise)}"


def _answer(answer: Answer) -> str:
    return answer.balancer or answer.instance or answer.address or answer.host or ""


_SAYS: dict[str, Callable[[Any], str]] = {
    "region": lambda one: ", ".join(one.zones),
    "area": lambda one: ", ".join(f"{region} {ms:g} ms" for region, ms in one.latency_ms.items()),
    "network": lambda one: f"{one.cidr} in {one.region}, {_counted(len(one.subnets), 'subnet')}",
    "subnet": lambda one: f"{one.cidr} in {one.zone or 'all zones'}{', public' if one.public else ''}",
    "firewall": lambda one: f"{_counted(len(one.allow_in), 'rule')} in",
    "instance": lambda one: f"{one.zone}, {_machine(one)}",
    "fleet": lambda one: f"{one.count} in {', '.join(one.zones)}: {_machine(one.instance)} each",
    "probe": _probe,
    "target_group": _group,
    "pool": _pool,
    "certificate": lambda one: ", ".join(one.hosts) + (f", until {one.expires}" if one.expires else ""),
    "balancer": _balancer,
    "listener": _listener,
    "name": lambda one: f"{', '.join(map(_answer, one.answers)) or 'no answers yet'}, TTL {one.ttl_s:g} s",
    "client": lambda one: f"{one.rps:g}/s from {one.area or 'nowhere in particular'}: {one.calls[0].url}",
    "drill": lambda one: f"{one.title or one.name}: {_counted(len(one.steps), 'step')} in {one.lasts_s:g} s",
}
