"""An edit made again, of a newer plan: what it meant is found by name, and nobody's change is lost."""

import pytest
from hypothesis import given

from northgate.plan import PlanError, plan_from_data
from northgate.plan.editing import patched, renaming
from northgate.plan.merging import merged
from tests.support.plans import plan_data
from tests.support.strategies import plans_with_a_drill

PROBES = [{"name": name} for name in ("ready", "slow", "quick")]


def plan(**more):
    return plan_from_data(plan_data(probes=PROBES, **more))


def replacing(path, value):
    return {"op": "replace", "path": path, "value": value}


def again(mine, theirs, before=None):
    """What an edit makes of a plan that somebody else has edited."""
    before = before or plan()
    return merged(before, patched(before, mine), patched(before, theirs))


def names(items):
    return [one.name for one in items]


def test_what_an_edit_meant_is_found_by_name():
    first = {"op": "add", "path": "/probes/0", "value": {"name": "first"}}
    found = again([replacing("/probes/1/interval_s", 30)], [first])
    assert [(one.name, one.interval_s) for one in found.probes] == [
        ("first", 10), ("ready", 10), ("slow", 30), ("quick", 10),
    ]  # fmt: skip


def test_both_changes_of_one_thing_stay():
    found = again([replacing("/probes/0/interval_s", 30)], [replacing("/probes/0/timeout_s", 2)])
    assert (found.probes[0].interval_s, found.probes[0].timeout_s) == (30, 2)
    found = again([replacing("/probes/0/interval_s", 30)], [replacing("/probes/0/interval_s", 20)])
    assert found.probes[0].interval_s == 30, "the one that is made last counts"


def renamed(kind, was, name):
    return renaming(plan(), kind, was, name)


def test_what_is_renamed_keeps_what_the_other_does_to_it():
    """Whoever renames it, and whoever comes last: its other fields, and all who speak of it."""
    name = renamed("target_group", "tiles", "maps")
    weight = [replacing("/target_groups/0/slow_start_s", 30)]
    added = [{"op": "add", "path": "/pools/-", "value": {"name": "more", "tiers": [{"groups": {"tiles": 1}}]}}]
    for found in (again(name, [*weight, *added]), again([*weight, *added], name)):
        assert [(one.name, one.slow_start_s) for one in found.target_groups] == [("maps", 30)]
        assert [list(one.tiers[0].groups) for one in found.pools] == [["maps"], ["maps"]]
    fleet = again([replacing("/fleets/0/count", 9)], renamed("fleet", "tiles", "maps"))
    assert [(one.name, one.count) for one in fleet.fleets] == [("maps", 9)]
    assert fleet.target_groups[0].targets[0].fleet == "maps"


def test_of_two_names_the_one_given_last_counts():
    found = again(renamed("probe", "ready", "lazy"), renamed("probe", "ready", "idle"))
    assert names(found.probes) == ["lazy", "slow", "quick"]
    assert found.target_groups[0].probe == "lazy"
    # What stays of two that one makes alike is no plan.
    with pytest.raises(PlanError, match="another probe has the name 'lazy'"):
        again(renamed("probe", "slow", "lazy"), [{"op": "add", "path": "/probes/-", "value": {"name": "lazy"}}])


def test_what_is_gone_is_said():
    with pytest.raises(PlanError, match="/probes/slow: the plan no longer has probes slow, which this changes"):
        again([replacing("/probes/1/interval_s", 30)], [{"op": "remove", "path": "/probes/1"}])


def test_what_is_taken_away_goes_by_name():
    remove = [{"op": "remove", "path": "/probes/2"}]
    assert names(again(remove, [{"op": "move", "from": "/probes/2", "path": "/probes/0"}]).probes) == ["ready", "slow"]
    assert names(again(remove, [replacing("/probes/2/interval_s", 30)]).probes) == ["ready", "slow"]
    assert names(again(remove, remove).probes) == ["ready", "slow"]


def test_what_is_added_stands_where_it_stood():
    one, other = ({"op": "add", "path": "/probes/1", "value": {"name": name}} for name in ("mine", "theirs"))
    assert names(again([one], [other]).probes) == ["ready", "mine", "theirs", "slow", "quick"]
    move = [{"op": "move", "from": "/probes/2", "path": "/probes/0"}]
    assert names(again(move, [other]).probes) == ["quick", "ready", "theirs", "slow"]


def targets(*some):
    return replacing("/target_groups/0/targets", [{"instance": name, "weight": weight} for name, weight in some])


def test_who_is_registered_by_one_stays_with_what_another_does_to_targets():
    """One adds a target, another gives a second one more weight, a third takes one out."""
    before = patched(plan(), [targets(("a", 1), ("b", 1))])

    def left(mine, theirs):
        group = again([targets(*mine)], [targets(*theirs)], before).target_groups[0]
        return [(one.instance, one.weight) for one in group.targets]

    assert left([("a", 1), ("b", 1), ("c", 1)], [("a", 1), ("b", 5)]) == [("a", 1), ("b", 5), ("c", 1)]
    assert left([("a", 1), ("b", 1), ("c", 1)], [("b", 1)]) == [("b", 1), ("c", 1)]
    assert left([("b", 1), ("a", 1)], [("a", 1), ("b", 1), ("c", 1)]) == [("b", 1), ("c", 1), ("a", 1)]
    assert left([("a", 1), ("b", 3)], [("a", 1), ("b", 5)]) == [("a", 1), ("b", 3)]
    with pytest.raises(PlanError, match="the plan no longer has target groups tiles targets b, which this changes"):
        left([("a", 1), ("b", 3)], [("a", 1)])


def test_entries_that_are_one_value_each_are_added_and_taken_away():
    zones = [
        ["fells-1", "fells-2", "fells-3"],
        ["fells-1", "fells-3", "fells-4"],
        ["fells-0", "fells-1", "fells-2", "fells-3"],
    ]
    before, mine, theirs = (plan_from_data(plan_data(regions=[{"name": "fells", "zones": some}])) for some in zones)
    assert merged(before, mine, theirs).regions[0].zones == ["fells-0", "fells-1", "fells-3", "fells-4"]


def test_what_others_have_rewritten_is_as_it_is_made_last():
    """Of three tiers one edit gives the first another weight, one the second; and one the first, too."""
    before = plan(pools=[{"name": "web", "tiers": [{"groups": {"tiles": weight}} for weight in (1, 2)]}])

    def weights(mine, theirs):
        edits = ([replacing(f"/pools/0/tiers/{tier}/groups/tiles", weight)] for tier, weight in (mine, theirs))
        return [tier.groups["tiles"] for tier in again(*edits, before).pools[0].tiers]

    assert weights((0, 7), (1, 9)) == [7, 9]
    assert weights((0, 7), (0, 9)) == [7, 2]


def test_what_is_no_plan_any_more_is_refused():
    twice = [{"op": "add", "path": "/probes/-", "value": {"name": "new", "interval_s": value}} for value in (1, 2)]
    with pytest.raises(PlanError, match="/probes/new: meanwhile the plan has been given another probes new"):
        again([twice[0]], [twice[1]])
    scale = {"min": 2, "max": 6, "target_utilisation": 0.5}
    data = plan_data()
    data["fleets"][0]["scale"] = scale
    with pytest.raises(PlanError, match="min 5 is above max 4"):
        again([replacing("/fleets/0/scale/min", 5)], [replacing("/fleets/0/scale/max", 4)], plan_from_data(data))


@given(plans_with_a_drill(), plans_with_a_drill())
def test_alone_an_edit_makes_what_it_made(one, other):
    """Nothing of the one, all of the other: where only one side changed anything, that is what is left."""
    before, after = plan_from_data(one), plan_from_data(other)
    assert merged(before, after, before) == after
    assert merged(before, before, after) == after
    assert merged(before, after, after) == after
