"""How much is enough, against the algebra of plans so small that it can be written down."""

import json

import jsonpatch
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from northgate.engine.drill import Losing
from northgate.engine.network import check_runnable
from northgate.engine.reports.losses import alike, loss_row
from northgate.plan import plan_from_data
from northgate.plan.editing import whole_data
from northgate.sizing import Asked, answer_one, sizing
from tests.cli.test_cli import northgate, write
from tests.support.exploring import examples
from tests.support.plans import changed, fail, network_of, plan_data

RPS = 600


def answers(data, kind, name, bound, survive="zone"):
    return answer_one(plan_from_data(data), Asked(kind, name, survive, bound))


def adopted(data, patch):
    return jsonpatch.apply_patch(whole_data(plan_from_data(data)), patch)


def costliest(data, kind="zone"):
    network = network_of(data)
    losing = Losing(network)
    return max(loss_row(losing, [one]).failed_requests for one in alike(network) if one.kind == kind)


@settings(max_examples=examples(3))
@given(st.integers(40, 300), st.sampled_from([0.5, 0.75, 0.85]))
def test_the_fewest_instances_that_carry_the_rest(capacity, below):
    """Of n over three zones the fullest zone's ceil(n / 3) are lost: RPS / (n - ceil(n / 3)) / C < below."""
    data = changed(plan_data(), "/fleets/0/instance/capacity_rps", capacity)
    used = {n: RPS / (n - -(-n // 3)) / capacity for n in range(2, 100)}
    wanted = min(n for n, share in used.items() if share < below)
    rows = answers(data, "fleet", "tiles", below)
    assert sum(row.needed for row in rows) == wanted
    assert [row.zone for row in rows] == ["fells-1", "fells-2", "fells-3"]
    assert max(row.needed for row in rows) - min(row.needed for row in rows) <= 1
    assert rows[0].evidence.peak_utilisation == pytest.approx(used[wanted])
    assert rows[0].evidence.lost == {"zone": "fells-1"}
    assert rows[0].utilisation == pytest.approx(RPS / wanted / capacity)
    again = answers(adopted(data, rows[0].patch), "fleet", "tiles", below) if rows[0].patch else rows
    assert all(row.now == row.needed and row.patch == [] for row in again) or rows[0].patch == []


def test_what_nobody_can_carry_is_not_survived():
    """With all instances in one zone its loss leaves nobody, however many they are; and none is needed more."""
    data = changed(plan_data(), "/fleets/0/zones", {"fells-1": None})
    (row,) = answers(data, "fleet", "tiles", 0.85)
    assert row.needed == 1


def test_the_longest_interval_that_costs_no_more_than_is_allowed():
    """Lost targets cost in proportion to 3 intervals and the time-out: with 20 s instead of 10, 30 s more."""
    data = plan_data()
    now = costliest(data)
    twice = costliest(changed(data, "/probes/0/interval_s", 20))
    (row,) = answers(data, "probe", "ready", (now + twice) / 2)
    assert row.interval_s == pytest.approx(15.0)
    assert row.unhealthy_after == 3
    assert row.failed <= (now + twice) / 2
    assert costliest(adopted(data, row.patch)) == pytest.approx(row.failed)
    longer = changed(data, "/probes/0/interval_s", row.interval_s + 0.5)
    assert costliest(longer) > (now + twice) / 2


def test_nobody_looks_for_more_than_an_hour():
    """The longest is the last of the steps of half a second from the time-out on; adopted, it is the longest still."""
    data = changed(plan_data(), "/probes/0/timeout_s", 4.75)
    (row,) = answers(data, "probe", "ready", 1e9)
    assert (row.interval_s, row.decides) == (3599.75, True)
    (again,) = answers(adopted(data, row.patch), "probe", "ready", 1e9)
    assert (again.interval_s, again.failed, again.patch) == (row.interval_s, pytest.approx(row.failed), [])


def test_what_does_not_decide_stays_as_it_is():
    """With its only region all is lost for the hour, whatever the probe."""
    data = plan_data()
    (row,) = answers(data, "probe", "ready", 1e9, "region")
    assert (row.interval_s, row.unhealthy_after, row.decides, row.patch) == (10.0, 3, False, [])
    assert row.failed == pytest.approx(RPS * 3600)


@pytest.mark.parametrize("count", [2, 5])
def test_what_nobody_notices_asks_for_no_more(count):
    """Without a probe the share of one lost of n stays unserved, 1/n: less with every one more, and never none."""
    data = changed(changed(plan_data(), "/target_groups/0/probe", None), "/fleets/0/count", count)
    rows = answers(data, "fleet", "tiles", 0.85, "instance")
    assert sum(row.needed for row in rows) == count
    assert rows[0].patch == []
    assert rows[0].unserved == pytest.approx(1 / count)


def test_where_no_interval_is_short_enough_fewer_fails_decide():
    data = plan_data()
    fewer = changed(changed(data, "/probes/0/interval_s", 5), "/probes/0/unhealthy_after", 1)
    bound = costliest(fewer)
    (row,) = answers(data, "probe", "ready", bound)
    assert (row.interval_s, row.unhealthy_after) == (5.0, 1)
    (none,) = answers(data, "probe", "ready", bound / 2)
    assert (none.interval_s, none.decides, none.patch) == (None, True, [])


def test_the_fewest_zones_that_carry_the_rest():
    """Of two zones one must carry all: RPS / (n / 2) / C < 0.85; no zone can be lost where there is one."""
    data = changed(plan_data(), "/fleets/0/instance/capacity_rps", 100)
    (row,) = answers(data, "zones", "tiles", 0.85)
    half = next(n for n in range(1, 100) if RPS / n / 100 < 0.85)
    assert (row.now, row.needed, row.instances) == (3, 2, 2 * half)
    # Where one could carry all, one stands in each of them all the same.
    (light,) = answers(changed(data, "/fleets/0/instance/capacity_rps", 5000), "zones", "tiles", 0.85)
    assert (light.needed, light.instances) == (2, 2)
    fewer = adopted(data, row.patch)
    assert list(fewer["fleets"][0]["zones"]) == ["fells-1", "fells-2"]
    assert fewer["fleets"][0]["count"] == row.instances
    (same,) = answers(fewer, "zones", "tiles", 0.85)
    assert (same.needed, same.patch) == (2, [])


def test_a_cascade_is_not_survived():
    """Of four, two in the fullest zone, two are left for 600 / 500 of what they can: queues grow past the probes'
    patience, and the load takes them out, too. Of five three are left."""
    data = changed(plan_data(), "/fleets/0/count", 3)
    data["fleets"][0]["instance"] |= {"capacity_rps": 250, "queue_s": 20}
    rows = answers(data, "fleet", "tiles", 1.0)
    assert sum(row.needed for row in rows) == 5
    assert all(row.evidence.peak_utilisation < 1 for row in rows)


def spared(data):
    """A plan in which a fleet of six has instances to spare, and a drill fails its last one."""
    data = changed(data, "/fleets/0/instance/capacity_rps", 400)
    restore = {"at_s": 90, "restore": {"instance": "tiles-6"}}
    # Nobody is named by this one.
    surge = {"at_s": 60, "surge": {"clients": data["clients"][0]["name"], "factor": 2}}
    data["drills"] = [
        {"name": "one", "lasts_s": 100, "steps": [fail(60, process="tiles-6"), restore]},
        {"name": "all", "lasts_s": 100, "steps": [fail(60, instance="tiles-6"), surge]},
    ]
    return data


def test_a_drill_needs_no_instance_and_goes_with_it():
    """RPS / (n - ceil(n / 3)) / 400 < 0.85 from three on; whom a drill fails may go, and then its steps do."""
    rows = answers(spared(plan_data()), "fleet", "tiles", 0.85)
    assert sum(row.needed for row in rows) == 3
    fewer = adopted(spared(plan_data()), rows[0].patch)
    check_runnable(plan_from_data(fewer))
    left = [[what for step in drill["steps"] for what, said in step.items() if said] for drill in fewer["drills"]]
    assert left == [[], ["at_s", "surge"]]


def test_where_there_is_no_place_for_many_none_is_needed_beyond():
    """A machine of the name that the seventh would have stands in the way of more than six."""
    data = changed(plan_data(), "/fleets/0/instance/capacity_rps", 250)
    data["instances"] = [{"name": "tiles-7", "zone": "fells-1", "serves": [{"port": 80, "protocol": "http"}]}]
    assert [row.needed for row in answers(data, "fleet", "tiles", 0.85)] == [2, 2, 1]
    assert {row.needed for row in answers(data, "fleet", "tiles", 0.3)} == {None}


def scaled(low):
    data = plan_data()
    data["fleets"][0] |= {"count": low, "scale": {"min": low, "max": 12, "target_utilisation": 0.6}}
    data["fleets"][0]["instance"] |= {"capacity_rps": 200, "queue_s": 0}
    return data


def test_the_smallest_minimum_that_absorbs_a_surge():
    """600 / s times 2.5 on machines of 200 / s need more than 7 of them at once; what is launched comes too late."""
    (row,) = answers(scaled(6), "minimum", "tiles", 2.5)
    assert row.needed == 8
    assert row.failed_now > 1000
    assert row.failed < 1
    assert adopted(scaled(6), row.patch)["fleets"][0]["scale"]["min"] == 8


def test_instances_with_an_address_of_their_own_stand_in_nobodys_way():
    data = plan_data()
    data["instances"] = [
        {
            "name": "old",
            "zone": "fells-1",
            "public_address": "203.0.113.40",
            "serves": [{"port": 80, "protocol": "http"}],
        }
    ]
    data["names"].append({"name": "old.beckwater.example", "answers": [{"instance": "old"}]})
    data["clients"][0]["calls"].append({"url": "http://old.beckwater.example/"})
    alone = answers(plan_data(), "fleet", "tiles", 0.85)
    assert [row.needed for row in answers(data, "fleet", "tiles", 0.85)] == [row.needed for row in alone]


def test_only_what_is_asked_is_answered(tmp_path):
    plan = plan_from_data(plan_data())
    made = sizing(plan, "instance", 0.9, None)
    assert (len(made.sizes), made.probes, made.ttls, made.minimums) == (3, [], [], [])


def test_the_command_answers_with_the_contracted_keys(tmp_path):
    path = write(tmp_path, plan_data())
    done = northgate("size", path, "--survive", "zone", "--below", "0.85", "--json")
    (row, *_) = json.loads(done.stdout)["sizes"]
    assert {"fleet", "zone", "now", "needed", "utilisation", "evidence", "patch"} <= set(row)
    assert set(row["evidence"]) == {"lost", "peak_utilisation"}
    done = northgate("size", path, "--failed-below", "1000000", "--json")
    (probe,) = json.loads(done.stdout)["probes"]
    assert {"probe", "interval_s", "unhealthy_after", "failed", "patch"} <= set(probe)
    assert "tiles in fells-1" in northgate("size", path).stdout
    refused = northgate("size", path, "--survive", "zoen")
    assert refused.returncode == 2
    assert "did you mean 'zone'?" in refused.stderr
