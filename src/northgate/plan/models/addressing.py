"""Addresses that a plan leaves open: the next free one of a subnet, or of the ranges kept for documentation.

Source: RFC 5737 (192.0.2.0/24, 198.51.100.0/24, 203.0.113.0/24).
"""

import ipaddress
from collections.abc import Iterator

from northgate.plan.models.balancers import Balancer
from northgate.plan.models.document import Plan

DOCUMENTATION = ("203.0.113.0/24", "198.51.100.0/24", "192.0.2.0/24")


class AddressBook:
    """Who has which address: `instances` by name, `balancers` by name (one a front where addresses are per zone)."""

    def __init__(self, plan: Plan) -> None:
        free = _Free(plan)
        self.instances = {
            one.name: one.address or (free.next(one.subnet) if one.subnet else None) for one in plan.machines
        }
        self.balancers = {one.name: _of_balancer(one, free) for one in plan.balancers}
        self.owner_balancer = {
            address: (name, place) for name, owned in self.balancers.items() for place, address in enumerate(owned)
        }
        self.owner_instance = {address: name for name, address in self.instances.items() if address}


class _Free:
    """The addresses of a plan that nobody has, given out one after the other."""

    def __init__(self, plan: Plan) -> None:
        self._subnets = {subnet.name: subnet.cidr for network in plan.networks for subnet in network.subnets}
        self._taken = {one.address for one in plan.instances if one.address}
        self._taken |= {one.public_address for one in plan.instances if one.public_address}
        self._taken |= {address for balancer in plan.balancers for address in balancer.addresses}
        self._left: dict[str, Iterator[str]] = {}

    def next(self, subnet: str | None) -> str | None:
        """The next free address of a subnet (of the documentation ranges); None when there is none left."""
        key = subnet or ""
        if key not in self._left:
            cidrs = [self._subnets[subnet]] if subnet in self._subnets else [] if subnet else DOCUMENTATION
            self._left[key] = (str(host) for cidr in cidrs for host in ipaddress.ip_network(cidr).hosts())
        for address in self._left[key]:
            if address not in self._taken:
                self._taken.add(address)
                return address
        return None


def _of_balancer(balancer: Balancer, free: _Free) -> list[str]:
    wanted = len(balancer.zones) if balancer.address_kind == "per-zone" else max(1, len(balancer.addresses))
    given = list(balancer.addresses[:wanted])
    subnets = list(balancer.zones.values())
    for place in range(len(given), wanted):
        subnet = subnets[place] if balancer.exposure == "internal" else None
        given.append(free.next(subnet) or free.next(None) or "")
    return given
