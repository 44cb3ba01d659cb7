"""A loss is followed until it settles; where it goes round and round, what follows is more of the same."""

from collections.abc import Mapping
from concurrent.futures import ThreadPoolExecutor
from functools import cache, partial
from types import FunctionType, MethodType, ModuleType

import numpy as np
import pytest
from hypothesis import given, settings

from northgate.engine.drill import Losing, run_drill, run_loss
from northgate.engine.drill.ahead import look_ahead
from northgate.engine.drill.cycles import SAME, Standing
from northgate.engine.network import compile_network
from northgate.engine.solver import Solver
from northgate.plan import plan_from_data, read_plan
from northgate.plan.models.drills import Drill, Step
from northgate.plan.models.faults import Part
from tests.engine.drill.test_traffic import layer_4
from tests.engine.processes.test_anew import CLIENTS, at_layer_4
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


@pytest.mark.parametrize("second", [61.3, 95.0, 111.1, 140.3])
def test_what_has_failed_by_a_second_is_what_a_drill_that_ends_then_comes_to(second):
    """In the region that is lost fewer and fewer hold old answers: what fails bends between events."""
    network = network_of(read_plan(EXAMPLE).model_dump(mode="json", by_alias=True))
    drill = next(one for one in network.plan.drills if one.name == "lose-fells")
    run = run_drill(network, drill)
    assert second not in [frame.t_s for frame in run.keyframes]
    until = run_drill(network, drill.model_copy(update={"lasts_s": second}))
    assert run.failed_by(second) == pytest.approx(until.readings.failed, rel=1e-12)
    assert run.failed_by(drill.lasts_s) == run.readings.failed


def test_what_stays_unserved_goes_on_after_the_hour():
    data = plan_data()
    data["fleets"][0]["zones"] = {"fells-2": None}
    loss = run_loss(network_of(data), [Part(zone="fells-2")])
    assert loss.unserved_share == pytest.approx(1.0)
    assert loss.failed_by(7200) == pytest.approx(RPS * 7200)


def test_the_busiest_is_that_of_the_very_end():
    """A target whose page is gone keeps its connections, and loses them one by one to the five others."""
    data = layer_4()
    data["clients"][0]["calls"] = [{"url": "tcp://www.beckwater.example:443"}]
    data["target_groups"][0] |= {"protocol": "tcp", "on_out": "keep"}
    loss = run_loss(network_of(data), [Part(instance="tiles-1", page="/ready", status=404)])
    assert loss.settled
    assert loss.run.keyframes[-1].utilisation.max() < RPS / 5 / 1000 - 1e-3
    assert loss.busiest == ("tiles-2", pytest.approx(RPS / 5 / 1000, rel=1e-5))


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


@pytest.mark.parametrize("client", CLIENTS, ids=str)
def test_who_holds_old_answers_at_layer_4_costs_as_much_in_a_loss_as_in_a_drill(client):
    """The blind time and half of the TTL, whoever calls how often (see `tests/engine/processes/test_anew.py`)."""
    loss = run_loss(network_of(at_layer_4(**client)), [Part(region="fells")])
    turned_s = next(event.at_s for event in loss.run.events if event.kind == "answer") - 60
    assert loss.failed_by(3600) == pytest.approx(RPS * (turned_s + 60 / 2), rel=1e-9)


def test_a_run_that_begins_as_another_shares_nothing_that_remembers():
    """Functions are not copied: one that remembers would tell of the run in which it was made."""
    begun = Losing(network_of(at_layer_4()))._before
    copied = begun.with_steps([Step(at_s=60, fail=Part(region="fells"))])
    for one in all_within(copied, {id(copied.network), id(begun.flow)}):
        assert not (isinstance(one, FunctionType) and one.__closure__), one.__qualname__


def all_within(one, seen):
    """All objects that an object holds, but for those that have been seen and what these hold."""
    if id(one) in seen:
        return
    seen.add(id(one))
    yield one
    fields = getattr(one, "__struct_fields__", ())
    held = [*getattr(one, "__dict__", {}).values(), *(getattr(one, name) for name in fields)]
    if isinstance(one, partial):
        held += [one.func, *one.args, *one.keywords.values()]
    elif isinstance(one, MethodType):
        held.append(one.__self__)
    elif isinstance(one, Mapping):
        held += one.values()
    elif isinstance(one, list | tuple | set | frozenset):
        held += one
    for other in held if not isinstance(one, ModuleType | type) else ():
        yield from all_within(other, seen)


def stands(believes, numbers, next_sent_s, turns):
    """How two probers stand, with what else there is of numbers."""
    key = np.array(believes).tobytes()
    return Standing(key, np.array(numbers), np.array(next_sent_s), np.array(turns))


def test_a_run_stands_as_before_when_all_is_the_same_but_the_probes_of_those_that_never_turn():
    before = stands([True, False], [1.0, 2.0], [5.0, 3.0], [0, 2])
    assert stands([True, False], [1.0, 2.0 + SAME / 2], [5.0, 3.0], [0, 4]).like(before)
    assert not stands([True, False], [1.0, 2.0 + SAME * 2], [5.0, 3.0], [0, 4]).like(before)
    assert not stands([False, True], [1.0, 2.0], [5.0, 3.0], [0, 4]).like(before)
    # The first has found the same all the time, whenever it looked; the second has turned and turned back.
    assert stands([True, False], [1.0, 2.0], [1.0, 3.0], [0, 4]).like(before)
    assert not stands([True, False], [1.0, 2.0], [5.0, 1.0], [0, 4]).like(before)


@pytest.mark.parametrize(
    ("parts", "lasts_s"),
    [
        ([{"zone": "fells-1"}, {"zone": "fells-3"}], 70),
        ([{"region": "fells"}, {"zone": "coast-1"}], 110),
        ([{"link": ["fells-1", "fells-2"]}, {"firewall": "app", "rule": 0}], 150),
    ],
)
def test_what_follows_a_round_is_more_of_the_same(parts, lasts_s):
    """Where some probers send their probes every 30 s, which is no part of the round: they never turn."""
    network = network_of(read_plan(EXAMPLE).model_dump(mode="json", by_alias=True))
    lost = [Part.model_validate(part) for part in parts]
    loss = run_loss(network, lost)
    assert loss.again is not None
    assert loss.again.lasts_s == pytest.approx(lasts_s, abs=1e-6)
    steps = [Step(at_s=60, fail=part) for part in lost]
    until_s = loss.ends_s + 2.5 * lasts_s
    whole = run_drill(network, Drill(name="whole", lasts_s=until_s, phases="worst", steps=steps)).readings
    assert loss.failed_by(until_s - 60) == pytest.approx(whole.failed, rel=1e-6)


def test_what_stays_at_a_bound_is_followed_closely(monkeypatch):
    """Two zones of the demo: answers come too late, who asks again makes them later, and who has given up makes them
    come in time; followed ten times as closely it comes to the same."""
    network = network_of(read_plan(EXAMPLE).model_dump(mode="json", by_alias=True))
    lost = [Part(zone="fells-1"), Part(zone="fells-2")]
    failed = run_loss(network, lost).failed_by(3600)
    monkeypatch.setattr(look_ahead, "SHORTEST_S", look_ahead.SHORTEST_S / 10)
    assert failed == pytest.approx(run_loss(network, lost).failed_by(3600), rel=5e-6)


@settings(max_examples=examples(2))
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
