"""What a plan still lacks before traffic can be looked at, in the order in which one builds it."""

from collections.abc import Callable, Iterator

from msgspec import Struct

from northgate.plan.models.document import Plan
from northgate.plan.problems import pointer


class NextStep(Struct, frozen=True):
    """One thing that is missing, and why it matters: an object to add (`add`: its kind), or a place to fill (`where`: a
    JSON Pointer)."""

    words: str
    add: str | None = None
    where: str | None = None


def next_steps(plan: Plan) -> list[NextStep]:
    """Everything that is missing, the next thing to do first; nothing when the plan is whole."""
    return [step for missing in _IN_ORDER for step in missing(plan)]


def _places(plan: Plan) -> Iterator[NextStep]:
    if not plan.regions:
        yield NextStep("no region yet: there is nowhere to stand", add="region")


def _machines(plan: Plan) -> Iterator[NextStep]:
    if not plan.instances and not plan.fleets:
        yield NextStep("no machines yet: nothing can answer", add="fleet")


def _probes(plan: Plan) -> Iterator[NextStep]:
    if not plan.probes:
        yield NextStep("no probe yet: nobody would notice a machine that is down", add="probe")


def _groups(plan: Plan) -> Iterator[NextStep]:
    if not plan.target_groups:
        yield NextStep("no target group yet: no machine is a target", add="target_group")
    for index, group in enumerate(plan.target_groups):
        if not group.targets:
            where = pointer(("target_groups", index, "targets"))
            yield NextStep(f"no targets registered in {group.name} yet: nothing can answer", where=where)


def _pools(plan: Plan) -> Iterator[NextStep]:
    if not plan.pools:
        yield NextStep("no pool yet: no listener can send to the targets", add="pool")


def _balancers(plan: Plan) -> Iterator[NextStep]:
    if not plan.balancers:
        yield NextStep("no balancer yet: nothing accepts requests", add="balancer")
    for index, balancer in enumerate(plan.balancers):
        if not balancer.listeners:
            where = pointer(("balancers", index, "listeners"))
            yield NextStep(f"no listener on {balancer.name} yet: it accepts nothing", where=where)


def _names(plan: Plan) -> Iterator[NextStep]:
    if not plan.names and not plan.clients:
        yield NextStep("no name yet: clients would have to know an address", add="name")
    for index, name in enumerate(plan.names):
        if not name.answers:
            where = pointer(("names", index, "answers"))
            yield NextStep(f"no answer for {name.name} yet: it leads nowhere", where=where)


def _clients(plan: Plan) -> Iterator[NextStep]:
    if not plan.clients:
        yield NextStep("no clients yet: nobody asks, so every rate is nought", add="client")


def _drills(plan: Plan) -> Iterator[NextStep]:
    if not plan.drills:
        yield NextStep("no drill yet: see what the loss of a zone does over time", add="drill")


_IN_ORDER: tuple[Callable[[Plan], Iterator[NextStep]], ...] = (
    _places, _machines, _probes, _groups, _pools, _balancers, _names, _clients, _drills,
)  # fmt: skip
