"""Certificates, balancers, their listeners and rules."""

import datetime
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, model_validator

from northgate.plan.models.types import (
    Address,
    Cidr,
    DnsName,
    HostPattern,
    Name,
    Path,
    PlanModel,
    Port,
    PositiveRate,
    PositiveSeconds,
    Ref,
    Seconds,
    Status,
    Text,
    exactly_one,
    require_one,
)


def _date_from_text(value: Any) -> Any:
    if isinstance(value, str):
        try:
            return datetime.date.fromisoformat(value)
        except ValueError as error:
            raise ValueError(f"{value!r} is not a date such as 2027-03-01") from error
    return value


class Certificate(PlanModel):
    """A certificate: the hosts it covers (one leading `*.` label allowed) and its last day."""

    name: Name
    hosts: list[HostPattern] = Field(min_length=1)
    expires: Annotated[datetime.date, BeforeValidator(_date_from_text)] | None = None


class Redirect(PlanModel):
    """Sends the client elsewhere; what is not given stays as it was asked."""

    protocol: Literal["http", "https"] | None = None
    host: DnsName | None = None
    port: Port | None = None
    path: Path | None = None
    status: Literal[301, 302, 303, 307, 308] = 302


class Respond(PlanModel):
    """A fixed answer by the balancer itself."""

    status: Status = 200
    body: Text = ""


ACTIONS = ("pool", "redirect", "respond")


class Action(PlanModel):
    """What a rule does: exactly one of pool, redirect, respond."""

    model_config = {"json_schema_extra": require_one(*ACTIONS)}

    pool: Annotated[str, Ref("pool")] | None = None
    redirect: Redirect | None = None
    respond: Respond | None = None

    @model_validator(mode="after")
    def _one_action(self) -> "Action":
        exactly_one(self, ACTIONS)
        return self


class When(PlanModel):
    """What a request must look like: all given fields must match, a list means one of."""

    host: list[HostPattern] | None = None
    path: list[str] | None = None
    method: list[str] | None = None
    header: dict[str, list[str]] | None = None
    query: dict[str, list[str]] | None = None
    source: list[Cidr] | None = None


class Rule(PlanModel):
    """One rule of a listener; the first that matches serves."""

    name: Name
    when: When = When()
    do: Action


class Listener(PlanModel):
    """A protocol and port on which a balancer accepts; `otherwise` serves what no rule matches."""

    name: Name
    protocol: Literal["http", "https", "tcp", "tls", "udp"]
    port: Port
    certificate: Annotated[str, Ref("certificate")] | None = None
    rules: list[Rule] = []
    otherwise: Action


class Balancer(PlanModel):
    """A managed load balancer: its fronts (one a zone), its addresses and its listeners.

    A `floating` address is held by one front: the first living one in the order of `zones`; the others stand by.
    `returns`: it goes back when an earlier front is alive again.
    """

    name: Name
    layer: Literal[4, 7] = 7
    exposure: Literal["public", "internal"] = "public"
    zones: dict[Annotated[str, Ref("zone")], Annotated[str, Ref("subnet")] | None] = Field(min_length=1)
    address_kind: Literal["shared", "per-zone", "anycast", "floating"] = "shared"
    returns: bool = True
    addresses: list[Address] = []
    firewall: Annotated[str, Ref("firewall")] | None = None
    source_seen: Literal["balancer", "client"] | None = None
    front_failover_s: Seconds = 5
    withdraw_when: Literal["dead", "no-targets"] = "dead"
    bandwidth_mbps: PositiveRate | None = None
    idle_timeout_s: PositiveSeconds = 60
    listeners: list[Listener] = []

    @model_validator(mode="after")
    def _protocols_fit_the_layer(self) -> "Balancer":
        fitting = ("http", "https") if self.layer == 7 else ("tcp", "tls", "udp")
        for listener in self.listeners:
            if listener.protocol not in fitting:
                raise ValueError(
                    f"listener {listener.name!r} speaks {listener.protocol}; "
                    f"at layer {self.layer} a listener speaks {', '.join(fitting)}"
                )
            if self.layer == 4 and listener.rules:
                raise ValueError(f"listener {listener.name!r} has rules; at layer 4 it has only `otherwise`")
        return self
