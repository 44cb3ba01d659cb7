"""Health probes, target groups and backend pools."""

from typing import Annotated, Literal

from pydantic import Field, model_validator

from northgate.plan.models.types import (
    Address,
    Count,
    DnsName,
    Name,
    Path,
    PlanModel,
    Port,
    PositiveCount,
    PositiveRate,
    PositiveSeconds,
    Ref,
    Seconds,
    Share,
    StatusRange,
    Weight,
    exactly_one,
    require_one,
)


class Probe(PlanModel):
    """How health is asked: what, how often, how patiently, and how many results change a belief."""

    name: Name
    protocol: Literal["http", "https", "tcp"] = "http"
    port: Literal["same"] | Port = "same"
    path: Path = "/"
    host: DnsName | None = None
    expect: list[StatusRange] = Field(default=["200-399"], min_length=1)
    interval_s: PositiveSeconds = 10
    timeout_s: PositiveSeconds = 5
    unhealthy_after: PositiveCount = 3
    healthy_after: PositiveCount = 2
    next_after: Literal["send", "result"] = "send"

    def expects(self, status: int) -> bool:
        """Whether an answer with this status is a pass."""
        return any(_in_range(status, text) for text in self.expect)


def _in_range(status: int, text: str) -> bool:
    low, _, high = text.partition("-")
    return int(low) <= status <= int(high or low)


TARGET_KINDS = ("instance", "fleet", "tagged", "address", "host", "balancer")


class Target(PlanModel):
    """One entry of a group: exactly one of instance, fleet, tagged, address, host or balancer, with its weight.
    `tagged` stands for all machines that carry the tag, now and later."""

    model_config = {"json_schema_extra": require_one(*TARGET_KINDS)}

    instance: Annotated[str, Ref("instance")] | None = None
    fleet: Annotated[str, Ref("fleet")] | None = None
    tagged: Name | None = None
    address: Address | None = None
    host: DnsName | None = None
    balancer: Annotated[str, Ref("balancer")] | None = None
    port: Port | None = None
    weight: Weight = 1

    @model_validator(mode="after")
    def _one_target(self) -> "Target":
        exactly_one(self, TARGET_KINDS)
        return self


class Affinity(PlanModel):
    """Session affinity: by cookie or source, for `lasts_s` seconds, renewed by each request or not."""

    by: Literal["none", "cookie", "source"] = "none"
    lasts_s: PositiveSeconds = 3600
    renews: bool = True


class TargetGroup(PlanModel):
    """Targets that serve one port, how one of them is chosen, and which probe watches them."""

    name: Name
    protocol: Literal["http", "https", "tcp", "tls", "udp"] = "http"
    port: Port
    probe: Annotated[str, Ref("probe")] | None = None
    targets: list[Target] = []
    balance: Literal["round-robin", "least-connections", "two-choices", "source-hash", "flow-hash"] = "round-robin"
    affinity: Affinity = Affinity()
    reach: Literal["zone", "prefer-zone", "region", "any"] = "region"
    when_none_healthy: Literal["refuse", "send-anyway"] = "refuse"
    drain_s: Seconds = 30
    slow_start_s: Seconds = 0
    connect_timeout_s: PositiveSeconds = 3
    response_timeout_s: PositiveSeconds = 30
    try_others: Annotated[Count, Field(le=100)] = 0
    on_out: Literal["keep", "reset"] = "keep"


class MinHealthy(PlanModel):
    """How many of a tier's targets must be in use for it to serve: a count, or a share of all of them."""

    model_config = {"json_schema_extra": require_one("count", "share")}

    count: Count | None = None
    share: Share | None = None

    @model_validator(mode="after")
    def _one_bound(self) -> "MinHealthy":
        exactly_one(self, ("count", "share"))
        return self


class Fill(PlanModel):
    """How far the groups of a tier are filled: exactly one of a utilisation, and a rate at each target."""

    model_config = {"json_schema_extra": require_one("utilisation", "rps_per_target")}

    utilisation: Annotated[float, Field(gt=0, le=1)] | None = None
    rps_per_target: PositiveRate | None = None

    @model_validator(mode="after")
    def _one_limit(self) -> "Fill":
        exactly_one(self, ("utilisation", "rps_per_target"))
        return self


class Tier(PlanModel):
    """One choice of a pool: groups with weights, and when it has enough healthy targets to serve.

    With `fill` each group takes what it can up to that, in their order (`spill: nearest`: the nearest first); the rest
    goes on to the next, then to the next tier, and what nobody has room for goes by weight.
    """

    groups: dict[Annotated[str, Ref("target_group")], Weight] = Field(min_length=1)
    min_healthy: MinHealthy = MinHealthy(count=1)
    empty_group: Literal["share-out", "fail"] = "share-out"
    fill: Fill | None = None
    spill: Literal["order", "nearest"] = "order"


class Pool(PlanModel):
    """Tiers in order: the first with enough healthy targets serves."""

    name: Name
    tiers: list[Tier] = Field(min_length=1)
