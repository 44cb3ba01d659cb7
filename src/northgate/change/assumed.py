"""What a change takes as given: what the later plan says of clients, areas and prices, from the beginning or as soon as
what they speak of is there; and what is only called otherwise, which is no step."""

from collections.abc import Callable, Iterator, Sequence
from typing import Any
from urllib.parse import urlsplit

from msgspec.structs import replace

from northgate.change.edits import ChangeStep, Data, Edit
from northgate.engine.matching import plain_host
from northgate.plan import Plan, plan_from_data
from northgate.plan.editing import patched, renaming, whole_data

# What the later plan says from the beginning.
ASSUMED = ("platform", "reliability", "accepted", "title", "notes")
# By which marks what is called otherwise is known again: a region by its zones, a network by its subnets, a subnet by
# where it is, an area by how far everything is from there.
MARKS: dict[str, Callable[[Plan], dict[str, set[Any]]]] = {
    "region": lambda plan: {one.name: {*one.zones} for one in plan.regions},
    "network": lambda plan: {one.name: {each.name for each in one.subnets} for one in plan.networks},
    "subnet": lambda plan: {
        each.name: {(one.name, each.cidr, each.zone)} for one in plan.networks for each in one.subnets
    },
    "area": lambda plan: {one.name: {tuple(sorted(one.latency_ms.items()))} for one in plan.areas if one.latency_ms},
}


def called_as(before: Plan, after: Plan) -> Plan:
    """The earlier plan, with what is only called otherwise in the later one called so."""
    for kind, marks in MARKS.items():
        old, new = marks(before), marks(after)
        came = {name: mine for name, mine in new.items() if name not in old}
        for name in [one for one in old if one not in new]:
            known = max(came, key=lambda other: len(came[other] & old[name]), default=None)
            if known is not None and came[known] & old[name]:
                del came[known]
                before = patched(before, renaming(before, kind, name, known))
    return before


def begun(before: Plan, after: Plan) -> Plan:
    """The earlier plan under the assumptions of the later one; without drills, which speak of what is not there yet."""
    old, new = whole_data(called_as(before, after)), whole_data(after)
    given = {field: new[field] for field in ASSUMED}
    return plan_from_data(
        old | given | {"areas": _first_areas(old, new), "clients": _first_clients(old, new), "drills": []}
    )


def with_assumed(steps: Sequence[ChangeStep], old: Data, new: Data) -> list[ChangeStep]:
    """Steps, each with what can be assumed once it is taken and could not before."""
    made = list(steps)

    def also(place: int, edit: Edit) -> None:
        made[place] = replace(made[place], edits=(*made[place].edits, edit))

    for place, step in enumerate(steps):
        for edit in step.edits:
            if edit.field == "regions" and edit.op in ("put", "drop"):
                for ways in _ways(edit, old, new):
                    also(place, ways)
    for client, hosts in _waiting(old, new):
        built = [place for place, step in enumerate(steps) if {plain_host(one) for one in _names_built(step)} & hosts]
        known = any(one["name"] == client["name"] for one in _first_clients(old, new))
        also(max(built), Edit("set" if known else "put", "clients", client["name"], client))
    gone = {one["name"] for one in old["areas"]} - {one["name"] for one in new["areas"]}
    for area in sorted(gone & _asked_from(old)):
        users = {one["name"] for one in old["names"] if area in _asked_from({"names": [one]})}
        lets_go = [
            place
            for place, step in enumerate(steps)
            if {edit.name for edit in step.edits if edit.field == "names"} & users
        ]
        also(max(lets_go), Edit("drop", "areas", area))
    return made


def _ways(edit: Edit, old: Data, new: Data) -> Iterator[Edit]:
    """How far areas are from a region that comes; or, where it goes, that this is not said any more."""
    if edit.op == "put":
        for area in new["areas"]:
            if edit.name in area["latency_ms"]:
                way = {edit.name: area["latency_ms"][edit.name]}
                yield Edit("merge", "areas", area["name"], {"latency_ms": way})
    else:
        for area in old["areas"]:
            if edit.name in area["latency_ms"]:
                yield Edit("merge", "areas", area["name"], {"latency_ms": {edit.name: None}})


def _first_areas(old: Data, new: Data) -> list[Data]:
    """The areas of the later plan, with how far they are from what is there; and those that names are still asked
    from."""
    was, is_ = ({one["name"]: one["latency_ms"] for one in data["areas"]} for data in (old, new))
    before, after = ({one["name"] for one in data["regions"]} for data in (old, new))
    made = [
        area
        | {
            "latency_ms": {region: ms for region, ms in was.get(area["name"], {}).items() if region not in after}
            | {region: ms for region, ms in area["latency_ms"].items() if region in before}
        }
        for area in new["areas"]
    ]
    return [*made, *(one for one in old["areas"] if one["name"] not in is_ and one["name"] in _asked_from(old))]


def _asked_from(data: Data) -> set[str]:
    """The areas of which names speak."""
    names = data["names"]
    asked = {area for name in names for area in name["probed_from"]}
    return asked | {area for name in names for answer in name["answers"] for area in answer["areas"]}


def host_of(call: Data) -> str:
    """The host that a call asks."""
    return plain_host(urlsplit(call["url"]).hostname or "")


def _names_built(step: ChangeStep) -> list[str]:
    return [edit.name for edit in step.edits if (edit.op, edit.field) == ("put", "names")]


def _new_hosts(old: Data, new: Data) -> set[str]:
    before, after = ({plain_host(one["name"]) for one in data["names"]} for data in (old, new))
    return after - before


def _waiting(old: Data, new: Data) -> Iterator[tuple[Data, set[str]]]:
    """The clients that call names that are not there yet, and these."""
    coming = _new_hosts(old, new)
    for client in new["clients"]:
        hosts = {host_of(call) for call in client["calls"]} & coming
        if hosts:
            yield client, hosts


def _first_clients(old: Data, new: Data) -> list[Data]:
    """The clients of the later plan, as far as the names are there that they call."""
    coming, made = _new_hosts(old, new), list[Data]()
    for client in new["clients"]:
        stay = [call for call in client["calls"] if host_of(call) not in coming]
        part, whole = (sum(call["share"] for call in calls) for calls in (stay, client["calls"]))
        if part > 0:
            made.append(client | {"calls": stay, "rps": client["rps"] * part / whole})
    return made
