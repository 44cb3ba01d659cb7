"""The loss table: every part once, like parts together, headroom and a year by their algebra."""

import itertools

import pytest

from northgate.engine.drill import Losing, undisturbed
from northgate.engine.reports.losses import alike, effect_of, failures_of, headroom, loss_row, year
from northgate.engine.reports.losses.year import YEAR_S
from northgate.engine.truth import Paths
from northgate.losses import loss_table
from northgate.plan import plan_from_data
from northgate.plan.models.faults import Part
from tests.engine.network.test_names import two_regions
from tests.support.plans import network_of, plan_data

RPS, CAPACITY = 600, 1000


def by_words(rows):
    return {row.words: row for row in rows}


def test_every_part_that_can_be_lost_is_there_once():
    data = plan_data()
    data["firewalls"] = [{"name": "app", "allow_in": [{"ports": ["8080"], "from": "any"}]}]
    data["fleets"][0]["instance"] |= {"firewall": "app", "fault_domain": "rack-1", "maintenance_wave": 2}
    data["target_groups"][0]["targets"].append({"address": "198.51.100.9"})
    found = [one for one in alike(network_of(data)) if one.kind not in ("page", "process")]
    assert [(one.kind, one.count) for one in found] == [
        ("region", 1), ("zone", 1), ("zone", 1), ("zone", 1), ("front", 1), ("front", 1), ("front", 1),
        ("link", 1), ("link", 1), ("link", 1), ("instance", 2), ("instance", 2), ("instance", 2),
        ("fault_domain", 1), ("maintenance_wave", 1), ("firewall", 1), ("address", 1),
    ]  # fmt: skip


@pytest.mark.parametrize("balance", ["round-robin", "least-connections"])
def test_like_parts_cost_the_same(balance):
    data = plan_data()
    data["target_groups"][0]["balance"] = balance
    network = network_of(data)
    losing = Losing(network)
    classes = [one for one in alike(network) if one.count > 1]
    assert {one.kind for one in classes} == {"instance", "process", "page"}
    for one in classes:
        row = loss_row(losing, [one])
        field = "process" if one.part.process else "instance"
        for name in one.instances[1:]:
            other = one.__class__(one.kind, one.part.model_copy(update={field: name}), (name,))
            twin = loss_row(losing, [other])
            assert twin.failed_requests == pytest.approx(row.failed_requests, rel=1e-9)
            assert (twin.blind_s, twin.settled_s) == (row.blind_s, row.settled_s)
            assert twin.peak_utilisation == pytest.approx(row.peak_utilisation)


def test_where_a_source_decides_nobody_is_like_another():
    data = plan_data()
    data["target_groups"][0]["balance"] = "source-hash"
    assert all(one.count == 1 for one in alike(network_of(data)))


def test_headroom_is_what_the_survivors_can_still_take():
    """Round robin: of N targets n are left, and carry RPS / n each of what they can."""
    plan = plan_from_data(plan_data())
    assert headroom(plan, None).factor == pytest.approx(6 * CAPACITY / RPS, rel=0.01)
    lost = headroom(plan, Part(zone="fells-2"))
    assert lost.factor == pytest.approx(4 * CAPACITY / RPS, rel=0.01)
    assert lost.limit == "tiles-1"
    data = plan_data()
    del data["fleets"][0]["instance"]["capacity_rps"]
    assert headroom(plan_from_data(data), None).factor is None


def test_headroom_is_that_of_as_many_as_there_are():
    """An autoscaler launches nobody meanwhile, nor lets it go what clients that ask for little do not need."""
    data = plan_data()
    data["fleets"][0]["scale"] = {"min": 2, "max": 12, "target_utilisation": 0.5}
    plan = plan_from_data(data)
    assert headroom(plan, None).factor == pytest.approx(6 * CAPACITY / RPS, rel=0.01)
    assert headroom(plan, Part(zone="fells-2")).factor == pytest.approx(4 * CAPACITY / RPS, rel=0.01)


def test_headroom_is_no_more_than_what_bandwidth_lets_through():
    """600 answers of 10 kilobytes take 48 Mbit/s, whoever gives them."""
    data = plan_data()
    data["clients"][0]["calls"][0]["kilobytes"] = 10
    data["balancers"][0]["bandwidth_mbps"] = 72
    plan = plan_from_data(data)
    for lost in (None, Part(zone="fells-2")):
        found = headroom(plan, lost)
        assert (found.factor, found.limit) == (pytest.approx(72 / 48, rel=0.01), "front")
    data["balancers"][0]["bandwidth_mbps"] = 24
    assert headroom(plan_from_data(data), None).factor == pytest.approx(24 / 48, rel=0.01)


def test_headroom_without_a_loss_goes_by_what_is_believed_now():
    """Who answers probes too late, busy as it is with what others ask, is asked for nothing else, though it would be
    if these asked for less: its own load alone overloads it."""
    data = plan_data()
    data["probes"][0]["timeout_s"] = 0.1
    data["instances"] = [
        {
            "name": "both", "zone": "fells-1", "capacity_rps": 100, "service_ms": 10,
            "serves": [{"port": 8080, "protocol": "http", "pages": {"/": 200, "/ready": 200}}],
        }
    ]  # fmt: skip
    data["target_groups"][0]["targets"].append({"instance": "both"})
    data["target_groups"].append({"name": "own", "port": 8080, "targets": [{"instance": "both"}]})
    data["pools"].append({"name": "own", "tiers": [{"groups": {"own": 1}}]})
    data["balancers"][0]["listeners"].append(
        {"name": "own", "protocol": "https", "port": 8443, "otherwise": {"pool": "own"}}
    )
    data["clients"].append(
        {**data["clients"][0], "name": "own", "rps": 95, "calls": [{"url": "https://www.beckwater.example:8443/"}]}
    )
    plan = plan_from_data(data)
    found = headroom(plan, None)
    assert (found.factor, found.limit) == (pytest.approx(100 / 95, rel=0.01), "both")
    for times, over in ((found.factor * 0.99, False), (found.factor * 1.01, True)):
        used = undisturbed(network_of(data | {"clients": more(data["clients"], times)})).queue.utilisation.max()
        assert bool(used > 1) is over


def more(clients, times):
    """Clients that ask so many times as much."""
    return [client | {"rps": client["rps"] * times} for client in clients]


def test_a_plan_that_is_overloaded_has_headroom_below_one():
    data = plan_data()
    data["clients"][0]["rps"] = 12 * CAPACITY
    assert headroom(plan_from_data(data), None).factor == pytest.approx(0.5, rel=0.01)


def test_a_year_adds_up_failures_by_how_often_they_come():
    data = plan_data(reliability={"zone": {"per_year": 3, "repair_s": 600}})
    plan = plan_from_data(data)
    assert failures_of(plan, "zone")[1] is False
    made = year(plan, [("a zone", "zone", 2, 500.0), ("an instance", "instance", 6, 100.0)])
    assumed = failures_of(plan, "instance")[0].per_year
    assert made.failed_requests == pytest.approx(2 * 3 * 500 + 6 * assumed * 100)
    assert made.availability == pytest.approx(1 - made.failed_requests / (RPS * YEAR_S))
    assert [(part.words, part.assumed) for part in made.by_part] == [("a zone", False), ("an instance", True)]


def test_the_table_ranks_singles_and_pairs():
    data = plan_data()
    data["fleets"][0]["count"] = 3
    plan = plan_from_data(data)
    told = []
    table = loss_table(plan, pairs=True, told=lambda done, of: told.append((done, of)))
    assert told[-1][0] == told[-1][1] > 8
    failed = [row.failed_requests for row in table.losses]
    assert failed == sorted(failed, reverse=True)
    rows = by_words(table.losses)
    assert len(rows) == len(table.losses)
    # A region contains its zones; two zones and the third are all there is.
    both = rows["region fells and zone fells-1"]
    assert both.failed_requests == rows["region fells"].failed_requests
    assert [len(both.parts), both.count] == [2, 1]
    assert both.alone == both.failed_requests
    two = rows["zone fells-1 and zone fells-2"]
    assert two.alone == max(rows["zone fells-1"].failed_requests, rows["zone fells-2"].failed_requests)
    assert two.failed_requests > max(rows["zone fells-1"].failed_requests, rows["zone fells-2"].failed_requests)
    singles = [row for row in table.losses if len(row.parts) == 1]
    zones = [row for row in singles if row.kinds == ["zone"]]
    assert len(zones) == 3
    by_repair = [part for part in table.year.by_part if part.kind == "zone"]
    assert sum(part.failed_requests for part in by_repair) == pytest.approx(
        sum(row.failed_until_repaired for row in zones) * by_repair[0].per_year
    )
    pairs = {frozenset(row.words.split(" and ", 1)) for row in table.losses if len(row.parts) == 2}
    names = [row.words for row in singles if row.kinds[0] in ("zone", "front")]
    assert all(frozenset(pair) in pairs for pair in itertools.combinations(names, 2))


def test_what_a_loss_cannot_change_is_no_effect():
    """With its fronts dead, a region's links, rules and pages matter to nobody; elsewhere each is told apart."""
    network = network_of(two_regions())
    paths = Paths.of(network)

    def effect(*parts):
        return effect_of(paths, [Part(**part) for part in parts])

    region, link = {"region": "fells"}, {"link": ["fells-1", "fells-2"]}
    assert effect(region) == effect(region, {"zone": "fells-1"}) == effect(region, link)
    single = [effect(part) for part in (region, link, {"zone": "fells-1"}, {"zone": "coast-1"}, {"process": "tiles-1"})]
    assert len(set(single)) == 5
    assert effect(region, {"zone": "coast-1"}) != effect(region)
