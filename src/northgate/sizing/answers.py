"""What is asked of a plan turned round, and what is answered."""

from typing import Any, Literal

from msgspec import Struct

from northgate.engine.reports import AnswerModel

Survive = Literal["zone", "region", "instance", "fault_domain"]
SURVIVED: tuple[Survive, ...] = ("zone", "region", "instance", "fault_domain")

Patch = list[dict[str, Any]]


class Evidence(AnswerModel):
    """The loss that decides: what is lost, and the busiest of these targets once it has settled."""

    lost: dict[str, Any] | None
    peak_utilisation: float


class SizeAnswer(AnswerModel):
    """How many instances of a fleet a zone has and needs; with that many, how busy they are without a loss, what
    decides, and the largest share of all that is asked that a loss leaves unserved. `needed` is None where no number is
    enough."""

    fleet: str
    zone: str
    now: int
    needed: int | None
    utilisation: float
    unserved: float
    evidence: Evidence
    patch: Patch


class ZonesSize(AnswerModel):
    """The fewest zones among which a fleet, with as many instances in each as it needs there, survives the loss; how
    many it has in all now, and would have then. `needed` is None where no number of its zones is enough."""

    fleet: str
    now: int
    needed: int | None
    instances_now: int
    instances: int | None
    patch: Patch


class ProbeSize(AnswerModel):
    """The longest interval of a probe, up to an hour, under which no loss costs more than is allowed, and after how
    many fails it then decides (as now, or fewer where that is needed); what the costliest loss comes to. `interval_s`
    is None where no interval is short enough; `decides` is False where the costliest loss costs as much however short
    or long it is, so that it stays as it is."""

    probe: str
    interval_s: float | None
    unhealthy_after: int
    failed: float
    decides: bool
    evidence: dict[str, Any] | None
    patch: Patch


class TtlSize(AnswerModel):
    """The longest TTL of a name, up to an hour, under which no loss costs more than is allowed; None where none is
    short enough. `decides`: whether the costliest loss costs more or less with another one; it stays as it is where
    not."""

    name: str
    ttl_s: float | None
    failed: float
    decides: bool
    evidence: dict[str, Any] | None
    patch: Patch


class MinimumSize(AnswerModel):
    """The smallest minimum of an autoscaled fleet with which a surge of all clients overloads nobody: what fails for
    want of capacity with as many as now, and with so many. None where no number is enough."""

    fleet: str
    now: int
    needed: int | None
    failed_now: float
    failed: float
    patch: Patch


Answer = SizeAnswer | ZonesSize | ProbeSize | TtlSize | MinimumSize


class SizingAnswer(AnswerModel):
    """How much is enough."""

    sizes: list[SizeAnswer]
    zones: list[ZonesSize]
    probes: list[ProbeSize]
    ttls: list[TtlSize]
    minimums: list[MinimumSize]


class Asked(Struct, frozen=True):
    """One question: of which fleet, probe or name; what is to be survived, and within which bound."""

    kind: Literal["fleet", "zones", "probe", "name", "minimum"]
    name: str
    survive: Survive
    bound: float
