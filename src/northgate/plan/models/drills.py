"""Drills: scripts of faults and returns on a time line, with what is expected of them."""

from typing import Annotated, Literal

from pydantic import model_validator

from northgate.plan.models.faults import Part
from northgate.plan.models.types import (
    Factor,
    Name,
    PlanModel,
    PositiveSeconds,
    Ref,
    Seconds,
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
