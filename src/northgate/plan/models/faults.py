"""Kinds of faults: what a step of a drill can fail and restore.

A kind is a field of `Part` and a row of `FAULTS`; its effect on what is true is a row of `engine.truth.faults.EFFECTS`.
"""

from collections.abc import Callable
from typing import Annotated, Any, Literal

from msgspec import Struct
from pydantic import Field, model_validator

from northgate.plan.models.types import Address, Count, DnsName, Path, PlanModel, Port, Ref, Seconds, Status


class FaultKind(Struct, frozen=True):
    """One kind: how a part of it is called, what stands beside its leading field (`needed` always), and a sample."""

    words: Callable[["Part"], str]
    sample: dict[str, Any]
    needed: tuple[str, ...] = ()
    allowed: tuple[str, ...] = ()


def _named(field: str) -> Callable[["Part"], str]:
    """The kind and the name: zone fells-2."""
    return lambda part: f"{field.replace('_', ' ')} {getattr(part, field)}"


def _page(part: "Part") -> str:
    return f"page {part.page} of {part.instance or 'all that serve it'}"


def _process(part: "Part") -> str:
    return f"process of {part.process}" + (f" on port {part.port}" if part.port else "")


def _front(part: "Part") -> str:
    return f"the front of {part.front.balancer} in {part.front.zone}" if part.front else ""


def _link(part: "Part") -> str:
    return "the link between {} and {}".format(*(part.link or ("", "")))


# By the leading field; of two that are given the first leads.
FAULTS: dict[str, FaultKind] = {
    "page": FaultKind(_page, {"page": "/ready", "status": 503}, needed=("status",), allowed=("instance",)),
    "process": FaultKind(_process, {"process": "tiles-1"}, allowed=("port",)),
    "slow": FaultKind(_named("slow"), {"slow": "tiles-1", "factor": 3}, needed=("factor",)),
    "firewall": FaultKind(
        lambda part: f"rule {(part.rule or 0) + 1} of firewall {part.firewall}", {"firewall": "app", "rule": 0},
        needed=("rule",),
    ),
    "instance": FaultKind(_named("instance"), {"instance": "tiles-1"}),
    "zone": FaultKind(_named("zone"), {"zone": "fells-1"}),
    "region": FaultKind(_named("region"), {"region": "fells"}),
    "front": FaultKind(_front, {"front": {"balancer": "front", "zone": "fells-1"}}),
    "link": FaultKind(_link, {"link": ["fells-1", "fells-2"]}),
    "fault_domain": FaultKind(_named("fault_domain"), {"fault_domain": "rack-1"}),
    "address": FaultKind(_named("address"), {"address": "198.51.100.7"}),
    "host": FaultKind(_named("host"), {"host": "partner.beckwater.example"}),
    "maintenance_wave": FaultKind(_named("maintenance_wave"), {"maintenance_wave": 1}),
}  # fmt: skip


# The kinds of parts whose failures may be counted by the year.
FAILING = Literal[
    "instance", "process", "zone", "region", "front", "link", "firewall", "page", "fault_domain", "maintenance_wave",
    "address", "host",
]  # fmt: skip


class Failures(PlanModel):
    """How often a part of a kind fails in a year, and how long it then takes until it is back."""

    per_year: Annotated[float, Field(ge=0, le=1_000_000)]
    repair_s: Seconds


class FrontRef(PlanModel):
    """One front: a balancer and the zone in which it stands."""

    balancer: Annotated[str, Ref("balancer")]
    zone: Annotated[str, Ref("zone")]


def _one_part() -> dict[str, Any]:
    """JSON Schema for "exactly one part", with the fields that go beside each leading one (`x-beside`)."""
    kinds = []
    for kind, one in sorted(FAULTS.items(), key=lambda part: part[0] != "zone"):
        # `instance` may stand beside a page: alone it leads only where no page does.
        given: dict[str, Any] = {kind: {"not": {"type": "null"}}}
        given |= {"page": {"type": "null"}} if kind == "instance" else {}
        kinds.append({"required": [kind, *one.needed], "properties": given, "x-beside": [*one.needed, *one.allowed]})
    return {"oneOf": kinds}


class Part(PlanModel):
    """What a step fails or restores; see `kind` for which of the fields leads."""

    model_config = {"json_schema_extra": _one_part()}

    instance: Annotated[str, Ref("any instance")] | None = None
    process: Annotated[str, Ref("any instance")] | None = None
    port: Port | None = None
    page: Path | None = None
    status: Status | None = None
    slow: Annotated[str, Ref("any instance")] | None = None
    factor: Annotated[float, Field(ge=1, le=1_000_000)] | None = None
    zone: Annotated[str, Ref("zone")] | None = None
    region: Annotated[str, Ref("region")] | None = None
    front: FrontRef | None = None
    link: Annotated[list[Annotated[str, Ref("zone or region")]], Field(min_length=2, max_length=2)] | None = None
    firewall: Annotated[str, Ref("firewall")] | None = None
    rule: Count | None = None
    fault_domain: Annotated[str, Ref("fault_domain")] | None = None
    maintenance_wave: Count | None = None
    address: Annotated[Address, Ref("address outside")] | None = None
    host: Annotated[DnsName, Ref("host outside")] | None = None

    @property
    def kind(self) -> str:
        """The field that says what kind of part this is."""
        return next(kind for kind in FAULTS if getattr(self, kind) is not None)

    @property
    def words(self) -> str:
        """The part as it is called."""
        return FAULTS[self.kind].words(self)

    @model_validator(mode="after")
    def _names_one_part(self) -> "Part":
        given = {field for field in type(self).model_fields if getattr(self, field) is not None}
        kind = next((kind for kind in FAULTS if kind in given), None)
        if kind is None:
            raise ValueError(f"names no part; one of {', '.join(sorted(FAULTS))} is needed")
        needed, allowed = FAULTS[kind].needed, FAULTS[kind].allowed
        missing = [field for field in needed if field not in given]
        if missing:
            raise ValueError(f"{kind!r} needs {', '.join(missing)} beside it")
        surplus = sorted(given - {kind, *needed, *allowed})
        if surplus:
            raise ValueError(f"{kind!r} does not go with {', '.join(surplus)}")
        return self
