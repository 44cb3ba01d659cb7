"""Drills: scripts of faults and returns on a time line, with what is expected of them."""

from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from northgate.plan.types import (
    Count,
    Factor,
    Name,
    Path,
    PlanModel,
    Port,
    PositiveSeconds,
    Ref,
    Seconds,
    Status,
    Text,
    exactly_one,
    require_one,
)

CAUSES = (
    "refused", "timed_out", "overloaded", "none_healthy", "blocked", "bad_status", "dead_front", "reset",
)  # fmt: skip
READINGS = (
    "requests", "failed", "failed_share", "worst_blind_s", "settled_s", "peak_utilisation", "peak_latency_ms",
    "cross_zone_share", "sessions_moved", "connections_reset", "peak_targets",
)  # fmt: skip
EXPECTABLE = READINGS + tuple(f"failed_by_cause.{cause}" for cause in CAUSES)

# Which fields name a part, by its leading field: (needed besides it, allowed besides it).
_PARTS: dict[str, tuple[tuple[str, ...], tuple[str, ...]]] = {
    "page": (("status",), ("instance",)),
    "process": ((), ("port",)),
    "slow": (("factor",), ()),
    "firewall": (("rule",), ()),
    "instance": ((), ()),
    "zone": ((), ()),
    "region": ((), ()),
    "front": ((), ()),
    "link": ((), ()),
    "fault_domain": ((), ()),
    "maintenance_wave": ((), ()),
}


class FrontRef(PlanModel):
    """One front: a balancer and the zone in which it stands."""

    balancer: Annotated[str, Ref("balancer")]
    zone: Annotated[str, Ref("zone")]


def _one_part() -> dict[str, Any]:
    """JSON Schema for "exactly one part", with the fields that go beside each leading one (`x-beside`)."""
    kinds = []
    for kind, (needed, allowed) in sorted(_PARTS.items(), key=lambda part: part[0] != "zone"):
        # `instance` may stand beside a page: alone it leads only where no page does.
        given: dict[str, Any] = {kind: {"not": {"type": "null"}}}
        given |= {"page": {"type": "null"}} if kind == "instance" else {}
        kinds.append({"required": [kind, *needed], "properties": given, "x-beside": [*needed, *allowed]})
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

    @property
    def kind(self) -> str:
        """The field that says what kind of part this is."""
        return next(kind for kind in _PARTS if getattr(self, kind) is not None)

    @model_validator(mode="after")
    def _names_one_part(self) -> "Part":
        given = {field for field in type(self).model_fields if getattr(self, field) is not None}
        kind = next((kind for kind in _PARTS if kind in given), None)
        if kind is None:
            raise ValueError(f"names no part; one of {', '.join(sorted(_PARTS))} is needed")
        needed, allowed = _PARTS[kind]
        missing = [field for field in needed if field not in given]
        if missing:
            raise ValueError(f"{kind!r} needs {', '.join(missing)} beside it")
        surplus = sorted(given - {kind, *needed, *allowed})
        if surplus:
            raise ValueError(f"{kind!r} does not go with {', '.join(surplus)}")
        return self


class Surge(PlanModel):
    """From here on a client group asks `factor` times its rate."""

    clients: Annotated[str, Ref("client")]
    factor: Factor


class Drain(PlanModel):
    """The instance that leaves, or comes back."""

    instance: Annotated[str, Ref("any instance")]


STEP_KINDS = ("fail", "restore", "surge", "drain", "undrain")


class Step(PlanModel):
    """One entry of a drill: exactly one of fail, restore, surge, drain, undrain at a second."""

    model_config = {"json_schema_extra": require_one(*STEP_KINDS)}

    at_s: Seconds
    fail: Part | None = None
    restore: Part | None = None
    surge: Surge | None = None
    drain: Drain | None = None
    undrain: Drain | None = None

    @model_validator(mode="after")
    def _one_kind(self) -> "Step":
        exactly_one(self, STEP_KINDS)
        return self

    @property
    def kind(self) -> str:
        """Which of `STEP_KINDS` this step is."""
        return exactly_one(self, STEP_KINDS)


class Expectation(PlanModel):
    """A bound on a reading; at least one of at_most and at_least."""

    reading: Literal[EXPECTABLE]  # type: ignore[valid-type]
    at_most: float | None = None
    at_least: float | None = None

    @model_validator(mode="after")
    def _has_a_bound(self) -> "Expectation":
        if self.at_most is None and self.at_least is None:
            raise ValueError("at_most or at_least is needed")
        return self


class Drill(PlanModel):
    """A script of steps over `lasts_s` seconds; `phases` says where in their cycle the probes are."""

    name: Name
    title: Text = ""
    lasts_s: PositiveSeconds = 900
    phases: Literal["spread", "best", "worst"] = "spread"
    steps: list[Step] = []
    expect: list[Expectation] = []
