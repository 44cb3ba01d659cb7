"""Cascades: the load of those that are lost takes out others, and the drill says when and why."""

from northgate.engine.reports.drill import drill_answer
from northgate.engine.reports.words import trigger_words
from tests.support.plans import drill_of, fail, plan_data


def near_its_limit(rps, **group):
    data = plan_data()
    data["fleets"][0]["instance"] |= {"capacity_rps": 120, "service_ms": 20, "queue_s": 10}
    data["clients"][0] |= {"rps": rps, "timeout_s": 30}
    data["target_groups"][0] |= group
    return data


def test_the_moment_and_the_trigger_are_named():
    """600/s on six of 120/s; four take 150/s each: their backlog grows by 1/4 s a second, to 5 s after 20 s; then it
    takes three failed probes."""
    run = drill_of(near_its_limit(600), [fail(60, zone="fells-2")], lasts_s=300)
    noticed = max(row.believed_at_s for row in run.blind if row.true_at_s == 60 and row.believed_at_s)
    assert run.cascade is not None
    assert run.cascade.target in {"tiles-1", "tiles-2", "tiles-5", "tiles-6"}
    assert noticed + 20 + 20 <= run.cascade.at_s <= noticed + 20 + 40
    assert trigger_words(run.cascade.trigger) == "zone fells-2 is lost at 60 s"
    assert [event.at_s for event in run.events if event.kind == "cascade"] == [run.cascade.at_s]
    answer = drill_answer(run)
    assert answer.cascade is not None
    assert answer.cascade.at_s == run.cascade.at_s
    assert "a cascade" in answer.summary


def test_what_is_carried_is_no_cascade():
    run = drill_of(near_its_limit(400), [fail(60, zone="fells-2")], lasts_s=300)
    assert run.cascade is None
    assert drill_answer(run).cascade is None


def test_a_surge_can_set_it_off_too():
    steps = [{"at_s": 30, "surge": {"clients": "walkers", "factor": 2}}]
    run = drill_of(near_its_limit(600), steps, lasts_s=300)
    assert run.cascade is not None
    assert trigger_words(run.cascade.trigger) == "walkers ask 2 times as much at 30 s"
