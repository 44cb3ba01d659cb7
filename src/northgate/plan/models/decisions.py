"""What turns a plan into decisions: how often parts fail, and which findings are left as they are."""

from typing import Annotated, Literal

from pydantic import Field

from northgate.plan.models.types import Name, PlanModel, Seconds, Text

# The kinds of parts whose failures may be counted by the year.
FAILING = Literal[
    "instance", "process", "zone", "region", "front", "link", "firewall", "page", "fault_domain", "maintenance_wave",
    "address", "host",
]  # fmt: skip


class Failures(PlanModel):
    """How often a part of a kind fails in a year, and how long it then takes until it is back."""

    per_year: Annotated[float, Field(ge=0, le=1_000_000)]
    repair_s: Seconds


class Accepted(PlanModel):
    """A finding that is left as it is, and why: its code, and what it is about."""

    code: Name
    about: Annotated[str, Field(min_length=1, max_length=200)]
    because: Text
