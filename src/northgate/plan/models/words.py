"""What fields of the plan are called, their units, and samples of what may stand there: the only place that says so.

Models put these into the JSON Schema (`x-label`, `x-unit`, `x-sample`), from which forms and sheets are drawn;
differences say them in sentences.
"""

import re
from typing import Any

from msgspec import Struct


class Words(Struct, frozen=True):
    """Of one field: its label, how a sentence says it (None: as the label, in lower case), and a sample."""

    label: str | None = None
    said: str | None = None
    sample: Any = None


_WORDS: dict[str, Words] = {
    "interval_s": Words("Every"),
    "timeout_s": Words("Give up after", "gives up after"),
    "unhealthy_after": Words("Out after fails", "out after"),
    "healthy_after": Words("Back after passes", "back after"),
    "next_after": Words("Interval counts from"),
    "ttl_s": Words("TTL", "TTL"),
    "rps": Words("Rate"),
    "capacity_rps": Words("Capacity"),
    "service_ms": Words("Service time"),
    "queue_s": Words("Queue"),
    "choose": Words("Chosen by"),
    "balance": Words("Targets by"),
    "affinity": Words("Sessions"),
    "by": Words("Kept by"),
    "renews": Words("Each request renews"),
    "reach": Words("A front may use"),
    "front_failover_s": Words("Dead front leaves after"),
    "returns": Words("Floating goes back"),
    "drain_s": Words("Draining takes"),
    "s": Words("For"),
    "at_s": Words("At"),
    "lasts_s": Words("Lasts"),
    "url": Words("URL", "URL", sample="https://www.beckwater.example/"),
    "cidr": Words("CIDR", "CIDR", sample="198.18.0.0/24"),
    "name": Words(sample="new"),
    "from": Words(sample="any"),
    "to": Words(sample="any"),
    "ports": Words(sample=["443"]),
    "hosts": Words(sample=["*.beckwater.example"]),
    "address": Words(sample="203.0.113.1"),
    "host": Words(sample="www.beckwater.example"),
    "page": Words(sample="/"),
    "factor": Words(sample=2),
    "status": Words(sample=503),
}
# By the ending of a field's name.
_UNITS = ((r"(_|^)s$", "s"), (r"_ms$", "ms"), (r"(_|^)rps$", "/s"), (r"_mbps$", "Mbit/s"), (r"kilobytes$", "kB"))


def plain(field: str) -> str:
    """A field's name without its unit, as words."""
    return re.sub(r"_(s|ms|rps|mbps)$", "", field).replace("_", " ")


def label(field: str) -> str:
    """What a field is called where it stands alone."""
    found = _WORDS.get(field, Words()).label or plain(field)
    return found[:1].upper() + found[1:]


def said(field: str) -> str:
    """What a field is called in a sentence."""
    words = _WORDS.get(field, Words())
    return words.said or (words.label[:1].lower() + words.label[1:] if words.label else plain(field))


def unit(field: str) -> str:
    """The unit of a field; empty where it has none."""
    return next((unit for ending, unit in _UNITS if re.search(ending, field)), "")


def hints(field: str) -> dict[str, Any]:
    """What the schema says of a field besides its type."""
    sample = _WORDS.get(field, Words()).sample
    found = {"x-label": label(field), "x-unit": unit(field) or None, "x-sample": sample}
    return {name: value for name, value in found.items() if value is not None}
