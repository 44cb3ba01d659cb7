"""Places for every instance that autoscalers may ever launch."""

from collections.abc import Iterator

from northgate.engine.network.compile import compile_network
from northgate.engine.network.tables import Network
from northgate.plan.models.groups import Target
from northgate.plan.models.machines import Fleet, Instance


def roomy(network: Network) -> Network:
    """The network with places for every instance that its autoscalers may ever launch; itself when there are none."""
    plan = network.plan
    if not any(fleet.scale for fleet in plan.fleets):
        return network
    taken = {one.name for one in plan.machines}
    spares = {fleet.name: list(_spares(fleet, taken)) for fleet in plan.fleets if fleet.scale}
    groups = [
        group.model_copy(update={"targets": [one for target in group.targets for one in _with_spares(target, spares)]})
        for group in plan.target_groups
    ]
    instances = [*plan.instances, *(one for some in spares.values() for one in some)]
    fields = {name: getattr(plan, name) for name in type(plan).model_fields}
    roomier = type(plan).model_construct(**(fields | {"instances": instances, "target_groups": groups}))
    return compile_network(roomier, spares=frozenset(one.name for some in spares.values() for one in some))


def _spares(fleet: Fleet, taken: set[str]) -> Iterator[Instance]:
    """Places in every zone for as many as the fleet may ever have there, numbered from zone to zone in turn; numbers
    that other instances' names have are passed over."""
    assert fleet.scale is not None
    zones = list(fleet.zones.items())
    begun = [one.zone for one in fleet.instances()]
    template = {field: getattr(fleet.instance, field) for field in type(fleet.instance).model_fields}
    for round_number in range(max(fleet.scale.max - begun.count(zone) for zone, _ in zones)):
        for position, (zone, subnet) in enumerate(zones):
            if round_number < fleet.scale.max - begun.count(zone):
                number = fleet.count + round_number * len(zones) + position + 1
                while f"{fleet.name}-{number}" in taken:
                    number += fleet.scale.max * len(zones)
                name = f"{fleet.name}-{number}"
                yield Instance.model_construct(name=name, zone=zone, subnet=subnet, address=None, **template)


def _with_spares(target: Target, spares: dict[str, list[Instance]]) -> list[Target]:
    more = spares.get(target.fleet or "", [])
    return [target, *(target.model_copy(update={"fleet": None, "instance": one.name}) for one in more)]
