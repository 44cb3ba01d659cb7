"""Drills: scripts of faults and returns on a time line, with what is expected of them."""

from typing import Annotated, Literal

from pydantic import model_validator

from northgate.plan.models.faults import Part
from northgate.plan.models.traffic import Answer
from northgate.plan.models.types import (
    Count,
    Factor,
    Name,
    PlanModel,
    PositiveCount,
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


class ScaleByHand(PlanModel):
    """A fleet gets so many instances: more are launched, warm up and are proven; of fewer the newest drain first."""

    fleet: Annotated[str, Ref("fleet")]
    count: Count


class Remove(PlanModel):
    """The instance that is terminated: it never returns."""

    instance: Annotated[str, Ref("any instance")]


class Expire(PlanModel):
    """The certificate that is valid no longer: clients turn away who speak TLS by it."""

    certificate: Annotated[str, Ref("certificate")]


class ChangeAnswers(PlanModel):
    """A name's record, changed by hand: what was answered before fades with the TTL."""

    name: Annotated[str, Ref("name")]
    answers: list[Answer]


class Withdraw(PlanModel):
    """One of the answers that a name gives by now, counted from 0, is taken out of its record."""

    name: Annotated[str, Ref("name")]
    answer: Count


class Roll(PlanModel):
    """All instances of a group are restarted, `batch` at a time: drained, away for `restart_s`, and back.

    The next batch follows when every front has the last in use again, or (`restarted`) as soon as it is back.
    """

    group: Annotated[str, Ref("target_group")]
    batch: PositiveCount = 1
    wait_for: Literal["in_use", "restarted"] = "in_use"
    restart_s: Seconds = 30


STEP_KINDS = (
    "fail", "restore", "surge", "drain", "undrain", "scale", "remove", "expire", "change_answers", "withdraw", "roll",
)  # fmt: skip


class Step(PlanModel):
    """One entry of a drill, at a second: exactly one of what fails or returns, or of what is done by hand."""

    model_config = {"json_schema_extra": require_one(*STEP_KINDS)}

    at_s: Seconds
    fail: Part | None = None
    restore: Part | None = None
    surge: Surge | None = None
    drain: Drain | None = None
    undrain: Drain | None = None
    scale: ScaleByHand | None = None
    remove: Remove | None = None
    expire: Expire | None = None
    change_answers: ChangeAnswers | None = None
    withdraw: Withdraw | None = None
    roll: Roll | None = None

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
