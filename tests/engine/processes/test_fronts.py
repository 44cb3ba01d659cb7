"""A floating address: one front holds it, the next living one takes it over."""

import pytest

from northgate.engine.reports.board.state import board_state
from northgate.engine.reports.words import message
from tests.support.plans import drill_of, fail, plan_data, restore

RPS, FAILOVER_S = 600, 5


def floating(**more):
    data = plan_data()
    data["balancers"][0] |= {"address_kind": "floating", "returns": True, **more}
    return data


def front(zone):
    return {"front": {"balancer": "front", "zone": zone}}


def held(run, *seconds):
    """The zone whose front gets everything, at each second."""
    found = []
    for second in seconds:
        rates = run.flow_at(second).places.front_rps
        assert rates.max() == pytest.approx(RPS)
        found.append(f"fells-{int(rates.argmax()) + 1}")
    return found


def told(run):
    return [(event.at_s, message(event)) for event in run.events if event.kind == "front"]


def test_the_first_front_holds_the_address_and_the_others_stand_by():
    run = drill_of(floating(), [])
    assert held(run, 0) == ["fells-1"]
    fronts = board_state(run.flow_at(0)).balancers[0].fronts
    assert [(one.in_address, one.stands_by) for one in fronts] == [(True, False), (False, True), (False, True)]


def test_the_order_of_zones_decides_who_is_first():
    data = floating(zones={"fells-3": None, "fells-1": None})
    assert drill_of(data, []).flow_at(0).places.front_rps == pytest.approx([RPS, 0])


def test_the_next_takes_over_after_the_failover_time_and_gives_back():
    """Nobody is met meanwhile: requests x failover time fail. It goes back as long after the return, without a loss."""
    run = drill_of(floating(), [fail(60, **front("fells-1")), restore(200, **front("fells-1"))])
    assert run.readings.failed_by_cause["dead_front"] == pytest.approx(RPS * FAILOVER_S) == run.readings.failed
    assert held(run, 59, 64, 66, 204, 206) == ["fells-1", "fells-1", "fells-2", "fells-2", "fells-1"]
    assert told(run) == [
        (second, f"the {zone} front {what} the address of front")
        for second, zone, what in [
            (65, "fells-1", "loses"), (65, "fells-2", "takes over"),
            (205, "fells-2", "loses"), (205, "fells-1", "takes over"),
        ]
    ]  # fmt: skip


def test_where_it_does_not_return_it_stays_until_its_front_is_lost():
    steps = [fail(60, **front("fells-1")), restore(200, **front("fells-1")), fail(300, **front("fells-2"))]
    run = drill_of(floating(returns=False), steps)
    assert held(run, 250, 304, 306) == ["fells-2", "fells-2", "fells-1"]
    assert run.readings.failed == pytest.approx(2 * RPS * FAILOVER_S)


def test_who_is_lost_before_it_takes_over_is_passed_over():
    """The wait is that for the holder's loss: it does not begin anew for the third."""
    run = drill_of(floating(), [fail(60, **front("fells-1")), fail(63, **front("fells-2"))])
    assert held(run, 64, 66) == ["fells-1", "fells-3"]
    assert run.readings.failed == pytest.approx(RPS * FAILOVER_S)


def test_a_front_that_is_back_in_time_keeps_the_address():
    run = drill_of(floating(), [fail(60, **front("fells-1")), restore(63, **front("fells-1"))])
    assert run.readings.failed == pytest.approx(RPS * 3)
    assert told(run) == []


def test_where_none_lives_the_first_that_returns_takes_over_after_its_time():
    run = drill_of(floating(), [fail(60, region="fells"), restore(100, region="fells")], lasts_s=400)
    assert held(run, 99, 101) == ["fells-1", "fells-1"]
    one_back = drill_of(
        floating(), [*(fail(60, **front(f"fells-{n}")) for n in (1, 2, 3)), restore(100, **front("fells-2"))]
    )
    assert held(one_back, 104, 106) == ["fells-1", "fells-2"]
    assert one_back.readings.failed == pytest.approx(RPS * (40 + FAILOVER_S))


def test_it_leaves_a_front_without_usable_targets_where_that_withdraws():
    """Own-zone targets of the holder crash: refused until out after 2 x 10 s + the refusal, then moved on."""
    data = floating(withdraw_when="no-targets")
    data["target_groups"][0] |= {"reach": "zone"}
    run = drill_of(data, [fail(60, process="tiles-1"), fail(60, process="tiles-2")], phases="worst")
    assert held(run, 59, 500) == ["fells-1", "fells-2"]


ROLL = {"at_s": 60, "roll": {"group": "tiles", "batch": 2, "restart_s": 40}}
DRAIN = [{"at_s": 60, "drain": {"instance": f"tiles-{number}"}} for number in (1, 2)]


@pytest.mark.parametrize("steps", [[ROLL], DRAIN], ids=["in a batch", "by hand"])
def test_a_front_whose_last_targets_are_drained_leaves_from_that_second_on(steps):
    """The two of its zone, at once: the address is the next front's as long after as when its targets are lost."""
    data = floating(withdraw_when="no-targets")
    data["target_groups"][0] |= {"reach": "zone", "drain_s": 30}
    assert told(drill_of(data, steps))[0] == (60 + FAILOVER_S, "the fells-1 front loses the address of front")


def test_a_front_whose_last_target_an_autoscaler_drains_leaves_from_that_second_on():
    """At half a machine's load of three the newest, that of the third zone, is one too many: at the first look."""
    data = plan_data()
    data["balancers"][0] |= {"withdraw_when": "no-targets", "address_kind": "per-zone"}
    data["target_groups"][0] |= {"reach": "zone", "drain_s": 100}
    data["fleets"][0] |= {
        "count": 3,
        "scale": {"min": 2, "max": 3, "target_utilisation": 0.5, "every_s": 30, "warmup_s": 10},
    }
    data["fleets"][0]["instance"] |= {"capacity_rps": RPS}
    run = drill_of(data, [], lasts_s=100)
    assert [event.at_s for event in run.events if event.kind == "scale"] == [30]
    assert told(run) == [(30 + FAILOVER_S, "the fells-3 front leaves the address of front")]


def test_connections_do_not_survive_a_move():
    data = floating(layer=4, listeners=[{"name": "tls", "protocol": "tls", "port": 443, "otherwise": {"pool": "web"}}])
    data["clients"][0] |= {"sources": 200, "connection_s": 600}
    run = drill_of(data, [fail(60, **front("fells-1")), restore(200, **front("fells-1"))])
    still = drill_of(data, [fail(60, **front("fells-1"))])
    assert run.readings.connections_reset > still.readings.connections_reset + 100
