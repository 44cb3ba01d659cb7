"""What a plan costs, by the unit prices that it gives itself; a price that it does not give is said, never guessed."""

import math
from collections.abc import Iterator

import numpy as np

from northgate.engine.base import Floats, total_by
from northgate.engine.drill import undisturbed
from northgate.engine.network import compile_network
from northgate.engine.processes import profile_factor
from northgate.engine.reports import AnswerModel
from northgate.engine.solver import Flow
from northgate.plan import Plan
from northgate.plan.models.machines import Fleet

MONTH_HOURS, DAY_S = 730, 86_400.0
# Megabits a second for a month, in gigabytes (1e9 bytes).
GIGABYTES = 1e6 / 8 * MONTH_HOURS * 3600 / 1e9


class CostPart(AnswerModel):
    """What one part costs a month: the amount of what is priced, and the name of the price."""

    about: str
    kind: str
    month: float
    price: str
    amount: float
    idle: float


class CostAnswer(AnswerModel):
    """What a plan costs by the hour and the month (730 hours), and a month without any traffic; by part; and prices
    that it would need and does not give."""

    hour: float
    month: float
    idle_month: float
    parts: list[CostPart]
    missing: list[str]


def cost(plan: Plan, flow: Flow | None = None) -> CostAnswer:
    """The cost of a plan, from its flow while all is well where that is known; raises CannotRun."""
    parts = list(_parts(plan, flow or undisturbed(compile_network(plan))))
    prices = plan.platform.prices.model_dump()
    month = sum(part.month for part in parts)
    return CostAnswer(
        hour=month / MONTH_HOURS, month=month, idle_month=sum(part.idle for part in parts),
        parts=sorted(parts, key=lambda part: -part.month),
        missing=sorted({part.price for part in parts if part.amount > 0 and not prices[part.price]}),
    )  # fmt: skip


def _parts(plan: Plan, flow: Flow) -> Iterator[CostPart]:
    prices = plan.platform.prices

    def part(about: str, kind: str, price: str, amount: float, idle: float | None = None) -> CostPart:
        unit = float(getattr(prices, price))
        least = amount if idle is None else idle
        return CostPart(about=about, kind=kind, month=unit * amount, price=price, amount=amount, idle=unit * least)

    out, across = _gigabytes(flow)
    for index, balancer in enumerate(plan.balancers):
        yield part(balancer.name, "balancer", "balancer_hour", MONTH_HOURS)
        yield part(balancer.name, "front", "front_hour", MONTH_HOURS * len(balancer.zones))
        yield part(balancer.name, "traffic", "gigabyte", float(out[index]), 0.0)
        yield part(balancer.name, "traffic across zones", "cross_zone_gigabyte", float(across[index]), 0.0)
    # An instance's own public address stands after the balancers.
    for index, own in enumerate(flow.network.plan.balancers[len(plan.balancers) :], len(plan.balancers)):
        yield part(own.name, "traffic", "gigabyte", float(out[index]), 0.0)
    for instance in plan.instances:
        yield part(instance.name, "instance", "instance_hour", MONTH_HOURS)
    for fleet in plan.fleets:
        least = fleet.scale.min if fleet.scale else fleet.count
        yield part(
            fleet.name, "fleet", "instance_hour", MONTH_HOURS * _mean_count(plan, fleet, flow), MONTH_HOURS * least
        )
    for name in plan.names:
        yield part(name.name, "name", "name_month", 1.0)


def _mean_count(plan: Plan, fleet: Fleet, flow: Flow) -> float:
    """How many instances a fleet has on the mean of a day: as an autoscaler wants them, at the rates of the clients'
    profiles."""
    scale = fleet.scale
    if scale is None:
        return float(fleet.count)
    mine = set(fleet.instance_names())
    used = [flow.queue.utilisation[at] for at, name in enumerate(flow.network.machines.names) if name in mine]
    busy = float(np.sum(used))
    asked = sum(client.rps for client in plan.clients)
    starts = sorted({0.0, *(step[0] for client in plan.clients for step in client.profile if step[0] < DAY_S)})
    total = 0.0
    for start, end in zip(starts, [*starts[1:], DAY_S], strict=True):
        now = sum(client.rps * profile_factor(client.profile, start) for client in plan.clients)
        wanted = math.ceil(busy * (now / asked if asked else 0.0) / scale.target_utilisation - 1e-9)
        total += min(max(wanted, scale.min), scale.max) * (end - start)
    return total / DAY_S


def _gigabytes(flow: Flow) -> tuple[Floats, Floats]:
    """Per balancer what its answers come to a month, and what of that crosses zones between fronts and targets (GB)."""
    network, balancers = flow.network, len(flow.network.plan.balancers)
    entries, pools = network.entries, len(network.plan.pools)
    served = flow.places.entry_served
    megabits = served * network.calls.megabits[entries.call]
    known = entries.balancer >= 0
    out = total_by(entries.balancer[known], megabits[known], balancers)
    # What is sent to a pool through a balancer is of one mixture, wherever in that pool it goes.
    pooled = known & (entries.pool >= 0)
    at = entries.balancer[pooled] * max(pools, 1) + entries.pool[pooled]
    size = balancers * max(pools, 1)
    bits, calls = total_by(at, megabits[pooled], size), total_by(at, served[pooled], size)
    mean = np.divide(bits, calls, out=np.zeros(size), where=calls > 0)
    weighted = network.weighted
    front, pool = network.routes.front[weighted.route], network.routes.pool[weighted.route]
    each = mean[network.fronts.balancer[front] * max(pools, 1) + pool]
    cells = len(network.cells.front)
    of_cell = total_by(weighted.cell, flow.places.weighted_served * each, cells)
    rate = total_by(weighted.cell, flow.places.weighted_served, cells)
    per_call = np.divide(of_cell, rate, out=np.zeros(cells), where=rate > 0)[network.pairs.cell]
    crossing = np.where(network.pairs.same_zone, 0.0, flow.pair_served * per_call)
    across = total_by(network.fronts.balancer[network.pairs.front], crossing, balancers)
    return out * GIGABYTES, across * GIGABYTES
