"""What rules look at: a plan with its objects by name, and, once it can be run, its traffic and its losses."""

import datetime
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cached_property

from msgspec import Struct

from northgate.engine.base import CannotRun
from northgate.engine.drill import undisturbed
from northgate.engine.network import Network, compile_network
from northgate.engine.reports.losses import LossRow
from northgate.engine.solver import Flow
from northgate.plan import Plan, PlanError, Problem
from northgate.plan.editing import Patch, patched
from northgate.plan.models.balancers import Action, Balancer, Listener
from northgate.plan.models.groups import Pool, TargetGroup
from northgate.plan.models.machines import Instance
from northgate.plan.problems import Location, pointer
from northgate.review.registry import Found


class Doing(Struct, frozen=True):
    """One action of a listener: of which balancer, listener and rule (None: `otherwise`), and where it stands."""

    balancer: Balancer
    listener: Listener
    rule: str | None
    action: Action
    location: Location

    @property
    def called(self) -> str:
        """What leads to it, in words."""
        what = f"rule {self.rule}" if self.rule else "`otherwise`"
        return f"{what} of listener {self.listener.name} of {self.balancer.name}"


class Context:
    """A plan under review on a day. `network` and `flow` are None while the plan cannot be run; `losses` are None where
    they have not been computed."""

    def __init__(
        self, plan: Plan, today: datetime.date, losses: Sequence[LossRow] | None = None,
        flow: Callable[[], Flow] | None = None,
    ) -> None:  # fmt: skip
        self.plan, self.today, self.losses, self._find_flow = plan, today, losses, flow

    @cached_property
    def flow(self) -> Flow | None:
        """The traffic without any fault."""
        try:
            return self._find_flow() if self._find_flow else undisturbed(compile_network(self.plan))
        except CannotRun:
            return None

    @cached_property
    def network(self) -> Network | None:
        """The compiled plan."""
        return self.flow.network if self.flow else None

    def flow_after(self, edit: Patch) -> Flow | None:
        """The traffic without any fault once an edit is made; None where the plan cannot be run then."""
        try:
            return undisturbed(compile_network(patched(self.plan, edit)))
        except (CannotRun, PlanError):
            return None

    # By name

    @cached_property
    def groups(self) -> dict[str, tuple[int, TargetGroup]]:
        """Target groups and their places."""
        return {group.name: (index, group) for index, group in enumerate(self.plan.target_groups)}

    @cached_property
    def pools(self) -> dict[str, tuple[int, Pool]]:
        """Pools and their places."""
        return {pool.name: (index, pool) for index, pool in enumerate(self.plan.pools)}

    @cached_property
    def balancers(self) -> dict[str, Balancer]:
        """Balancers by name."""
        return {balancer.name: balancer for balancer in self.plan.balancers}

    @cached_property
    def machines(self) -> dict[str, Instance]:
        """All instances, those of fleets too."""
        return {machine.name: machine for machine in self.plan.machines}

    # Who uses what

    @cached_property
    def doings(self) -> list[Doing]:
        """Every action of every listener."""
        return list(_doings(self.plan))

    @cached_property
    def used_pools(self) -> list[tuple[int, Pool]]:
        """Pools to which some listener sends."""
        wanted = {doing.action.pool for doing in self.doings}
        return [place for name, place in self.pools.items() if name in wanted]

    @cached_property
    def used_groups(self) -> list[tuple[int, TargetGroup]]:
        """Target groups to which some listener sends."""
        wanted = {name for _, pool in self.used_pools for tier in pool.tiers for name in tier.groups}
        return [place for name, place in self.groups.items() if name in wanted]

    @cached_property
    def led_groups(self) -> list[tuple[Doing, TargetGroup]]:
        """Every action that sends to a pool, with each group of that, whatever its choice."""
        return [
            (doing, group)
            for doing in self.doings
            if doing.action.pool in self.pools
            for number in range(len(self.pools[doing.action.pool][1].tiers))
            for group in self.groups_of(self.pools[doing.action.pool][1], number)
        ]

    @cached_property
    def led_balancers(self) -> set[str]:
        """Balancers to which names lead."""
        ends = [end for name in self.plan.names for end in (*name.answers, name.when_none_healthy) if end]
        return {end.balancer for end in ends if end.balancer}

    def targets(self, group: TargetGroup) -> list[Instance]:
        """The instances of a group, those of its fleets too."""
        fleets = {fleet.name: fleet for fleet in self.plan.fleets}
        found = []
        for target in group.targets:
            if target.instance in self.machines:
                found.append(self.machines[target.instance or ""])
            if target.tagged:
                found += [one for one in self.plan.machines if target.tagged in one.tags]
            if target.fleet in fleets:
                found += [self.machines[name] for name in fleets[target.fleet or ""].instance_names()]
        return found

    def groups_of(self, pool: Pool, tier: int) -> list[TargetGroup]:
        """The groups of one tier of a pool that the plan has."""
        return [self.groups[name][1] for name in pool.tiers[tier].groups if name in self.groups]

    # Findings

    def told(self, problems: Iterable[Problem], remedy: str) -> Iterator[Found]:
        """Problems, as findings about the objects in which they stand."""
        for problem in problems:
            yield Found(problem.where, self.about(problem.where), problem.message, remedy)

    def about(self, where: str) -> str:
        """The name of the object in which a place is; the plan's own where it is in none."""
        words = where.strip("/").split("/")
        some = getattr(self.plan, words[0], None) if words[0] else None
        if not isinstance(some, list) or len(words) < 2 or not words[1].isdigit():
            return words[0] or self.plan.name
        item = some[int(words[1])]
        return str(getattr(item, "name", words[0]))


def _doings(plan: Plan) -> Iterator[Doing]:
    for index, balancer in enumerate(plan.balancers):
        for position, listener in enumerate(balancer.listeners):
            at: Location = ("balancers", index, "listeners", position)
            for number, rule in enumerate(listener.rules):
                yield Doing(balancer, listener, rule.name, rule.do, (*at, "rules", number, "do"))
            yield Doing(balancer, listener, None, listener.otherwise, (*at, "otherwise"))


def per_cent(share: float, digits: int = 0) -> str:
    """A share in per cent."""
    return f"{100 * share:.{digits}f} %"


def place(*location: str | int) -> str:
    """The JSON Pointer of a place."""
    return pointer(location)


def replace_with(where: str, value: object) -> tuple[dict[str, object], ...]:
    """The edit that puts a value in a place, which need not be there yet."""
    return ({"op": "add", "path": where, "value": value},)
