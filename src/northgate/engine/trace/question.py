"""What is asked, and who asks it: the requests of a trace before they are sent."""

import datetime
import ipaddress
import math
from typing import Any, Literal

from msgspec import Struct, field

from northgate.engine.base import CannotRun, cached
from northgate.engine.matching import Range, asked_request, request_for, span_of
from northgate.engine.network import Numbers, address_text, source_numbers
from northgate.plan import Plan, Problem
from northgate.plan.problems import did_you_mean

FIRST_PORT = 49152
# Over one connection a client of no group sends so many requests.
KEEPS_FOR = 20
Vary = Literal["connection", "kept", "source", "area"]


class Question(Struct, frozen=True):
    """What is sent: by a client group or from a free address, how often, and what changes from one to the next.

    `show` is the place of the one, counted from 0, whose way is told; `today` decides whether a certificate is valid.
    """

    url: str
    client: str | None = None
    source: str | None = None
    area: str | None = None
    method: str = "GET"
    headers: dict[str, str] = field(default_factory=dict)
    session: Literal["none", "kept"] = "none"
    times: int = 1
    vary: Vary = "connection"
    show: int = 0
    today: datetime.date | None = None


class Sender(Struct, frozen=True):
    """Who sends one request: where from, over which connection, what it waits for, how often it repeats a failed call,
    whether it takes the next address after a failed connect, and with what share it keeps answers how long."""

    label: str
    span: Range
    area: int
    connect_timeout_s: float
    timeout_s: float
    port: int
    retries: int = 0
    tries_next: bool = True
    over_share: float = 0.0
    over_s: float = 0.0

    @property
    def most_waits(self) -> int:
        """How many connects of one attempt may begin and take their time-out."""
        return max(math.ceil(self.timeout_s / max(self.connect_timeout_s, 1e-9) - 1e-9), 1)


class Asking:
    """The requests of a question, one after the other, and their senders."""

    def __init__(self, plan: Plan, question: Question) -> None:
        self.plan, self.question = plan, question
        self.client = self._client()
        headers = dict(question.headers)
        self.request = asked_request(question.url, "https", question.method, headers, self._usual_host())

    @cached
    def numbers(self) -> Numbers | None:
        """The client group's sources; None without a client group."""
        return source_numbers(self.plan.clients[self.client]) if self.client is not None else None

    def _url(self) -> str:
        url = self.question.url
        return url if "://" in url else f"https://{self._usual_host() if url.startswith('/') else ''}{url}"

    def _usual_host(self) -> str:
        """Of whom a path alone is asked: whom the client group asks, else the plan's first name."""
        if self.client is not None:
            return request_for(self.plan.clients[self.client].calls[0].url).host
        return next((entry.name for entry in self.plan.names), "")

    def _client(self) -> int | None:
        if self.question.client is None:
            return None
        names = [client.name for client in self.plan.clients]
        if self.question.client not in names:
            hint = did_you_mean(self.question.client, names)
            raise CannotRun([Problem("/clients", f"there is no client group {self.question.client!r}{hint}")])
        return names.index(self.question.client)

    def _area(self, number: int) -> int:
        names = [area.name for area in self.plan.areas]
        if self.question.vary == "area" and names:
            return number % len(names)
        wanted = self.question.area
        if wanted is None and self.client is not None:
            wanted = self.plan.clients[self.client].area
        if wanted is None:
            return -1
        if wanted not in names:
            raise CannotRun([Problem("/areas", f"there is no area {wanted!r}{did_you_mean(wanted, names)}")])
        return names.index(wanted)

    def _span(self, number: int) -> Range:
        if self.question.source:
            try:
                first = span_of(str(ipaddress.ip_address(self.question.source)))
            except ValueError as error:
                raise CannotRun([Problem("/source", f"{self.question.source!r} is not an address")]) from error
        elif self.client is not None and self.numbers is not None:
            client, numbers = self.plan.clients[self.client], self.numbers
            at = numbers[number % len(numbers) if self.question.vary == "source" else 0]
            return span_of(client.cidr)[0], at, at
        else:
            first = span_of("198.18.0.1")
        shift = number if self.question.vary == "source" else 0
        return first[0], first[1] + shift, first[2] + shift

    @property
    def per_connection(self) -> int:
        """How many requests a client who keeps his connection sends over one."""
        return self.plan.clients[self.client].requests_per_connection if self.client is not None else KEEPS_FOR

    def sender(self, number: int) -> Sender:
        """Who sends the request of that number, counted from 0."""
        client = self.plan.clients[self.client] if self.client is not None else None
        span = self._span(number)
        # Who keeps his connection has the next one when that has carried its requests.
        port = number // self.per_connection if self.question.vary == "kept" else number
        return Sender(
            label=client.name if client else address_text(span[0], span[1]),
            span=span,
            area=self._area(number),
            connect_timeout_s=client.connect_timeout_s if client else 5.0,
            timeout_s=client.timeout_s if client else 10.0,
            port=FIRST_PORT + port % (65536 - FIRST_PORT),
            retries=client.retries if client else 0,
            tries_next=client.tries_next_address if client else True,
            over_share=client.overholds.share if client else 0.0,
            over_s=client.overholds.s if client else 0.0,
        )

    def described(self) -> dict[str, Any]:
        """The request as it was understood."""
        sender = self.sender(0)
        return {
            "client": self.question.client,
            "source": address_text(sender.span[0], sender.span[1]),
            "area": self.plan.areas[sender.area].name if sender.area >= 0 else None,
            "url": self._url(),
            "method": self.request.method,
            "headers": dict(self.request.headers),
            "session": self.question.session,
            "times": self.question.times,
            "vary": self.question.vary,
        }
