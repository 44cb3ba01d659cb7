"""How many an autoscaled fleet must keep for a surge."""

from collections.abc import Iterator

from northgate.engine.drill import run_drill
from northgate.engine.network import compile_network
from northgate.plan import Plan
from northgate.plan.models.drills import Drill, Step, Surge
from northgate.sizing.answers import Asked, MinimumSize
from northgate.sizing.fleets import count_patch, counting
from northgate.sizing.search import smallest, with_plenty

# A surge is absorbed when no more than this fails for want of capacity, beyond what fails with plenty (requests).
MISSED = 0.5


def size_of_minimum(plan: Plan, asked: Asked) -> Iterator[MinimumSize]:
    """The smallest minimum of an autoscaled fleet that absorbs a surge."""
    index = [fleet.name for fleet in plan.fleets].index(asked.name)
    fleet = plan.fleets[index]
    now = fleet.scale.min if fleet.scale else fleet.count

    def failed(count: int) -> float:
        return _failed_in_surge(counting(plan, index, count), asked.bound)

    least = with_plenty(failed, max(fleet.count, now))
    needed = smallest(lambda count: failed(count) <= least + MISSED, max(now, 1))
    patch = count_patch(plan, index, needed) if needed not in (None, now) else []
    yield MinimumSize(
        fleet=fleet.name, now=now, needed=needed, failed_now=failed(now), failed=failed(needed or now), patch=patch
    )


def _failed_in_surge(plan: Plan, factor: float) -> float:
    """The requests that fail for want of capacity while all clients ask so many times as much, for a quarter of an
    hour."""
    steps = [Step(at_s=60, surge=Surge(clients=client.name, factor=factor)) for client in plan.clients]
    causes = run_drill(compile_network(plan), Drill(name="surge", lasts_s=960, steps=steps)).readings.failed_by_cause
    return causes["overloaded"] + causes["timed_out"] + causes["none_healthy"]
