"""Names that lead to balancers, and the clients that ask them."""

from typing import Annotated, Literal
from urllib.parse import urlsplit

from pydantic import AfterValidator, Field, model_validator

from northgate.plan.models.types import (
    Address,
    Cidr,
    Count,
    DnsName,
    Factor,
    Name,
    PlanModel,
    PositiveCount,
    PositiveSeconds,
    Rate,
    Ref,
    Seconds,
    Share,
    Weight,
    exactly_one,
    require_one,
)

ANSWER_KINDS = ("balancer", "instance", "address", "host")


class LastResort(PlanModel):
    """What a name answers when it knows no healthy answer: exactly one of balancer, instance, address, host.

    An instance is asked at its public address.
    """

    model_config = {"json_schema_extra": require_one(*ANSWER_KINDS)}

    balancer: Annotated[str, Ref("balancer")] | None = None
    instance: Annotated[str, Ref("instance")] | None = None
    address: Address | None = None
    host: DnsName | None = None

    @model_validator(mode="after")
    def _one_answer(self) -> "LastResort":
        exactly_one(self, ANSWER_KINDS)
        return self


class Answer(LastResort):
    """One possible answer of a name, with its weight and the areas it is meant for."""

    weight: Weight = 1
    areas: list[Annotated[str, Ref("area")]] = []


class DnsEntry(PlanModel):
    """A DNS name: its answers, how one is chosen, and which probe watches them from where."""

    name: DnsName
    ttl_s: Seconds = 60
    choose: Literal["order", "share", "nearest", "area", "all"] = "order"
    answers: list[Answer] = []
    probe: Annotated[str, Ref("probe")] | None = None
    probed_from: list[Annotated[str, Ref("area")]] = []
    standby_share: Share = 0
    when_none_healthy: LastResort | None = None


def check_url(text: str) -> str:
    """Returns a URL that a client may ask; raises ValueError that says what is wrong with another."""
    try:
        parts = urlsplit(text)
        port = parts.port
    except ValueError as error:
        raise ValueError(f"{text!r} is not a URL: {error}") from error
    if parts.scheme not in ("http", "https", "tcp", "tls", "udp") or not parts.hostname:
        raise ValueError(f"{text!r} is not a URL such as https://www.beckwater.example/tiles/7")
    if parts.scheme in ("tcp", "tls", "udp") and port is None:
        raise ValueError(f"{text!r} needs a port, such as {parts.scheme}://{parts.hostname}:5000")
    return text


Url = Annotated[str, AfterValidator(check_url)]


class Call(PlanModel):
    """One kind of request that a client group makes, and its share of the group's requests."""

    url: Url
    share: Annotated[float, Field(ge=0, le=1_000_000)] = 1
    method: str = "GET"
    headers: dict[str, str] = {}
    kilobytes: Factor = 0


class Overholds(PlanModel):
    """The share of a group's clients that keep a DNS answer `s` seconds instead of its TTL."""

    share: Share = 0
    s: Seconds = 0


class ClientGroup(PlanModel):
    """Clients of one kind in one area; `rps` is the rate of all of them, times the profile's factor."""

    name: Name
    area: Annotated[str, Ref("area")] | None = None
    rps: Rate
    sources: PositiveCount = 1000
    cidr: Cidr = "198.18.0.0/16"
    calls: list[Call] = Field(min_length=1)
    requests_per_connection: PositiveCount = 20
    connection_s: PositiveSeconds = 30
    connect_timeout_s: PositiveSeconds = 5
    timeout_s: PositiveSeconds = 10
    retries: Annotated[Count, Field(le=20)] = 0
    tries_next_address: bool = True
    overholds: Overholds = Overholds()
    profile: list[Annotated[list[Factor], Field(min_length=2, max_length=2)]] = []

    @model_validator(mode="after")
    def _shares_and_steps(self) -> "ClientGroup":
        if not sum(call.share for call in self.calls) > 0:
            raise ValueError("the shares of the calls add up to nothing")
        starts = [second for second, _ in self.profile]
        if starts != sorted(set(starts)):
            raise ValueError("the profile's seconds must rise from entry to entry")
        return self
