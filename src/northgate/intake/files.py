"""Files that are taken into a plan, by what they become."""

import csv
import io
from collections.abc import Callable
from pathlib import Path
from typing import Any

from northgate.intake.bad import Bad
from northgate.intake.logs import Traffic, is_heavy, read_log
from northgate.intake.names import names_of
from northgate.intake.taken import TakenIn, taken
from northgate.plan import Plan, PlanError, Problem
from northgate.plan.editing import whole_data
from northgate.plan.models.addressing import AddressBook
from northgate.plan.models.machines import Instance
from northgate.plan.problems import did_you_mean

# Zone files and tables are read whole, up to so many bytes; logs are streamed.
MOST_BYTES = 50_000_000
Told = Callable[[int], None]


def take_in(path: Path, form: str, plan: Plan, *, profile: bool = False, told: Told = lambda _: None) -> TakenIn:
    """Takes a file into a plan, as one of `FORMS`; raises PlanError where it is no such file."""
    if not path.is_file():
        raise PlanError([Problem("", f"{path} is no file")])
    try:
        if form == "clients":
            with path.open("rb") as file:
                return clients_of(read_log(file, told), plan, profile=profile)
        with path.open("rb") as file:
            return OF_TEXT[form](text_in(file.read(MOST_BYTES + 1)), plan)
    except PlanError as error:
        raise PlanError([Problem(one.where, f"{path} {one.message}") for one in error.problems]) from error


def clients_of(traffic: Traffic, plan: Plan, *, profile: bool = False) -> TakenIn:
    """What an access log tells becomes a client group that asks at the rate of the busiest minute; with a profile, at
    that of each minute. Raises PlanError where the log holds no request."""
    if not traffic.requests:
        raise PlanError([Problem("", f"holds no line of an access log ({traffic.bad.count} others)")])
    name = _free("from-log", {one.name for one in plan.clients})
    group: dict[str, Any] = {
        "name": name, "rps": round(traffic.peak_rps, 4), "sources": len(traffic.sources),
        "calls": traffic.calls(_base(plan)),
    }  # fmt: skip
    if profile:
        group["profile"] = traffic.profile()
    notes = [f"the busiest minute: {traffic.peak_rps:,.2f} requests/s; {len(traffic.sources):,} different sources"]
    notes += [f"a heavy source: {source}, {share:.1%} of all" for source, share in is_heavy(traffic)]
    return taken(plan, "clients", [group], traffic.requests + traffic.bad.count, traffic.bad, notes)


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


def machines_of(text: str, plan: Plan) -> TakenIn:
    """The rows of a table (CSV, RFC 4180) become instances; its first row says which field each column is."""
    reader = csv.DictReader(io.StringIO(text))
    known = [
        name for name, about in Instance.model_fields.items() if about.annotation not in (list,) and name != "serves"
    ]
    columns = [one or "" for one in reader.fieldnames or []]
    unknown = [one for one in columns if one not in known]
    if "name" not in columns or "zone" not in columns or unknown:
        says = [f"there is no column {one!r}{did_you_mean(one, known)}" for one in unknown] or [
            "it needs name and zone"
        ]
        raise PlanError([Problem("", f"is no table of machines: {'; '.join(says)}")])
    rows, bad, read = list[dict[str, Any]](), Bad(), 0
    for row in reader:
        read += 1
        given = {key: value for key, value in row.items() if key and value not in (None, "")}
        if not given.get("name"):
            bad.note(reader.line_num, ",".join(str(value) for value in row.values()), "it has no name")
            continue
        rows.append({key: _value(key, value) for key, value in given.items()})
    was = {one["name"]: one for one in whole_data(plan)["instances"]}
    return taken(plan, "instances", [was.get(row["name"], {}) | row for row in rows], read, bad)


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


def text_in(found: bytes) -> str:
    """A zone file or a table as text; raises PlanError where it is too large, or none."""
    if len(found) > MOST_BYTES:
        raise PlanError([Problem("", f"is larger than {MOST_BYTES // 1_000_000} MB")])
    try:
        return found.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise PlanError([Problem("", "is no text in UTF-8")]) from error


def _free(name: str, taken: set[str]) -> str:
    number = 2
    found = name
    while found in taken:
        found, number = f"{name}-{number}", number + 1
    return found


OF_TEXT: dict[str, Callable[[str, Plan], TakenIn]] = {"names": names_of, "machines": machines_of}
FORMS = ("clients", *OF_TEXT)
