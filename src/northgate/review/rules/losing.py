"""What losses come to, by the table of losses: each computed as a drill, none judged by its shape."""

from collections.abc import Iterator, Sequence
from typing import Any

from northgate.engine.reports.losses import LossRow
from northgate.review.context import Context, per_cent, place
from northgate.review.registry import Found, finding

# What is not told of as unserved; above this utilisation survivors do not carry the load.
SERVED, FULL = 1e-6, 1.0


def _unserved(context: Context, row: LossRow) -> bool:
    """Whether more goes unserved after a loss than without any, though nobody is overloaded."""
    flow = context.flow
    before = float(flow.cause_rps.sum()) / flow.requests if flow and flow.requests > 0 else 0.0
    return row.unserved_share > before + SERVED and row.peak_utilisation <= FULL


def _singles(context: Context, kinds: Sequence[str]) -> Iterator[LossRow]:
    for row in context.losses or ():
        if len(row.parts) == 1 and row.kinds[0] in kinds:
            yield row


def _where(context: Context, part: dict[str, Any]) -> tuple[str, str]:
    """Where a part stands in the plan, and its name."""
    plan = context.plan
    front, link = part.get("front") or {}, part.get("link") or ()
    name = str(front.get("balancer") or part.get("instance") or part.get("process") or next(iter(part.values())))
    places = {region.name: place("regions", index) for index, region in enumerate(plan.regions)}
    places |= {
        zone: place("regions", index, "zones", number)
        for index, region in enumerate(plan.regions)
        for number, zone in enumerate(region.zones)
    }
    standing = (("firewalls", plan.firewalls), ("balancers", plan.balancers), ("instances", plan.instances))
    for kind, some in standing:
        places |= {one.name: place(kind, index) for index, one in enumerate(some)}  # type: ignore[attr-defined]
    for index, fleet in enumerate(plan.fleets):
        if name in fleet.instance_names():
            return place("fleets", index), fleet.name
    return (place("regions"), " and ".join(link)) if link else (places.get(name, ""), name)


def _overload(context: Context, kind: str, called: str) -> Iterator[Found]:
    """Losses after which a target is offered more than it can do; what drives others out is told as a cascade."""
    for row in _singles(context, (kind,)):
        if row.peak_utilisation > FULL and row.busiest and not row.cascade:
            where, about = _where(context, row.parts[0])
            yield Found(
                where, about,
                f"when {called} {about} is lost, {row.busiest} is offered {per_cent(row.peak_utilisation)} of its "
                "capacity: what "
                f"is left cannot carry the load ({row.failed_requests:,.0f} requests fail within an hour)",
                "register more targets, or ask less of them",
            )  # fmt: skip


@finding("zone-overload", "risks", "losses")
def zone_overload(context: Context) -> Iterator[Found]:
    """When a zone is lost, the targets that are left are offered more than they can do."""
    yield from _overload(context, "zone", "zone")


@finding("region-overload", "risks", "losses")
def region_overload(context: Context) -> Iterator[Found]:
    """When a region is lost, those that take over are offered more than they can do."""
    yield from _overload(context, "region", "region")


@finding("fault-domain-overload", "risks", "losses")
def fault_domain_overload(context: Context) -> Iterator[Found]:
    """When a fault domain is lost, the targets that are left are offered more than they can do."""
    yield from _overload(context, "fault_domain", "fault domain")


@finding("wave-overload", "risks", "losses")
def wave_overload(context: Context) -> Iterator[Found]:
    """While a maintenance wave restarts, the targets that are left are offered more than they can do."""
    yield from _overload(context, "maintenance_wave", "maintenance wave")


@finding("cascade", "risks", "losses")
def cascade(context: Context) -> Iterator[Found]:
    """A loss drives out targets that it does not touch: overloaded, they answer their probes too late, and leave their
    load to the others."""
    for row in context.losses or ():
        if len(row.parts) == 1 and row.cascade:
            where, about = _where(context, row.parts[0])
            rest = "" if row.settled else "; it does not settle within an hour"
            yield Found(
                where, about,
                f"the loss of {row.words} drives out targets that it does not touch: {row.failed_requests:,.0f} "
                "requests "
                f"fail within an hour{rest}",
                "register more targets, let probes be more patient, or turn requests away before queues grow",
            )  # fmt: skip


@finding("single-point", "risks", "losses")
def single_point(context: Context) -> Iterator[Found]:
    """A single part without which some requests go unserved, however long one waits: found by losing each part in
    turn."""
    for row in _singles(context, ("instance", "process", "zone", "front", "fault_domain", "maintenance_wave", "link")):
        if _unserved(context, row):
            where, about = _where(context, row.parts[0])
            yield Found(
                where, about,
                f"without {row.words} {per_cent(row.unserved_share, 2)} of all requests stay unserved, until it is "
                "back",
                "let something else serve them, too",
            )  # fmt: skip


@finding("last-region", "advice", "losses")
def last_region(context: Context) -> Iterator[Found]:
    """When a region is lost, some requests go unserved until it is back, as nothing elsewhere takes them."""
    for row in _singles(context, ("region",)):
        if _unserved(context, row) and len(context.plan.regions) > 1:
            where, about = _where(context, row.parts[0])
            yield Found(
                where, about,
                f"without region {about} {per_cent(row.unserved_share, 2)} of all requests stay unserved, until it "
                "is back",
                "let their name have an answer in another region",
            )  # fmt: skip
