"""How long the intervals of probes and the TTLs of names may be."""

from collections.abc import Callable, Iterator
from functools import cache
from math import isclose

from msgspec import Struct

from northgate.engine.drill import Losing
from northgate.engine.network import compile_network
from northgate.engine.reports.losses import part_data
from northgate.plan import Plan
from northgate.plan.editing import patched
from northgate.plan.models.faults import Part
from northgate.plan.problems import pointer
from northgate.sizing.answers import Asked, Patch, ProbeSize, Survive, TtlSize
from northgate.sizing.parts import lost_parts
from northgate.sizing.search import FINE_S, LONGEST_S, longest


class _Times(Struct, frozen=True):
    """Times of which the longest is sought: the shortest that there is, how long it is now (s), and the edit that makes
    it so long."""

    shortest_s: float
    now_s: float
    made: Callable[[float], Patch]


def size_of_probe(plan: Plan, asked: Asked) -> Iterator[ProbeSize]:
    """How long the interval of a probe may be."""
    index = [probe.name for probe in plan.probes].index(asked.name)
    probe, where = plan.probes[index], pointer(("probes", index))

    def after(fails: int) -> _Times:
        return _Times(probe.timeout_s, probe.interval_s, lambda interval_s: [
            {"op": "replace", "path": f"{where}/interval_s", "value": interval_s},
            {"op": "replace", "path": f"{where}/unhealthy_after", "value": fails},
        ])  # fmt: skip

    # As many fails as now, if that can be enough; fewer else.
    found_s, decides, fails = None, False, probe.unhealthy_after + 1
    while found_s is None and fails > 1:
        fails -= 1
        found_s, decides = _longest(plan, asked, after(fails))
    if found_s is not None and not decides:
        found_s, fails = probe.interval_s, probe.unhealthy_after
    kept = (found_s, fails) == (probe.interval_s, probe.unhealthy_after)
    patch = after(fails).made(probe.timeout_s if found_s is None else found_s)
    failed, part = _costliest(patched(plan, patch), asked.survive)
    yield ProbeSize(
        probe=probe.name, interval_s=found_s, unhealthy_after=fails, failed=failed, decides=decides,
        evidence=part_data(part) if part else None, patch=[] if kept or found_s is None else patch,
    )  # fmt: skip


def size_of_ttl(plan: Plan, asked: Asked) -> Iterator[TtlSize]:
    """How long the TTL of a name may be."""
    index = [name.name for name in plan.names].index(asked.name)
    name, where = plan.names[index], pointer(("names", index, "ttl_s"))
    times = _Times(0.0, name.ttl_s, lambda ttl_s: [{"op": "replace", "path": where, "value": ttl_s}])
    found_s, decides = _longest(plan, asked, times)
    if found_s is not None and not decides:
        found_s = name.ttl_s
    patch = times.made(found_s or 0.0)
    failed, part = _costliest(patched(plan, patch), asked.survive)
    yield TtlSize(
        name=name.name, ttl_s=found_s, failed=failed, decides=decides, evidence=part_data(part) if part else None,
        patch=[] if found_s in (None, name.ttl_s) else patch,
    )  # fmt: skip


def _longest(plan: Plan, asked: Asked, times: _Times) -> tuple[float | None, bool]:
    """The longest time with which no loss costs more than is allowed, and whether it decides what the costliest costs:
    whether that would be less with a shorter one, or more with a longer one."""

    @cache
    def cost(seconds: float) -> float:
        return _costliest(patched(plan, times.made(seconds)), asked.survive)[0]

    found_s = longest(cost, times.shortest_s, times.now_s, asked.bound)
    if found_s is None:
        return None, cost(times.shortest_s) < _costliest(plan, asked.survive)[0]
    return found_s, found_s + FINE_S <= LONGEST_S or not isclose(cost(found_s), cost(times.shortest_s))


def _costliest(plan: Plan, survive: Survive) -> tuple[float, Part | None]:
    """What the costliest loss of a kind costs within an hour, and which that is."""
    network = compile_network(plan)
    losing = Losing(network)
    costs = [(losing.lose([part]).failed_by(3600.0), part) for part in lost_parts(network, survive)]
    return max(costs, key=lambda one: one[0], default=(0.0, None))
