"""A loss is followed until it settles; where it goes round and round, what follows is more of the same."""

from concurrent.futures import ThreadPoolExecutor
from functools import cache

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from northgate.engine.drill import Losing, run_drill, run_loss
from northgate.engine.drill.cycles import Round, goes_on, round_of
from northgate.engine.drill.journal import Event
from northgate.engine.network import compile_network
from northgate.engine.solver import Solver
from northgate.plan import plan_from_data, read_plan
from northgate.plan.models.drills import Drill, Step
from northgate.plan.models.faults import Part
from tests.plan.test_reading import EXAMPLE
from tests.support.exploring import examples
from tests.support.plans import network_of, plan_data
from tests.support.strategies import plans_with_a_drill

RPS = 600


def test_a_zone_that_is_lost_costs_its_blind_time():
    """A third of the targets, just missed: 3 x 10 s + 5 s; the front leaves after 5 s with a third of the requests, and
    what it would have sent to dead targets fails for its own reason."""
    loss = run_loss(network_of(plan_data()), [Part(zone="fells-2")])
    by_front, by_targets = RPS / 3 * 5, RPS * 2 / 3 / 3 * 5 + RPS / 3 * 30
    assert loss.settled
    assert loss.failed_by(3600) == pytest.approx(by_front + by_targets)
    assert loss.failed_by(5) == pytest.approx(RPS / 3 * 5 + RPS * 2 / 3 / 3 * 5)
    assert loss.unserved_share == 0
    assert loss.busiest == ("tiles-1", pytest.approx(RPS / 4 / 1000))


def test_what_stays_unserved_goes_on_after_the_hour():
    data = plan_data()
    data["fleets"][0]["zones"] = {"fells-2": None}
    loss = run_loss(network_of(data), [Part(zone="fells-2")])
    assert loss.unserved_share == pytest.approx(1.0)
    assert loss.failed_by(7200) == pytest.approx(RPS * 7200)


@pytest.mark.no_cover
def test_a_cascade_that_goes_round_is_known_by_its_rounds():
    """The demo's region: the coast is driven out, recovers idle, and is driven out again, every two minutes."""
    network = network_of(read_plan(EXAMPLE).model_dump(mode="json", by_alias=True))
    part = Part(region="fells")
    loss = run_loss(network, [part])
    assert loss.again is not None
    assert loss.again.lasts_s == pytest.approx(120.0)
    assert not loss.settled
    lasts_s = 1200.0
    steps = [Step(at_s=60, fail=part)]
    whole = run_drill(network, Drill(name="whole", lasts_s=60 + lasts_s, phases="worst", steps=steps))
    assert loss.ends_s < lasts_s / 2
    assert loss.failed_by(lasts_s) == pytest.approx(whole.readings.failed, rel=1e-6)
    ahead = whole.keyframes[-40].t_s
    assert loss.failed_by(ahead - 60) == pytest.approx(whole.keyframes[-40].failed, rel=1e-6)


@pytest.mark.no_cover
@settings(max_examples=examples(4))
@given(plans_with_a_drill())
def test_losses_that_share_their_start_are_as_drills_of_their_own(data):
    plan = plan_from_data(data)
    network = compile_network(plan)
    zones = [zone for region in plan.regions for zone in region.zones]
    losing, ends_s = Losing(network), {}

    @cache
    def alone_of(zone):
        steps = [Step(at_s=60, fail=Part(zone=zone))]
        return run_drill(network, Drill(name="alone", lasts_s=ends_s[zone], phases="worst", steps=steps))

    # Each before and after others, which leave no trace.
    for zone in [*zones, *reversed(zones)]:
        loss = losing.lose([Part(zone=zone)])
        assert ends_s.setdefault(zone, loss.ends_s) == loss.ends_s
        alone = alone_of(zone)
        assert loss.failed_by(loss.ends_s - 60) == pytest.approx(alone.readings.failed, rel=1e-12, abs=1e-9)
        assert loss.run.readings.worst_blind_s == alone.readings.worst_blind_s
        assert [event.at_s for event in loss.run.events] == [event.at_s for event in alone.events]


def told(*at_s, kind="verdict", about=("tiles-1",)):
    return [Event(second, kind, about, {"in_use": number % 2 == 0}) for number, second in enumerate(at_s)]


def test_rounds_are_found_by_their_events():
    assert round_of(told(0, 10, 50, 60, 100, 110)) == Round(110, 50)
    assert round_of(told(0, 10, 50, 60, 101, 111)) is None
    assert round_of(told(0, 10, 50, 60)[:3]) is None
    assert round_of([*told(0, 10, 50, 60, 100), *told(110, about=("tiles-2",))]) is None
    # What unsettles nothing is not looked at.
    assert round_of([*told(0, 10, 50, 60, 100, 110), *told(115, kind="scale")]) == Round(110, 50)


@given(st.floats(1, 100), st.floats(0, 1000))
def test_a_round_goes_on_when_as_much_failed_in_the_one_before(lasts_s, failed):
    again = Round(3 * lasts_s, lasts_s)
    evenly = [(number * lasts_s, number * failed) for number in range(4)]
    assert goes_on(evenly, again) == pytest.approx(failed, abs=1e-9)
    assert goes_on([*evenly[:3], (3 * lasts_s, 3 * failed + 0.01 * (failed + 1))], again) is None


@pytest.mark.no_cover
@settings(max_examples=examples(4))
@given(plans_with_a_drill())
def test_losses_followed_at_once_are_as_those_followed_one_by_one(data):
    plan = plan_from_data(data)
    zones = [zone for region in plan.regions for zone in region.zones]
    one_by_one = [Losing(compile_network(plan)).follow([Part(zone=zone)]) for zone in zones]
    losing = Losing(compile_network(plan))
    with ThreadPoolExecutor(len(zones)) as threads:
        at_once = list(threads.map(lambda zone: losing.follow([Part(zone=zone)]), zones))
    for alone, shared in zip(one_by_one, at_once, strict=True):
        assert shared.readings == alone.readings
        # What is kept of a moment is what is found when it is solved anew.
        for kept, frame in zip(shared.flows, shared.keyframes, strict=True):
            anew = Solver(shared.network).solve(frame.state)
            assert kept.cause_rps == pytest.approx(anew.cause_rps, rel=1e-8, abs=1e-8)
            assert kept.zone_served == pytest.approx(anew.zone_served, rel=1e-8, abs=1e-8)
