"""The law of traces: on random plans and moments of drills, what a trace expects is what the solver says, outcome by
outcome; and what it counts over many requests is what it expects."""

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from northgate.engine.drill.run import run_drill
from northgate.engine.solver.solve import Solver
from northgate.engine.solver.state import Held
from northgate.engine.trace.expected import Expectation
from northgate.engine.trace.history import History
from northgate.engine.trace.question import Question
from northgate.engine.trace.stages.way import Context
from northgate.engine.trace.trace import trace
from northgate.engine.trace.walk import Walker
from northgate.plan.models.drills import CAUSES
from tests.engine.network.test_names import two_regions
from tests.support.exploring import examples
from tests.support.plans import fail, network_of
from tests.support.strategies import plans_with_a_drill
from tests.support.worlds import RPS, World

LAW = settings(max_examples=examples(5), deadline=None, suppress_health_check=[HealthCheck.too_slow])


def without_connections(flow):
    """The same moment as everybody connects anew: a trace does."""
    held = flow.state.held
    if held is None or not held.connections.any():
        return flow
    none = Held(held.sessions, np.zeros_like(held.connections), np.zeros_like(held.strays))
    return Solver(flow.network).solve(replace(flow.state, held=none))


def expected(flow, history, client, url):
    """What the trace expects of calls of a group, each by a source of its own with the session that it holds: by cause,
    and what is served by target."""
    asked = Question(url=url, client=client, vary="source", session="kept", times=2)
    causes, served = dict.fromkeys(CAUSES, 0.0), {}
    for (answer, error, cause), share in Expectation(Walker(Context(flow, asked, history))).shares().items():
        if error is None:
            served[answer] = served.get(answer, 0.0) + share
        else:
            causes[cause] += share
    return causes, served


@LAW
@given(plans_with_a_drill(), st.lists(st.floats(0, 240), min_size=3, max_size=3))
def test_what_a_trace_expects_is_what_the_solver_says(data, seconds):
    run = run_drill(network := network_of(data), network.plan.drills[0])
    for second in [*seconds, run.keyframes[len(run.keyframes) // 2].t_s]:
        flow = without_connections(run.flow_at(second))
        agrees(flow, History(flow, run, second), data["clients"][0], flow.state.call_rps.sum())


def agrees(flow, history, client, rate):
    causes, served = expected(flow, history, client["name"], client["calls"][0]["url"])
    assert flow.served / rate == pytest.approx(sum(served.values()), abs=1e-9)
    assert flow.cause_rps / rate == pytest.approx(np.array([causes[cause] for cause in CAUSES]), abs=1e-9)
    machines = flow.network.machines
    by_machine = np.bincount(flow.network.pairs.machine, flow.pair_served, minlength=len(machines.names))
    for number in np.flatnonzero(machines.real):
        assert by_machine[number] / rate == pytest.approx(served.get(machines.names[number], 0.0), abs=1e-9)


def worlds():
    """Worlds in which much comes together, each with what it is about."""
    several = World(4, 3).dead(1).bad(2)
    several.balancer["address_kind"], several.group["try_others"] = "per-zone", 1
    several.client |= {"tries_next_address": True, "retries": 2}
    yield "several addresses", several
    crowd = World(3, 2).at_layer_4(1000).with_second("all").bad(2, silent=True)
    crowd.client |= {"tries_next_address": True, "retries": 1}
    yield "layer 4", crowd
    bound = World(4, 2).at_layer_4(500).bad(1)
    bound.group["affinity"] = {"by": "source", "renews": False, "lasts_s": 40}
    bound.client["retries"] = 1
    yield "bound by source", bound
    hashed = World(5, 2).hashed().with_outside().bad(2)
    hashed.group |= {"try_others": 1, "affinity": {"by": "cookie", "renews": False, "lasts_s": 30}}
    hashed.client["retries"] = 2
    yield "hash and sessions", hashed
    inner = World(4, 2).behind().bad(1).dead(1)
    inner.client["retries"] = 1
    yield "behind", inner
    old = World(4, 2).fading(0.5)
    old.alias, old.client["retries"] = True, 1
    yield "old answers of an alias", old
    away = World(4, 2).with_outside().bad(1)
    away.client |= {"tries_next_address": True, "retries": 1}
    away.steps.append(fail(10, address="198.51.100.9"))
    yield "nobody answers outside", away
    full = World(2, 1).with_second("all")
    full.machine |= {"capacity_rps": 20, "queue_s": 0}
    full.balancer["bandwidth_mbps"], full.client["retries"] = 0.1, 1
    yield "overload and bandwidth", full


@pytest.mark.parametrize(("about", "world"), list(worlds()), ids=lambda one: one if isinstance(one, str) else "")
def test_the_law_holds_where_much_comes_together(about, world):
    data = world.data() | {"drills": [{"name": "d", "phases": "best", "lasts_s": 200, "steps": world.steps}]}
    run = run_drill(network := network_of(data), network.plan.drills[0])
    for second in (5, 11, 30, world.at_s, 90):
        flow = without_connections(run.flow_at(second))
        agrees(flow, History(flow, run, second), data["clients"][0], RPS)


@pytest.mark.parametrize(("about", "world"), list(worlds()), ids=lambda one: one if isinstance(one, str) else "")
def test_what_comes_is_what_is_expected(about, world):
    """Over 400 requests, each by a source of its own; each choice is made in turn, to within one, and a few are
    made."""
    data = world.data() | {"drills": [{"name": "d", "phases": "best", "lasts_s": 200, "steps": world.steps}]}
    run = run_drill(network := network_of(data), network.plan.drills[0])
    flow = run.flow_at(world.at_s + 1)
    url = data["clients"][0]["calls"][0]["url"]
    asked = Question(url=url, client="walkers", vary="source", session="kept", times=400)
    answer = trace(flow, asked, History(flow, run, world.at_s + 1))
    assert sum(row.expected_share for row in answer.expected) == pytest.approx(1)
    for row in answer.expected:
        assert row.expected_share > 0, "nothing comes that was not to be expected"
        # A hash spreads its keys as it does, and a few choices in turn are each off by one.
        assert abs(row.count - 400 * row.expected_share) <= 12 + 3 * (400 * row.expected_share) ** 0.5


def test_the_ladder_tells_each_attempt_and_what_it_cost():
    """A dead address first, the next one's target refuses, so the balancer tries another."""
    world = World(2, 2).dead(1).bad(1)
    world.balancer["address_kind"], world.group["try_others"] = "per-zone", 1
    world.client |= {"tries_next_address": True, "retries": 1}
    data = world.data() | {"drills": [{"name": "d", "phases": "best", "lasts_s": 200, "steps": world.steps}]}
    run = run_drill(network := network_of(data), network.plan.drills[0])
    flow, url = run.flow_at(11), data["clients"][0]["calls"][0]["url"]
    asked = Question(url=url, client="walkers", times=8, vary="source")
    ways = [trace(flow, replace(asked, show=number), History(flow, run, 11)) for number in range(8)]
    longest = max(ways, key=lambda one: len(one.hops))
    kinds = [hop.kind for hop in longest.hops]
    assert kinds.count("next") == 1
    assert kinds.count("target") == 2
    assert longest.outcome.latency_ms == pytest.approx(2000 + 10), "the wait for the dead address, and one round trip"
    assert longest.outcome.target == "t-2"
    assert all(way.outcome.error is None for way in ways)


def test_a_repeat_is_a_hop_of_its_own():
    world = World(2, 1).bad(2)
    world.client["retries"] = 2
    data = world.data() | {"drills": [{"name": "d", "phases": "best", "lasts_s": 200, "steps": world.steps}]}
    run = run_drill(network := network_of(data), network.plan.drills[0])
    flow, url = run.flow_at(11), data["clients"][0]["calls"][0]["url"]
    answer = trace(flow, Question(url=url, client="walkers"), History(flow, run, 11))
    repeats = [hop.because for hop in answer.hops if hop.kind == "repeat"]
    assert [words.partition("repeats its call, ")[2] for words in repeats] == ["1 of 2 times", "2 of 2 times"]
    assert (answer.outcome.status, answer.outcome.cause) == (502, "refused")


def test_an_old_answer_is_told_as_one():
    data = two_regions(choose="order", probe="watch", probed_from=["uplands"], ttl_s=60)
    data["probes"].append({"name": "watch", "protocol": "tcp", "port": 443, "interval_s": 10, "timeout_s": 4})
    data["drills"] = [{"name": "d", "phases": "best", "lasts_s": 300, "steps": [fail(60, region="fells")]}]
    run = run_drill(network := network_of(data), network.plan.drills[0])
    flow = run.flow_at(114)
    url = data["clients"][0]["calls"][0]["url"]
    asked = Question(url=url, client="walkers", times=100)
    ways = [trace(flow, replace(asked, show=number), History(flow, run, 114)) for number in range(4)]
    old = [way.hops[0].because.startswith("an old answer") for way in ways]
    assert any(old)
    assert not all(old)
    assert [way.outcome.cause == "dead_front" for way in ways] == old
