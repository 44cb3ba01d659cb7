"""Calls that are tried again: the geometric law, what they load, and a storm that outlives its cause."""

import numpy as np
import pytest
from msgspec.structs import replace

from northgate.engine.balancing.keys import KeyTable
from northgate.engine.drill.run import undisturbed
from northgate.engine.network import Answers
from northgate.engine.solver import Solver
from northgate.engine.trace import Question, trace
from northgate.plan.models.drills import CAUSES
from tests.engine.network.test_names import two_regions
from tests.simulation.requests import score
from tests.support.plans import changed, drill_of, fail, network_of, plan_data, restore


def with_retries(count, **client):
    data = plan_data()
    data["clients"][0] |= {"retries": count, **client}
    return data


@pytest.mark.parametrize("count", [0, 1, 2, 5])
def test_what_fails_is_what_fails_at_every_attempt(count):
    """One of six refuses, unnoticed: p = 1/6, and p^(r+1) of the calls fail; 1 + p + ... + p^r are tried."""
    run = drill_of(with_retries(count), [fail(60, process="tiles-1")], lasts_s=300)
    flow, p = run.flow_at(61), 1 / 6
    assert flow.cause_rps.sum() == pytest.approx(600 * p ** (count + 1), rel=1e-9)
    assert flow.served == pytest.approx(600 * (1 - p ** (count + 1)))
    assert flow.places.front_rps.sum() == pytest.approx(600 * sum(p**k for k in range(count + 1)))
    assert flow.requests == 600, "a call is counted once"
    assert flow.zone_served.sum() == pytest.approx(flow.served)


def test_without_failures_nothing_is_repeated():
    flow = undisturbed(network_of(with_retries(3)))
    assert flow.places.front_rps.sum() == pytest.approx(600)


def test_a_hash_holds_repeats_where_they_failed():
    data = changed(with_retries(3), "/target_groups/0/balance", "source-hash")
    run = drill_of(data, [fail(60, process="tiles-1")], lasts_s=300)
    flow = run.flow_at(61)
    share = run.flow_at(0).places.pair_rps[run.network.pairs.machine == 0].sum() / 600
    assert flow.cause_rps.sum() == pytest.approx(600 * share, rel=1e-9)
    assert flow.places.front_rps.sum() == pytest.approx(600 * (1 + 3 * share))


@pytest.mark.parametrize("affinity", [{"by": "none"}, {"by": "cookie", "lasts_s": 600}])
@pytest.mark.parametrize("balance", ["round-robin", "source-hash"])
def test_calls_that_targets_would_hold_all_fail_where_no_group_has_a_weight(balance, affinity):
    data = changed(with_retries(3), "/target_groups/0/balance", balance)
    data["target_groups"][0]["affinity"] = affinity
    for group in ("tiles", "spare"):
        data["pools"][0]["tiers"][0]["groups"][group] = 0
    data["target_groups"].append(data["target_groups"][0] | {"name": "spare"})
    network = network_of(data)
    flow = undisturbed(network)
    assert flow.cause_rps.tolist() == [600.0 * (cause == "none_healthy") for cause in CAUSES]
    assert flow.served == 0
    assert flow.places.front_rps.sum() == pytest.approx(600 * 4)
    traced = trace(flow, Question(url="https://www.beckwater.example/tiles/7", client="walkers"))
    assert traced.outcome.reason == "all groups of web that may serve have the weight 0"


def test_a_retry_storm_outlives_its_cause():
    """Work that comes too late is done in vain and asked for again: the surge goes, the queues stay full."""

    def surged(retries):
        data = with_retries(retries, rps=560, timeout_s=5)
        data["fleets"][0]["instance"] |= {"capacity_rps": 100, "queue_s": 10}
        data["target_groups"][0]["probe"] = None
        steps = [(60, 2), (120, 1)]
        script = [{"at_s": at, "surge": {"clients": "walkers", "factor": factor}} for at, factor in steps]
        return drill_of(data, script, lasts_s=900)

    patient, stormy = surged(0), surged(4)
    assert patient.flow_at(899).cause_rps.sum() == pytest.approx(0), "without repeats the queues run empty"
    late = stormy.flow_at(899)
    assert late.cause_rps.sum() == pytest.approx(560), "with them everything is too late, for good"
    assert late.places.front_rps.sum() == pytest.approx(560 * 5)
    for flow in stormy.flows:
        assert np.all(flow.attempts.book <= 5 + 1e-9)
        assert flow.served + flow.cause_rps.sum() == pytest.approx(flow.requests)


def test_a_repeat_ends_with_its_cause():
    run = drill_of(with_retries(2), [fail(60, instance="tiles-1"), restore(200, instance="tiles-1")], lasts_s=400)
    assert run.flow_at(399).places.front_rps.sum() == pytest.approx(600)
    assert run.readings.requests == pytest.approx(600 * 400)


def test_a_session_holds_repeats_at_its_target():
    """All of a sixth of the sources are held by renewed sessions: what fails of theirs fails at every attempt."""
    data = changed(with_retries(2, sources=3000), "/target_groups/0/affinity", {"by": "cookie", "renews": True})
    run = drill_of(data, [fail(60, process="tiles-1")], lasts_s=80)
    flow = run.flow_at(61)
    assert flow.cause_rps.sum() == pytest.approx(100)
    assert flow.places.front_rps.sum() == pytest.approx(500 + 100 * 3)
    assert flow.zone_served.sum() == pytest.approx(flow.served) == pytest.approx(500)


def test_those_without_a_session_are_drawn_anew():
    """M of the sources have a session: M/6 fail for good, of the others (1/6)^3."""
    data = with_retries(2, sources=3000)
    data["target_groups"][0]["affinity"] = {"by": "cookie", "renews": False, "lasts_s": 30}
    run = drill_of(data, [fail(60, process="tiles-1")], lasts_s=80)
    flow = run.flow_at(60)
    share = 0.2 / (0.2 + 1 / 30)
    assert flow.cause_rps.sum() == pytest.approx(600 * (share / 6 + (1 - share) / 6**3))
    assert flow.places.front_rps.sum() == pytest.approx(
        600 * (share * (5 / 6 + 3 / 6) + (1 - share) * (1 + 1 / 6 + 1 / 36))
    )


@pytest.mark.parametrize("bound", [0.0, 0.5, 1.0])
def test_how_sessions_are_opened_does_not_depend_on_how_many_have_one(bound):
    """One of six refuses: a source without a session is served at another at once, or after it, up to twice; also where
    there is no such source yet."""
    data = with_retries(2, sources=3000)
    data["target_groups"][0]["affinity"] = {"by": "cookie", "renews": False, "lasts_s": 30}
    state = drill_of(data, [fail(60, process="tiles-1")], lasts_s=80).flow_at(60).state
    shares = bound * np.array([2, 2, 1, 1, 1, 1]) / 8
    held = replace(state.held, sessions=shares[None, :])
    flow = Solver(network_of(data)).solve(replace(state, held=held, attempts=None))
    opened = 600 / 3000 / 6 * (1 + 1 / 6 + 1 / 6**2)
    assert flow.opening[0] == pytest.approx([0.0, *[opened] * 5], rel=1e-9)


def test_hash_keys_load_only_the_targets_that_hold_them():
    data = changed(with_retries(3), "/target_groups/0/balance", "source-hash")
    run = drill_of(data, [fail(60, process="tiles-1")], lasts_s=300)
    before, flow = run.flow_at(0), run.flow_at(61)
    others = run.network.pairs.machine != 0
    assert flow.places.pair_rps[others] == pytest.approx(before.places.pair_rps[others])
    assert flow.places.pair_rps[~others] == pytest.approx(4 * before.places.pair_rps[~others])


def test_a_session_and_a_hash_key_hold_together():
    data = changed(with_retries(1, sources=300), "/target_groups/0/affinity", {"by": "cookie", "lasts_s": 30})
    data["target_groups"][0]["balance"] = "source-hash"
    run = drill_of(data, [fail(60, process="tiles-1"), restore(100, process="tiles-1")], lasts_s=200)
    for flow in run.flows:
        assert flow.served + flow.cause_rps.sum() == pytest.approx(600)
        assert flow.zone_served.sum() == pytest.approx(flow.served)


def two_of_six_go_silent(**group):
    data = with_retries(1, sources=600, timeout_s=500)
    data["target_groups"][0] |= {"probe": None, "try_others": 1, **group}
    run = drill_of(data, [fail(60, instance="tiles-1"), fail(60, instance="tiles-4")], lasts_s=120)
    return run.flow_at(61)


def test_a_held_call_goes_on_to_others_and_keeps_its_session_when_it_is_repeated():
    """Held at a silent one: one of the five others is silent too, 1/5 fails of each attempt, so 1/25 of those calls."""
    flow = two_of_six_go_silent(affinity={"by": "cookie", "renews": True})
    assert flow.cause_rps.sum() == pytest.approx(600 * 2 / 6 / 25, rel=1e-9)
    assert flow.places.front_rps.sum() == pytest.approx(600 * (4 / 6 + 2 / 6 * (1 + 1 / 5)), rel=1e-9)
    free = two_of_six_go_silent()
    assert free.cause_rps.sum() == pytest.approx(600 * (2 / 6 / 5) ** 2, rel=1e-9)


def test_a_hashed_call_that_is_repeated_goes_the_same_way_again():
    """Keys whose first two targets are silent fail at every attempt; all others never."""
    flow = two_of_six_go_silent(balance="source-hash")
    network = flow.network
    segment = network.segments[int(network.calls.segment[0])]
    silent = {number for number, name in enumerate(network.machines.names) if name in ("tiles-1", "tiles-4")}
    lost = 0
    for front in range(3):
        pairs = network.cells.pairs[front]
        order = KeyTable(network).orders(front, segment, network.pairs.weight[pairs], 1)
        machines = network.pairs.machine[pairs][order]
        lost += sum(set(row.tolist()) <= silent for row in machines) / len(order) / 3
    assert 0 < lost < 0.2
    assert flow.cause_rps.sum() == pytest.approx(600 * lost, rel=1e-9)
    assert flow.places.front_rps.sum() == pytest.approx(600 * (1 + lost), rel=1e-9)


def test_repeats_settle_at_the_very_limit_too():
    """A surge has left calls tried 1.75 times; then a balancer can just send what is asked: p goes to 0, but ever more
    slowly, as p - p^2 does. What is counted by call and what is counted by zone must agree all the same."""
    data = with_retries(2)
    data["clients"][0]["calls"][0]["kilobytes"] = 40
    data["balancers"][0]["bandwidth_mbps"] = 600 * 0.32
    surges = [{"at_s": at, "surge": {"clients": "walkers", "factor": factor}} for at, factor in ((10, 2), (20, 1))]
    run = drill_of(data, surges, lasts_s=60)
    stormy, calm = run.flow_at(15), run.flow_at(30)
    assert stormy.served == pytest.approx(600)
    assert calm.zone_served.sum() == pytest.approx(calm.served, rel=1e-9)
    assert calm.served == pytest.approx(600, rel=1e-6)


def held_in_many_ways(count, **client):
    """Two groups of as many targets, both of which keep sessions, and repeats: (count + 1)² ways to be held."""
    data = changed(with_retries(1, **client), "/fleets/0/count", count)
    group = {**data["target_groups"][0], "affinity": {"by": "cookie", "renews": True}}
    data["target_groups"] = [group, {**group, "name": "more"}]
    data["pools"][0]["tiers"][0]["groups"]["more"] = 1
    return data


@pytest.mark.parametrize("count", [6, 60, 1200])
def test_sources_may_be_held_in_more_than_a_million_ways(count):
    """A zone of three is lost: its front, and a third of each group, to which a third of the sources is bound in
    each."""
    run = drill_of(held_in_many_ways(count, sources=100_000), [fail(60, zone="fells-2")], lasts_s=70)
    flow, dead = run.flow_at(62), 1 / 3
    # A third of the fronts is dead; of the connects that are taken none, half or all are held at a silent target.
    fails = [(dead + (1 - dead) * held) ** 2 for held in (0, 1 / 2, 1)]
    assert flow.cause_rps.sum() == pytest.approx(600 * np.dot([4 / 9, 4 / 9, 1 / 9], fails))
    assert flow.zone_served.sum() == pytest.approx(flow.served)


def test_a_session_whose_target_refuses_goes_on_in_the_order_of_its_key():
    """Two of six refuse; who is bound to one of them (1/3 of all, for good) tries the first of the others in his key's
    own order: fails if that is the other bad one."""
    data = with_retries(0, sources=60)
    data["target_groups"][0] |= {
        "probe": None, "try_others": 1, "balance": "source-hash", "affinity": {"by": "cookie", "renews": True},
    }  # fmt: skip
    run = drill_of(data, [fail(60, process="tiles-1"), fail(60, process="tiles-2")], lasts_s=70)
    sources = [(198 << 24) + (18 << 16) + number * 65536 // 60 for number in range(60)]
    bound = run.flow_at(60).state.held.sessions[0][:2]
    lost = 0.0
    for held, other in ((1, 2), (2, 1)):
        orders = [
            sorted((one for one in range(1, 7) if one != held), key=lambda one: -score(source, f"tiles-{one}", 1))
            for source in sources
        ]
        lost += bound[held - 1] * np.mean([order[0] == other for order in orders])
    flow = run.flow_at(61)
    assert 0 < lost < 1 / 3
    assert flow.cause_rps.sum() == pytest.approx(600 * lost)


def test_who_may_go_on_is_asked_anew_when_others_are_told_several_addresses():
    """Of two clients first the one is told both addresses, then the other: each time who is told one alone fails, a
    third of them, at the dead front. The same solver says so as one that has not seen the first state."""
    data = two_regions(choose="all")
    for client in data["clients"]:
        client["tries_next_address"] = True
    flow = drill_of(data, [fail(10, front={"balancer": "front", "zone": "fells-1"})], lasts_s=60).flow_at(11)
    calm, one, both = flow.state, ({(0,): 1.0}, [1.0, 0.0]), ({(0, 1): 1.0}, [0.5, 0.5])
    solver = Solver(flow.network)
    for told, failed in (((both, one), [0, 200 / 3]), ((one, both), [600 / 3, 0])):
        sets, shares = zip(*told, strict=True)
        answers = Answers(np.concatenate(shares), calm.answers.holder, sets)
        state = replace(calm, answers=answers, attempts=None)
        found, new = (some.solve(state) for some in (solver, Solver(flow.network)))
        assert found.call_cause.sum(axis=1) == pytest.approx(failed)
        assert found.call_cause.tolist() == new.call_cause.tolist()
