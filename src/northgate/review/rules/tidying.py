"""What could be left out, or said better."""

from collections.abc import Iterator

from northgate.plan.overview import index_of
from northgate.plan.problems import did_you_mean, nearest
from northgate.review.context import Context, place
from northgate.review.registry import RULES, Found, finding


@finding("unused", "advice")
def unused(context: Context) -> Iterator[Found]:
    """Nothing in the plan uses an object: a pool to which no rule sends, a probe that watches nobody."""
    for entry in index_of(context.plan):
        if entry.unused and entry.kind in (
            "probe",
            "target_group",
            "pool",
            "certificate",
            "firewall",
            "area",
            "network",
        ):
            # What is named without being used, as by a drill that fails it, is removed there too, or not at all.
            named = " and ".join(f"{one.kind.replace('_', ' ')} {one.name}" for one in entry.used_by)
            yield Found(
                entry.where, entry.name, f"nothing uses {entry.kind.replace('_', ' ')} {entry.name}",
                f"use it, or remove it, and from {named}, which names it" if named else "remove it",
                () if named else ({"op": "remove", "path": entry.where},),
            )  # fmt: skip


@finding("balancer-unasked", "advice")
def balancer_unasked(context: Context) -> Iterator[Found]:
    """No name, target or client leads to a balancer."""
    hosts = [call.url for client in context.plan.clients for call in client.calls]
    targets = {target.balancer for group in context.plan.target_groups for target in group.targets}
    for index, balancer in enumerate(context.plan.balancers):
        by_address = any(address in url for address in balancer.addresses for url in hosts)
        if balancer.name not in context.led_balancers | targets and not by_address:
            yield Found(
                place("balancers", index), balancer.name, f"nothing leads to {balancer.name}",
                "let a name answer with it",
            )  # fmt: skip


@finding("machine-idle", "advice")
def machine_idle(context: Context) -> Iterator[Found]:
    """A machine serves, and is in no target group: it gets nothing."""
    plan = context.plan
    targets = [target for group in plan.target_groups for target in group.targets]
    taken, tags = {target.fleet or target.instance for target in targets}, {target.tagged for target in targets}
    idle = [("fleets", index, one.name) for index, one in enumerate(plan.fleets) if not tags & {*one.instance.tags}]
    idle += [
        ("instances", index, one.name)
        for index, one in enumerate(plan.instances)
        if not one.public_address and not tags & {*one.tags}
    ]
    for kind, index, name in idle:
        if name not in taken:
            yield Found(
                place(kind, index), name, f"{name} is in no target group: it gets no request",
                "register it in a group, or remove it",
            )  # fmt: skip


@finding("ttl-long", "advice")
def ttl_long(context: Context) -> Iterator[Found]:
    """A drill expects that all has settled sooner than a name's old answers are let go."""
    for number, drill in enumerate(context.plan.drills):
        for position, wanted in enumerate(drill.expect):
            if wanted.reading != "settled_s" or wanted.at_most is None:
                continue
            for name in context.plan.names:
                if name.probe and len(name.answers) > 1 and name.ttl_s > wanted.at_most:
                    yield Found(
                        place("drills", number, "expect", position), name.name,
                        f"drill {drill.name} expects to settle within {wanted.at_most:g} s, and answers of "
                        f"{name.name} are "
                        f"held for {name.ttl_s:g} s once one is withdrawn",
                        "shorten the TTL, or expect less",
                    )  # fmt: skip


@finding("nothing-rehearsed", "advice")
def nothing_rehearsed(context: Context) -> Iterator[Found]:
    """The plan has no drill, or none that expects anything: nobody would notice when it gets worse."""
    if not context.plan.drills:
        yield Found(
            place("drills"), context.plan.name, "the plan has no drill: what a loss comes to is not rehearsed",
            "add the loss of a zone",
        )  # fmt: skip
    elif not any(drill.expect for drill in context.plan.drills):
        yield Found(
            place("drills"), context.plan.name, "no drill expects anything: nobody notices when the plan gets worse",
            "expect a share of failed requests at most",
        )  # fmt: skip


@finding("accepted-nothing", "advice")
def accepted_nothing(context: Context) -> Iterator[Found]:
    """A finding is left as it is by a code that no rule has."""
    for index, one in enumerate(context.plan.accepted):
        if one.code not in RULES:
            yield Found(
                place("accepted", index, "code"), one.about,
                f"no rule has the code {one.code!r}{did_you_mean(one.code, RULES)}",
                "remove the entry", ({"op": "remove", "path": place("accepted", index)},),
            )  # fmt: skip


@finding("tag-carried-by-nobody", "stops")
def tag_carried_by_nobody(context: Context) -> Iterator[Found]:
    """A target stands for all machines that carry a tag, and none does: it stands for nobody."""
    known = sorted({tag for machine in context.plan.machines for tag in machine.tags})
    known += [tag for fleet in context.plan.fleets for tag in fleet.instance.tags if tag not in known]
    for index, group in enumerate(context.plan.target_groups):
        for number, target in enumerate(group.targets):
            if target.tagged and target.tagged not in known:
                where, meant = place("target_groups", index, "targets", number, "tagged"), nearest(target.tagged, known)
                yield Found(
                    where, group.name,
                    f"{group.name} has all machines tagged {target.tagged!r} for targets, and none is"
                    f"{did_you_mean(target.tagged, known)}",
                    f"take those tagged {meant}" if meant else "tag the machines",
                    ({"op": "replace", "path": where, "value": meant},) if meant else (),
                )  # fmt: skip
