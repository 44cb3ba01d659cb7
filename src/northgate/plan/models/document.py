"""The whole plan."""

from functools import cached_property
from typing import Annotated, Literal

from pydantic import Field, model_validator

from northgate.plan.models.balancers import Balancer, Certificate
from northgate.plan.models.drills import Drill
from northgate.plan.models.faults import FAILING, Failures
from northgate.plan.models.groups import Pool, Probe, TargetGroup
from northgate.plan.models.machines import Fleet, Instance
from northgate.plan.models.places import Area, Firewall, Network, Region
from northgate.plan.models.traffic import ClientGroup, DnsEntry
from northgate.plan.models.types import Count, Factor, Name, PlanModel, Text


class Limits(PlanModel):
    """What the platform allows at most."""

    listeners_per_balancer: Count | None = None
    rules_per_listener: Count | None = None
    targets_per_group: Count | None = None
    groups_per_target: Count | None = None


class Prices(PlanModel):
    """Unit prices in the plan's own currency."""

    balancer_hour: Factor = 0
    front_hour: Factor = 0
    instance_hour: Factor = 0
    gigabyte: Factor = 0
    cross_zone_gigabyte: Factor = 0
    name_month: Factor = 0


class Platform(PlanModel):
    """What the place one builds on allows; all optional."""

    limits: Limits = Limits()
    one_balancer_per_target: bool = False
    replace_only: list[str] = []
    prices: Prices = Prices()


class Accepted(PlanModel):
    """A finding that is left as it is, and why: its code, and what it is about."""

    code: Name
    about: Annotated[str, Field(min_length=1, max_length=200)]
    because: Text


# Twice as many as the largest plan that the bench runs.
MOST_MACHINES = 200_000


class Plan(PlanModel):
    """The plan document, version 1. References may dangle in a draft; `references.dangling` finds them."""

    northgate: Literal[1]
    name: Name
    title: Text = ""
    notes: Text = ""
    regions: list[Region] = []
    areas: list[Area] = []
    networks: list[Network] = []
    firewalls: list[Firewall] = []
    instances: list[Instance] = []
    fleets: list[Fleet] = []
    probes: list[Probe] = []
    target_groups: list[TargetGroup] = []
    pools: list[Pool] = []
    certificates: list[Certificate] = []
    balancers: list[Balancer] = []
    names: list[DnsEntry] = []
    clients: list[ClientGroup] = []
    platform: Platform = Platform()
    drills: list[Drill] = []
    reliability: dict[FAILING, Failures] = {}
    accepted: list[Accepted] = []

    @model_validator(mode="after")
    def _can_be_counted(self) -> "Plan":
        count = len(self.instances) + sum(max(one.count, one.scale.max if one.scale else 0) for one in self.fleets)
        if count > MOST_MACHINES:
            raise ValueError(f"holds {count:,} machines, a plan at most {MOST_MACHINES:,}")
        return self

    @cached_property
    def machines(self) -> list[Instance]:
        """All instances in plan order, fleets expanded after the single ones."""
        return [*self.instances, *(instance for fleet in self.fleets for instance in fleet.instances())]

    def fault_domains(self) -> set[str]:
        """The fault domains in which something stands."""
        standing = [*self.instances, *(fleet.instance for fleet in self.fleets)]
        return {machine.fault_domain for machine in standing if machine.fault_domain}
