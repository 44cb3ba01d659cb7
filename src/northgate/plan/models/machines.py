"""Machines: instances and fleets, what they serve and how much they carry."""

from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from northgate.plan.models.types import (
    Address,
    Count,
    Milliseconds,
    Name,
    Path,
    PlanModel,
    Port,
    PositiveCount,
    PositiveRate,
    PositiveSeconds,
    Ref,
    Seconds,
    Status,
)

SERVICE_PROTOCOLS = Literal["http", "https", "tcp", "udp"]


class Service(PlanModel):
    """What an instance answers on one port; of `pages` the longest path prefix wins."""

    port: Port
    protocol: SERVICE_PROTOCOLS
    pages: dict[Path, Status] = {"/": 200}


class Machine(PlanModel):
    """What instances and a fleet's template share.

    `capacity_rps` is work finished per second (none: no limit is known), `service_ms` the time of one request when
    idle, `queue_s` the work that may wait, in seconds. By its `tags` a group may have it as a target.
    """

    tags: list[Name] = []
    firewall: Annotated[str, Ref("firewall")] | None = None
    fault_domain: Name | None = None
    maintenance_wave: Count | None = None
    capacity_rps: PositiveRate | None = None
    service_ms: Milliseconds = 0
    queue_s: Seconds = 10
    serves: list[Service] = []

    @model_validator(mode="after")
    def _ports_are_served_once(self) -> "Machine":
        seen: set[tuple[int, bool]] = set()
        for service in self.serves:
            key = (service.port, service.protocol == "udp")
            if key in seen:
                raise ValueError(f"port {service.port} is served twice")
            seen.add(key)
        return self


class Instance(Machine):
    """One machine in one zone; without an address it gets the next free one of its subnet. At a `public_address`
    clients and names may reach it directly."""

    name: Name
    zone: Annotated[str, Ref("zone")]
    subnet: Annotated[str, Ref("subnet")] | None = None
    address: Address | None = None
    public_address: Address | None = None


class Scale(PlanModel):
    """Autoscaling of a fleet: decided every `every_s`, a new instance serves `warmup_s` later.

    `replaces_lost`: what is lost is given up at the next decision, and others are launched in its place.
    `launch_fails_s`: for so long after a zone or region is lost, launches fail for want of room, and are tried again.
    """

    min: Count
    max: PositiveCount
    target_utilisation: Annotated[float, Field(gt=0, le=1)]
    every_s: PositiveSeconds = 30
    warmup_s: Seconds = 90
    replaces_lost: bool = False
    launch_fails_s: Seconds = 0

    @model_validator(mode="after")
    def _min_is_not_above_max(self) -> "Scale":
        if self.min > self.max:
            raise ValueError(f"min {self.min} is above max {self.max}")
        return self


class Fleet(PlanModel):
    """Instances from one template, spread evenly over its zones in order, named `fleet-1`, `fleet-2` and so on."""

    name: Name
    zones: dict[Annotated[str, Ref("zone")], Annotated[str, Ref("subnet")] | None] = Field(min_length=1)
    count: Count
    scale: Scale | None = None
    instance: Machine = Machine()

    def instance_names(self) -> list[str]:
        """The names of its instances at the start of a drill."""
        return [f"{self.name}-{number}" for number in range(1, self.count + 1)]

    def instances(self) -> list[Instance]:
        """Its instances: `count` spread evenly over the zones, the first zones getting one more where uneven.

        Numbers run zone by zone, so that a zone's instances are neighbours.
        """
        template: dict[str, Any] = {field: getattr(self.instance, field) for field in Machine.model_fields}
        each, rest = divmod(self.count, len(self.zones))
        places = [
            (zone, subnet)
            for position, (zone, subnet) in enumerate(self.zones.items())
            for _ in range(each + (position < rest))
        ]
        return [
            Instance.model_construct(name=name, zone=zone, subnet=subnet, address=None, public_address=None, **template)
            for name, (zone, subnet) in zip(self.instance_names(), places, strict=True)
        ]
