"""Which settings would have helped a drill most: each tried by running the drill again with it changed."""

from collections.abc import Iterator
from typing import Any

import jsonpatch
from msgspec import Struct

from northgate.engine.base import CannotRun, Watch, go_on
from northgate.engine.drill import run_drill
from northgate.engine.network import compile_network
from northgate.engine.reports.model import AnswerModel
from northgate.plan import Plan, plan_from_data
from northgate.plan.problems import PlanError, pointer

MOST_LEVERS = 3
# A lever must save this share of what fails, or it is none.
WORTH = 0.01


class LeverAnswer(AnswerModel):
    """A setting that would have helped: in words, at what price, how many fewer requests would fail, and the edit."""

    words: str
    price: str
    fewer_failed: float
    failed: float
    patch: list[dict[str, Any]]


class Change(Struct, frozen=True):
    """One setting changed: in words, its price, and as a JSON Patch."""

    words: str
    price: str
    path: str
    value: Any


def levers(plan: Plan, drill: str, watch: Watch = go_on) -> list[LeverAnswer]:
    """The changes that save most, best first; raises CannotRun when the plan cannot be run as it is."""
    script = next(one for one in plan.drills if one.name == drill)
    failed = run_drill(compile_network(plan), script, watch).readings.failed
    if failed < 1:
        return []
    data = plan.model_dump(mode="json", by_alias=True)
    found = []
    for change in changes(plan):
        watch()
        patch = [{"op": "replace", "path": change.path, "value": change.value}]
        try:
            other = plan_from_data(jsonpatch.apply_patch(data, patch))
            left = run_drill(compile_network(other), script, watch).readings.failed
        except (CannotRun, PlanError):
            continue
        if failed - left > WORTH * failed:
            found.append(
                LeverAnswer(
                    words=change.words, price=change.price, fewer_failed=failed - left, failed=left, patch=patch
                )
            )
    return sorted(found, key=lambda one: -one.fewer_failed)[:MOST_LEVERS]


def changes(plan: Plan) -> Iterator[Change]:
    """Every setting that is worth a try: probes that ask more often or decide sooner, shorter tails, other choices."""
    used = {group.probe for group in plan.target_groups} | {name.probe for name in plan.names}
    for index, probe in enumerate(plan.probes):
        if probe.name not in used:
            continue
        at = pointer(("probes", index))
        half = probe.interval_s / 2
        if probe.next_after == "result" or half >= probe.timeout_s:
            words = f"probe {probe.name}: every {half:g} s instead of {probe.interval_s:g}"
            yield Change(words, "twice the probes", f"{at}/interval_s", half)
        if probe.unhealthy_after > 1:
            fewer = probe.unhealthy_after - 1
            words = f"probe {probe.name}: out after {fewer} instead of {probe.unhealthy_after} fails"
            yield Change(words, "sooner out by mistake", f"{at}/unhealthy_after", fewer)
        if probe.timeout_s > 1:
            words = f"probe {probe.name}: gives up after {probe.timeout_s / 2:g} s instead of {probe.timeout_s:g}"
            yield Change(words, "slow targets count as silent", f"{at}/timeout_s", probe.timeout_s / 2)
    for index, name in enumerate(plan.names):
        if name.ttl_s > 5:
            words = f"name {name.name}: TTL {name.ttl_s / 2:g} s instead of {name.ttl_s:g}"
            yield Change(words, "twice the queries", f"{pointer(('names', index))}/ttl_s", name.ttl_s / 2)
    yield from _of_groups_and_clients(plan)


def _of_groups_and_clients(plan: Plan) -> Iterator[Change]:
    for index, group in enumerate(plan.target_groups):
        at = pointer(("target_groups", index))
        if group.reach == "zone":
            words = f"group {group.name}: fronts use their region instead of their zone"
            yield Change(words, "traffic crosses zones", f"{at}/reach", "region")
        if group.when_none_healthy == "refuse":
            words = f"group {group.name}: sends anyway when nobody is in use"
            yield Change(words, "bad targets get requests", f"{at}/when_none_healthy", "send-anyway")
    for index, balancer in enumerate(plan.balancers):
        if balancer.front_failover_s > 1:
            half = balancer.front_failover_s / 2
            now_s = balancer.front_failover_s
            words = f"balancer {balancer.name}: a dead front leaves after {half:g} s instead of {now_s:g}"
            yield Change(words, "the platform must do it", f"{pointer(('balancers', index))}/front_failover_s", half)
    for index, client in enumerate(plan.clients):
        if client.retries == 0:
            words = f"clients {client.name}: repeat a failed call once"
            yield Change(words, "more load while it fails", f"{pointer(('clients', index))}/retries", 1)
