"""Files that are taken into a plan, by what they become."""

import csv
import io
import re
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import dns.exception
import dns.rdatatype
import dns.zone

from northgate.intake.bad import Bad
from northgate.intake.logs import is_heavy, read_log
from northgate.plan import Plan, PlanError, Problem, plan_from_data
from northgate.plan.editing import whole_data
from northgate.plan.models.addressing import AddressBook
from northgate.plan.models.machines import Instance
from northgate.plan.problems import did_you_mean

# Zone files and tables are read whole, up to so many bytes; logs are streamed.
MOST_BYTES = 50_000_000
SOA = re.compile(r"^[^\n;]*\sSOA\s[^(\n]*(\([^)]*\))?[^\n]*\n", re.MULTILINE | re.IGNORECASE)
Told = Callable[[int], None]


@dataclass
class TakenIn:
    """What has come into a plan: the plan as it is then, the names of what is new or changed, how much was read, lines
    that could not be taken, and what else is to be known."""

    plan: Plan
    added: list[str]
    read: int
    bad: Bad
    notes: list[str] = field(default_factory=list)


def take_in(path: Path, form: str, plan: Plan, *, profile: bool = False, told: Told = lambda _: None) -> TakenIn:
    """Takes a file into a plan, as one of `FORMS`; raises PlanError where it is no such file."""
    if not path.is_file():
        raise PlanError([Problem("", f"{path} is no file")])
    return FORMS[form](path, plan, profile, told)


def _clients(path: Path, plan: Plan, profile: bool, told: Told) -> TakenIn:
    """An access log becomes a client group that asks at the rate of the busiest minute."""
    with path.open("rb") as file:
        traffic = read_log(file, told)
    if not traffic.requests:
        raise PlanError([Problem("", f"{path} holds no line of an access log ({traffic.bad.count} others)")])
    name = _free("from-log", {one.name for one in plan.clients})
    group: dict[str, Any] = {
        "name": name, "rps": round(traffic.peak_rps, 4), "sources": len(traffic.sources),
        "calls": traffic.calls(_base(plan)),
    }  # fmt: skip
    if profile:
        group["profile"] = traffic.profile()
    notes = [f"the busiest minute: {traffic.peak_rps:,.2f} requests/s; {len(traffic.sources):,} different sources"]
    notes += [f"a heavy source: {source}, {share:.1%} of all" for source, share in is_heavy(traffic)]
    data = whole_data(plan)
    made = plan_from_data(data | {"clients": [*data["clients"], group]})
    return TakenIn(made, [name], traffic.requests + traffic.bad.count, traffic.bad, notes)


def _base(plan: Plan) -> str:
    """Where those of a log asked: what the plan's clients ask, or its first name, or its first balancer's address."""
    for client in plan.clients:
        scheme, _, rest = client.calls[0].url.partition("://")
        if scheme in ("http", "https"):
            return f"{scheme}://{rest.partition('/')[0]}"
    if plan.names:
        return f"https://{plan.names[0].name}"
    addresses = [one for some in AddressBook(plan).balancers.values() for one in some if one]
    return f"http://{addresses[0] if addresses else '203.0.113.1'}"


def _names(path: Path, plan: Plan, _profile: bool, _told: Told) -> TakenIn:
    """The addresses and aliases of a zone file (RFC 1035) become names; those of the plan's balancers lead there."""
    # Names may lie anywhere, so the root is the origin; there no other start of authority may stand.
    text = SOA.sub("\n", _text(path))
    try:
        zone = dns.zone.from_text(text, origin=".", relativize=False, check_origin=False)
    except (dns.exception.DNSException, ValueError) as error:
        raise PlanError([Problem("", f"{path} is no zone file: {error}")]) from error
    owners, entries, bad = AddressBook(plan).owner_balancer, dict[str, dict[str, Any]](), Bad()
    for number, (owner, ttl, rdata) in enumerate(zone.iterate_rdatas(), 1):
        name = owner.to_text(omit_final_dot=True).lower()
        if rdata.rdtype in (dns.rdatatype.A, dns.rdatatype.AAAA):
            balancer = owners.get(rdata.to_text(), (None, 0))[0]
            answer = {"balancer": balancer} if balancer else {"address": rdata.to_text()}
        elif rdata.rdtype == dns.rdatatype.CNAME:
            answer = {"host": rdata.to_text().rstrip(".").lower()}
        else:
            if rdata.rdtype not in (dns.rdatatype.SOA, dns.rdatatype.NS):
                bad.note(number, f"{name} {dns.rdatatype.to_text(rdata.rdtype)}", "only A, AAAA and CNAME become names")
            continue
        entry = entries.setdefault(name, {"name": name, "ttl_s": ttl, "answers": []})
        if answer not in entry["answers"]:
            entry["answers"].append(answer)
    for entry in entries.values():
        if len(entry["answers"]) > 1:
            entry["choose"] = "all"
    if not entries:
        raise PlanError([Problem("", f"{path} has no address and no alias")])
    data = whole_data(plan)
    kept = [one for one in data["names"] if one["name"].lower().rstrip(".") not in entries]
    made = plan_from_data(data | {"names": [*kept, *entries.values()]})
    replaced = len(data["names"]) - len(kept)
    notes = [f"{replaced} of them were in the plan before, and are as in the file now"] if replaced else []
    return TakenIn(made, list(entries), len(zone.nodes), bad, notes)


def _machines(path: Path, plan: Plan, _profile: bool, _told: Told) -> TakenIn:
    """The rows of a table (CSV, RFC 4180) become instances; its first row says which field each column is."""
    reader = csv.DictReader(io.StringIO(_text(path)))
    known = [
        name for name, about in Instance.model_fields.items() if about.annotation not in (list,) and name != "serves"
    ]
    columns = [one or "" for one in reader.fieldnames or []]
    unknown = [one for one in columns if one not in known]
    if "name" not in columns or "zone" not in columns or unknown:
        says = [f"there is no column {one!r}{did_you_mean(one, known)}" for one in unknown] or [
            "it needs name and zone"
        ]
        raise PlanError([Problem("", f"{path}: {'; '.join(says)}")])
    rows, bad, read = list[dict[str, Any]](), Bad(), 0
    for row in reader:
        read += 1
        given = {key: value for key, value in row.items() if key and value not in (None, "")}
        if not given.get("name"):
            bad.note(reader.line_num, ",".join(str(value) for value in row.values()), "it has no name")
            continue
        rows.append({key: _value(key, value) for key, value in given.items()})
    data, new = whole_data(plan), {row["name"] for row in rows}
    kept = [one for one in data["instances"] if one["name"] not in new]
    was = {one["name"]: one for one in data["instances"]}
    made = plan_from_data(data | {"instances": [*kept, *(was.get(row["name"], {}) | row for row in rows)]})
    return TakenIn(made, [row["name"] for row in rows], read, bad)


def _value(field_name: str, text: str) -> Any:
    """A cell as its field wants it."""
    if field_name == "tags":
        return [one for one in text.replace(";", ",").split(",") if one]
    if field_name in ("capacity_rps", "service_ms", "queue_s", "maintenance_wave"):
        try:
            number = float(text)
        except ValueError:
            return text
        return int(number) if number.is_integer() else number
    return text


def _text(path: Path) -> str:
    with path.open("rb") as file:
        found = file.read(MOST_BYTES + 1)
    if len(found) > MOST_BYTES:
        raise PlanError([Problem("", f"{path} is larger than {MOST_BYTES // 1_000_000} MB")])
    try:
        return found.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise PlanError([Problem("", f"{path} is no text in UTF-8")]) from error


def _free(name: str, taken: set[str]) -> str:
    number = 2
    found = name
    while found in taken:
        found, number = f"{name}-{number}", number + 1
    return found


FORMS: dict[str, Callable[[Path, Plan, bool, Told], TakenIn]] = {
    "clients": _clients, "names": _names, "machines": _machines,
}  # fmt: skip
