"""From one plan to another: steps in an order in which nothing fails, and what fails in others."""

import itertools
import json

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from northgate.change import rehearse, steps_between
from northgate.change.assumed import begun
from northgate.change.order import read_order
from northgate.change.rehearsal import rehearse_drill
from northgate.engine.base import CannotRun
from northgate.engine.network import check_runnable, obstacles
from northgate.plan import PlanError, plan_from_data, read_plan
from northgate.plan.editing import patched, removal, renaming, whole_data
from northgate.plan.references import definitions
from tests.cli.test_cli import northgate, write
from tests.engine.network.test_names import two_regions
from tests.plan.test_reading import EXAMPLE
from tests.review.plans import but, whole
from tests.simulation.random_plans import random_plan
from tests.support.exploring import examples
from tests.support.plans import changed, plan_data

RPS = 600


def moved():
    """The tiles move to a new group with a probe of its own."""
    data = plan_data()
    data["probes"].append({**data["probes"][0], "name": "deep", "path": "/"})
    data["target_groups"] = [{**data["target_groups"][0], "name": "tiles-deep", "probe": "deep"}]
    data["pools"] = [{"name": "web", "tiers": [{"groups": {"tiles-deep": 1}}]}]
    return data


def between(before, after, **more):
    return rehearse(plan_from_data(before), plan_from_data(after), **more)


def by_name(plan):
    """A plan's data, whatever the order of its lists."""
    return {
        key: sorted(value, key=lambda one: one["name"])
        if value and isinstance(value, list) and isinstance(value[0], dict) and "name" in value[0]
        else value
        for key, value in whole_data(plan).items()
    }


def test_what_is_new_is_proven_before_anything_is_sent_there():
    answer = between(plan_data(), moved())
    assert [one.words for one in answer.steps] == [
        "build probe deep", "build target group tiles-deep",
        "bring tiles-deep into pool web with weight 0, to be proven", "change pool web: tiers",
        "take tiles out of pool web", "remove target group tiles",
    ]  # fmt: skip
    assert [one.needs for one in answer.steps] == [[], [0], [1], [1, 2], [1, 2, 3], [2, 3, 4]]
    assert answer.readings["failed"] == pytest.approx(0, abs=1e-6) == answer.worst.failed_rps
    # Two passes, the second of which is sent at most two intervals later.
    waits = [one.waits_s for one in answer.steps]
    assert 10 <= waits[2] <= 21
    assert waits == [0, 0, waits[2], 0, 0, 0]
    assert [one.at_s for one in answer.steps] == [0, 0, 0, waits[2], waits[2], waits[2]]


def test_all_at_once_nobody_is_healthy_until_proven():
    answer = between(plan_data(), moved())
    assert 10 * RPS <= answer.at_once["failed"] <= 20.1 * RPS
    assert answer.at_once["lasts_s"] == pytest.approx(answer.at_once["failed"] / RPS, abs=1)


def test_the_way_back_is_told_from_every_step():
    """As long as the old group is in the pool, it stays proven; who is taken out and comes back has to be proven."""
    answer = between(plan_data(), moved())
    assert [one.from_step for one in answer.rollback] == list(range(6))
    assert [one.failed for one in answer.rollback] == pytest.approx([0] * 6, abs=1e-6)
    lasts = [one.lasts_s for one in answer.rollback]
    assert lasts[:4] == [0] * 4
    assert 10 <= lasts[4] <= 21


def test_old_answers_fade_before_the_old_place_is_closed():
    before, after = two_regions(ttl_s=60), two_regions(ttl_s=60)
    after["names"][0]["answers"] = [{"balancer": "shore-front"}]
    after["balancers"] = [one for one in after["balancers"] if one["name"] != "front"]
    answer = between(before, after)
    name, removal = answer.steps[-2:]
    assert (name.words, name.waits_s) == ("change name www.beckwater.example: answers", 60)
    assert removal.words == "remove balancer front"
    assert removal.needs == [len(answer.steps) - 2]
    assert removal.at_s == name.at_s + 60
    assert answer.readings["failed"] == pytest.approx(0, abs=1e-6)


@pytest.mark.parametrize("over_s", [1.0, 11.0])
def test_the_worst_moment_may_be_just_before_something_happens(over_s):
    """Clients come over evenly to a region that is down, over the TTL of the name, until nearly all of them leave."""
    left_s, ttl_s, stay = 41.0, 60, 0.01
    data = two_regions(ttl_s=ttl_s)
    data["names"][0]["answers"] = [{"balancer": "front"}]
    over = {"name": data["names"][0]["name"], "answers": [{"balancer": "shore-front"}]}
    surges = [{"at_s": left_s, "surge": {"clients": one["name"], "factor": stay}} for one in data["clients"]]
    steps = [{"at_s": 0, "fail": {"zone": "coast-1"}}, {"at_s": over_s, "change_answers": over}, *surges]
    data["drills"] = [{"name": "over", "lasts_s": 300, "steps": steps}]
    plan = plan_from_data(data)
    marks = [(over_s, "come over"), (left_s, "leave")]
    answer = rehearse_drill(plan, plan.drills[0], marks, plan.drills[0]).answer
    rps = sum(client.rps for client in plan.clients)
    assert answer.worst.failed_rps == pytest.approx(rps * (left_s - over_s) / ttl_s, rel=1e-6)
    assert answer.worst.at_s == left_s - 1
    # The lines hold all that is asked, and all that fails.
    series, lasts_s = answer.series, answer.readings["lasts_s"]
    width = [end - start for start, end in itertools.pairwise([*series.t_s, lasts_s])]

    def area(now, then):
        return sum((one + other) / 2 * seconds for one, other, seconds in zip(now, then, width, strict=True))

    failed = area(series.failed_rps, series.failed_before_rps)
    assert failed == pytest.approx(answer.readings["failed"], rel=1e-6)
    asked = failed + area(series.served_rps, series.served_before_rps)
    assert asked == pytest.approx(rps * (left_s - 1) + rps * stay * (lasts_s - left_s + 1), rel=1e-6)
    assert asked == pytest.approx(answer.readings["requests"], rel=1e-9)


def test_a_target_is_registered_proven_and_the_old_one_taken_out():
    machine = {**plan_data()["fleets"][0]["instance"], "zone": "fells-1"}
    before = plan_data(fleets=[], instances=[{**machine, "name": f"maps-{n}"} for n in (1, 2, 3)])
    before, after = (
        changed(before, "/target_groups/0/targets", [{"instance": f"maps-{n}"} for n in some])
        for some in ((1, 2), (2, 3))
    )
    answer = between(before, after)
    assert [one.words for one in answer.steps] == ["register maps-3 in tiles", "take maps-1 out of tiles"]
    assert answer.steps[0].waits_s > 0
    assert answer.readings["failed"] == pytest.approx(0, abs=1e-6)
    assert answer.readings["peak_utilisation"] == pytest.approx(0.3)


def test_what_can_only_be_replaced_is_built_beside_the_old():
    data = but(("/platform", {"replace_only": ["balancer.layer", "target_group.port"]}))
    after = changed(data, "/target_groups/0/port", 8090)
    after["fleets"][0]["instance"]["serves"].append(
        {"port": 8090, "protocol": "http", "pages": {"/": 200, "/ready": 200}}
    )
    after["fleets"][1]["instance"]["serves"].append(
        {"port": 8090, "protocol": "http", "pages": {"/": 200, "/ready": 200}}
    )
    words = [one.words for one in steps_between(plan_from_data(data), plan_from_data(after))]
    name = data["target_groups"][0]["name"]
    brought = words.index(f"bring the new {name} into pool web with weight 0, to be proven")
    assert (
        words.index(f"build target group {name} anew, beside the old")
        < brought
        < words.index(f"lead pool web to the new target group {name}")
    )
    assert f"remove the old target group {name}, and give its name to the new" in words


CHANGES = [
    [("/probes/0/interval_s", 5)],
    [("/names/0/ttl_s", 30), ("/names/0/answers", [{"balancer": "coast-front"}])],
    [("/fleets/0/count", 2), ("/target_groups/0/balance", "least-connections")],
    [("/balancers/0/listeners/1/port", 8000), ("/balancers/0/address_kind", "floating")],
    [("/pools/0/tiers/0/min_healthy", {"count": 2}), ("/firewalls/0/allow_in", [])],
    [("/platform", {"replace_only": ["balancer.exposure"]}), ("/balancers/1/exposure", "internal")],
]  # fmt: skip


def goes_all_the_way(before, after):
    """The steps between two plans; after each the plan can be run, and after all it is the later one."""
    plan, steps = begun(before, after), steps_between(before, after)
    check_runnable(plan)
    for step in steps:
        plan = step.apply(plan)
        check_runnable(plan)
    assert by_name(plan) == by_name(after.model_copy(update={"name": plan.name, "drills": []}))
    assert all(needed < at for at, step in enumerate(steps) for needed in step.needs)
    # Taken as late as their needs let them be, steps can be taken, too.
    plan, left = begun(before, after), list(range(len(steps)))
    while left:
        at = max(one for one in left if not set(steps[one].needs) & set(left))
        left.remove(at)
        plan = steps[at].apply(plan)
        check_runnable(plan)
    return [step.words for step in steps]


@pytest.mark.parametrize("changes", CHANGES)
def test_all_steps_together_are_the_change(changes):
    assert goes_all_the_way(plan_from_data(whole()), plan_from_data(but(*changes)))


DEMO = read_plan(EXAMPLE)
KINDS = ["region", "zone", "area", "network", "subnet", "firewall", "probe", "instance", "fleet", "target_group",
         "pool", "certificate", "balancer", "client"]  # fmt: skip


@pytest.mark.parametrize("kind", KINDS)
def test_any_object_comes_goes_and_is_called_otherwise(kind):
    """The last of its kind in the demo, with what refers to it."""
    name = next(name for known, name, _ in reversed(list(definitions(DEMO))) if known == kind)
    without = patched(DEMO, removal(DEMO, kind, name))
    renamed = patched(DEMO, renaming(DEMO, kind, name, f"{name}-x"))
    for one, other in itertools.permutations((DEMO, without, renamed), 2):
        goes_all_the_way(one, other)


def test_what_is_only_called_otherwise_is_no_step():
    """A region and a network with all that is in them, a subnet, an area: each, and all at once."""
    plan = DEMO
    for kind, name in (("region", "fells"), ("network", "coast-net"), ("subnet", "fells-edge"), ("area", "uplands")):
        edit = renaming(plan, kind, name, f"{name}-x")
        plan = patched(plan, edit)
        assert goes_all_the_way(DEMO, patched(DEMO, edit)) == []
    assert goes_all_the_way(DEMO, plan) == []


def test_what_is_called_otherwise_is_known_beside_what_is_removed():
    """Of two regions the first goes, and the second is called otherwise."""
    plan = patched(DEMO, removal(DEMO, "region", "fells"))
    other = patched(plan, renaming(plan, "region", "coast", "shore"))
    assert goes_all_the_way(DEMO, other) == goes_all_the_way(DEMO, plan)


def test_everything_is_built_from_nothing_and_removed():
    """Networks peer, firewalls let balancers in, and targets pass on to balancers that are built after them."""
    nothing = plan_from_data({"northgate": 1, "name": "nothing"})
    built = goes_all_the_way(nothing, DEMO)
    assert built.index("build firewall app") < built.index("build balancer coast-front")
    assert built.index("build balancer coast-front") < built.index("allow 3 more in firewall app")
    assert built.index("build network coast-net") < built.index("change network fells-net: peers")
    goes_all_the_way(DEMO, nothing)


@settings(max_examples=examples(10), deadline=None)
@given(st.integers(0, 400), st.lists(st.integers(0, 10**6), min_size=1, max_size=8))
def test_steps_between_any_plans_that_can_be_run_can_all_be_taken(seed, picks):
    whole_plan = less = plan_from_data(random_plan(seed))
    for pick in picks:
        objects = [(kind, name) for kind, name, _ in definitions(less) if kind not in ("drill", "name")]
        left = patched(less, removal(less, *objects[pick % len(objects)])) if objects else less
        less = left if not obstacles(left) else less
    goes_all_the_way(whole_plan, less)
    goes_all_the_way(less, whole_plan)


def test_who_calls_a_name_that_is_built_calls_it_from_then_on():
    """Of 600 calls a second a third go to a new name; a group of clients calls nothing else."""
    before, after = plan_data(), plan_data()
    name, client = after["names"][0], after["clients"][0]
    url = client["calls"][0]["url"]
    new = url.replace(name["name"], "new.beckwater.example")
    after["names"].append({**name, "name": "new.beckwater.example"})
    after["clients"] = [
        client | {"calls": [{"url": url, "share": 2}, {"url": new}]},
        client | {"name": "others", "rps": 30, "calls": [{"url": new}]},
    ]
    old, later = plan_from_data(before), plan_from_data(after)
    assert [(one.name, one.rps) for one in begun(old, later).clients] == [(client["name"], 400)]
    assert goes_all_the_way(old, later) == ["build name new.beckwater.example"]
    assert goes_all_the_way(later, old) == ["remove name new.beckwater.example"]


def test_a_region_is_added_and_nobody_notices():
    """All of it is built and proven before the name leads there; on the way back it leads there no more before all
    goes."""
    after = plan_from_data(whole())
    before = patched(after, removal(after, "region", "coast"))
    there, back = rehearse(before, after), rehearse(after, before)
    words, first = [one.words for one in there.steps], f"change name {after.names[0].name}: answers"
    assert words.index("use region coast") < words.index("build network coast-net") < words.index(first)
    assert words.index("register tiles-c in tiles") < words.index(first)
    assert there.readings["failed"] == pytest.approx(0, abs=1e-6) == back.readings["failed"]
    words = [one.words for one in back.steps]
    assert words.index(first) < words.index("take tiles-c out of tiles") < words.index("remove fleet tiles-c")
    assert words[-1] == "remove region coast"


@pytest.mark.parametrize("kind", ["shared", "per-zone", "floating"])
def test_a_zone_more_of_a_balancer_joins_its_address_when_it_has_proven_a_target(kind):
    """Two passes are known after 10 to 20 s; it joins 5 s later, and where each front has an address, all know it after
    the TTL of 60 s. All at once it does the same."""
    after = changed(plan_data(), "/balancers/0/address_kind", kind)
    zones = dict(list(after["balancers"][0]["zones"].items())[:2])
    answer = between(changed(after, "/balancers/0/zones", zones), after)
    (step,) = answer.steps
    assert (step.words, step.failed) == ("change balancer front: zones", pytest.approx(0, abs=1e-6))
    later_s = {"shared": 5, "per-zone": 65, "floating": 0}[kind]
    assert 10 + later_s <= step.waits_s <= 20 + later_s
    assert answer.at_once["failed"] == pytest.approx(0, abs=1e-6)


def test_what_fails_all_the_time_fails_in_a_step_for_as_long_as_it_is_waited():
    """One call in four asks a name without answers; the first step takes no time."""
    data = plan_data()
    client = data["clients"][0]
    gone = client["calls"][0]["url"].replace(data["names"][0]["name"], "gone.beckwater.example")
    data["names"].append({"name": "gone.beckwater.example"})
    data["clients"] = [client | {"calls": [{**client["calls"][0], "share": 3}, {"url": gone}]}]
    answer = between(data, moved() | {"names": data["names"], "clients": data["clients"]})
    waits = [one.waits_s for one in answer.steps]
    assert waits[0] == 0 < max(waits)
    assert [one.failed for one in answer.steps] == pytest.approx([RPS / 4 * seconds for seconds in waits])
    assert answer.worst.failed_rps == pytest.approx(RPS / 4)


def test_steps_in_another_order_fail_or_are_refused():
    before, after = plan_data(), moved()
    with pytest.raises(CannotRun, match=r"step 1, build target group tiles-deep, needs step 0 before it"):
        between(before, after, order=[(n, None) for n in (1, 0, 2, 3, 4, 5)])
    with pytest.raises(CannotRun, match="leaves out step 5"):
        between(before, after, order=[(n, None) for n in (0, 1, 2, 3, 4)])
    with pytest.raises(CannotRun, match="no other step 9"):
        between(before, after, order=[(n, None) for n in (0, 1, 2, 3, 4, 5, 9)])


def test_a_step_that_comes_too_early_is_told():
    order = [(0, 0.0), (1, 0.0), (2, 10.0), (3, 12.0), (4, 100.0), (5, 100.0)]
    answer = between(plan_data(), moved(), order=order)
    assert [one.at_s for one in answer.steps] == [0, 0, 10, 12, 100, 100]
    (warning,) = answer.warnings
    early = f"{answer.steps[3].words!r} at 12 s begins before the step before it has settled, at "
    assert warning.startswith(early)


def test_a_drill_of_the_later_plan_may_speak_of_what_is_new():
    after = moved() | {"drills": [{"name": "d", "steps": [{"at_s": 1, "roll": {"group": "tiles-deep"}}]}]}
    assert len(between(plan_data(), after).steps) == 6


def test_nothing_is_to_be_done_between_a_plan_and_itself():
    answer = between(plan_data(), plan_data())
    assert (answer.steps, answer.readings["failed"]) == ([], 0)


def test_the_command_has_the_contracted_keys(tmp_path):
    a, b = write(tmp_path, plan_data()), tmp_path / "b.plan.json"
    b.write_text(json.dumps(moved()))
    assert northgate("change", a, b, "--json", "--at", "inf").returncode == 2
    document = json.loads(northgate("change", a, b, "--json", "--at", "100").stdout)
    assert {"steps", "readings", "worst", "rollback"} <= set(document)
    assert {"at_s", "words", "needs"} <= set(document["steps"][0])
    assert {"at_s", "failed_rps"} == set(document["worst"])
    assert {"from_step", "failed", "lasts_s"} == set(document["rollback"][0])
    assert document["steps"][0]["at_s"] == 100
    order = tmp_path / "order.yaml"
    order.write_text("[0, 1, {step: 2, at_s: 50}, 3, 4, 5]")
    said = northgate("change", a, b, "--order", order).stdout
    assert "at 50 s: bring tiles-deep into pool web with weight 0, to be proven, after 1" in said


@pytest.mark.parametrize("text", ["{a: 1}", "[one]", "[", "[-1]", "[{step: 1, at: 2}]"])
def test_what_is_no_order_is_refused_with_its_file(tmp_path, text):
    path = tmp_path / "order.yaml"
    path.write_text(text)
    with pytest.raises(PlanError, match=r"order\.yaml"):
        read_order(path)
