"""Places: regions and zones, areas where clients sit, networks with their subnets, and firewalls."""

import re
from typing import Annotated, Literal

from pydantic import AfterValidator, Field

from northgate.plan.models.types import Cidr, Milliseconds, Name, PlanModel, PortRange, Ref, check_cidr


class Region(PlanModel):
    """A region and its availability zones; zone names are unique in the whole plan."""

    name: Name
    zones: list[Name] = Field(min_length=1)


class Area(PlanModel):
    """Where clients and name probers sit; `latency_ms` is the round trip to each region, in milliseconds."""

    name: Name
    latency_ms: dict[Annotated[str, Ref("region")], Milliseconds] = {}


class Subnet(PlanModel):
    """Part of a network; without a zone it spans the zones of the network's region."""

    name: Name
    cidr: Cidr
    zone: Annotated[str, Ref("zone")] | None = None
    public: bool = False


class Network(PlanModel):
    """A private network of one region; `peers` are symmetric."""

    name: Name
    region: Annotated[str, Ref("region")]
    cidr: Cidr
    peers: list[Annotated[str, Ref("network")]] = []
    subnets: list[Subnet] = []


def _peer_of_rule(text: str) -> str:
    if text == "any":
        return text
    kind, separator, name = text.partition(":")
    if separator and kind in ("balancer", "firewall") and re.fullmatch(r"[a-z][a-z0-9-]*", name):
        return text
    return check_cidr(text)


RulePeer = Annotated[str, AfterValidator(_peer_of_rule), Ref("rule peer")]


class AllowIn(PlanModel):
    """Lets packets in: protocol and ports, from `any`, a CIDR, `balancer:NAME` or `firewall:NAME`."""

    protocol: Literal["tcp", "udp", "any"] = "tcp"
    ports: list[PortRange] = Field(min_length=1)
    source: RulePeer = Field(alias="from")


class AllowOut(PlanModel):
    """Lets packets out: protocol and ports, to `any`, a CIDR, `balancer:NAME` or `firewall:NAME`."""

    protocol: Literal["tcp", "udp", "any"] = "tcp"
    ports: list[PortRange] = Field(min_length=1)
    to: RulePeer


class Firewall(PlanModel):
    """A stateful firewall: what is not listed in `allow_in` is dropped."""

    name: Name
    allow_in: list[AllowIn] = []
    allow_out: Literal["any"] | list[AllowOut] = "any"
