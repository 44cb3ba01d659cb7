"""The names of a plan as a zone file (RFC 1035)."""

import ipaddress
from collections.abc import Iterator

from northgate.plan import Plan
from northgate.plan.models.addressing import AddressBook
from northgate.plan.models.traffic import DnsEntry, LastResort
from northgate.plan.text.records import recorded, told_now

HEAD = """; Names of {title}, as they are told while all is well (RFC 1035).
; What a zone file cannot say stands in comments: who is told what, and what takes over.
"""

# What stands behind an answer that the file cannot hold beside the others.
ALONE = "told, too, but an alias stands alone at its name"


def zone_file(plan: Plan) -> str:
    """All records with absolute names, each under its time to live; what only takes over is a comment."""
    book = AddressBook(plan)
    lines = [HEAD.format(title=_flat(plan.title or plan.name))]
    for entry in plan.names:
        lines.append(f"; {entry.name}: {_rule(entry)}")
        rows = zip(entry.answers, told_now(entry), recorded(entry), strict=True)
        for place, (answer, told, now) in enumerate(rows):
            note = ALONE if told and not now else _note(entry, place, answer)
            lines += [_line(entry, kind, value, note, now=now) for kind, value in _records(plan, book, answer)]
        if entry.when_none_healthy:
            note = "when none is healthy"
            lines += [
                _line(entry, kind, value, note, now=False)
                for kind, value in _records(plan, book, entry.when_none_healthy)
            ]
        lines.append("")
    return "\n".join(lines)


def _flat(text: str) -> str:
    return " ".join(text.split())


def _rule(entry: DnsEntry) -> str:
    watched = f"watched by probe {entry.probe}" if entry.probe else "not watched"
    how = {
        "order": "the first healthy answer", "share": "by weight among the healthy",
        "nearest": "the nearest healthy answer",
        "area": "the answer of the client's area", "all": "every healthy answer",
    }[entry.choose]  # fmt: skip
    return f"{how}, {watched}"


def _note(entry: DnsEntry, place: int, answer: LastResort) -> str:
    weight = getattr(answer, "weight", 1)
    if entry.choose == "order":
        share = entry.standby_share
        words = ["first in order", f"standby, {share:.0%} always" if share else "takes over"]
        return words[min(place, 1)]
    if entry.choose == "share":
        return f"weight {weight:g}"
    areas = ", ".join(getattr(answer, "areas", []))
    return f"for {areas}" if areas else ""


def _records(plan: Plan, book: AddressBook, answer: LastResort) -> Iterator[tuple[str, str]]:
    """The records of one answer: (type, value)."""
    if answer.host:
        yield "CNAME", answer.host.rstrip(".") + "."
    elif answer.balancer:
        yield from ((_kind(address), address) for address in book.balancers.get(answer.balancer, []) if address)
    else:
        public = {one.name: one.public_address for one in plan.instances}
        address = answer.address or public.get(answer.instance or "")
        if address:
            yield _kind(address), address


def _kind(address: str) -> str:
    return "AAAA" if ipaddress.ip_address(address).version == 6 else "A"


def _line(entry: DnsEntry, kind: str, value: str, note: str, *, now: bool) -> str:
    text = f"{entry.name.rstrip('.')}. {entry.ttl_s:.0f} IN {kind} {value}"
    return ("" if now else "; ") + text + (f" ; {note}" if note else "")
