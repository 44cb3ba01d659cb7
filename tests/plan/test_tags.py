"""Targets by tag: all machines that carry it, now and later."""

import numpy as np
import pytest

from northgate.engine.network import compile_network
from northgate.plan import PlanError, plan_from_data
from tests.review.plans import found
from tests.support.plans import changed, drill_of, fail, network_of, plan_data

STEPS = [fail(60, zone="fells-2")]


def tagged(*tags, **target):
    data = plan_data()
    data["fleets"][0]["instance"]["tags"] = list(tags)
    data["target_groups"][0]["targets"] = [{"tagged": "tiles", **target}]
    return data


def same(one, other):
    assert [one.machines.names[at] for at in one.members.machine] == [
        other.machines.names[at] for at in other.members.machine
    ]
    for field in ("group", "weight", "port", "probe_port", "service"):
        assert np.array_equal(getattr(one.members, field), getattr(other.members, field))


def test_a_tag_stands_for_all_that_carry_it():
    same(network_of(tagged("wet", "tiles")), network_of(plan_data()))
    data = tagged("tiles", weight=3, port=8080)
    data["instances"] = [
        {"name": "dry-1", "zone": "fells-1"}, {"name": "wet-1", "zone": "fells-1", "tags": ["tiles"]},
    ]  # fmt: skip
    network = network_of(data)
    names = [network.machines.names[at] for at in network.members.machine]
    assert names == ["wet-1", *(f"tiles-{number}" for number in range(1, 7))]
    assert set(network.members.weight) == {3}


def test_what_is_launched_carries_the_tag_and_joins_by_itself():
    """An autoscaled fleet behind a tag goes through a surge as behind its name."""
    data = changed(tagged("tiles"), "/fleets/0/instance/capacity_rps", 150)
    data["fleets"][0]["scale"] = {"min": 6, "max": 12, "target_utilisation": 0.6, "every_s": 30, "warmup_s": 20}
    named = {**data, "target_groups": [{**data["target_groups"][0], "targets": [{"fleet": "tiles"}]}]}
    steps = [{"at_s": 60, "surge": {"clients": "walkers", "factor": 2}}]
    runs = [drill_of(one, steps, phases="spread", lasts_s=400) for one in (data, named)]
    assert runs[0].readings.peak_targets == runs[1].readings.peak_targets > 6
    assert runs[0].readings.failed == pytest.approx(runs[1].readings.failed, rel=1e-9)
    told = [[(event.at_s, event.kind, *sorted(event.about)) for event in run.events] for run in runs]
    assert told[0] == told[1]


def test_a_tag_that_nobody_carries_is_told_with_the_nearest():
    data = tagged("tilez")
    (one,) = [one for one in found(data) if one.code == "tag-carried-by-nobody"]
    assert "did you mean 'tilez'?" in one.message
    assert one.patch == [{"op": "replace", "path": "/target_groups/0/targets/0/tagged", "value": "tilez"}]
    assert not [one for one in found(tagged("tiles")) if one.code in ("tag-carried-by-nobody", "machine-idle")]
    # It is a draft all the same: nobody is in use, and it can be run.
    assert len(compile_network(plan_from_data(data)).members.group) == 0


def test_a_target_is_one_thing():
    with pytest.raises(PlanError, match="exactly one"):
        plan_from_data(changed(tagged("tiles"), "/target_groups/0/targets/0/fleet", "tiles"))
