"""Answers that are kept: bounded by what they hold, and nothing is left of who asked for them."""

import threading

import numpy as np
import pytest

from northgate.engine.drill import undisturbed
from northgate.store.repository import Repository
from northgate.web.computing import Computer
from northgate.web.waiting.keeping import Kept, weight_of
from northgate.web.waiting.leaving import Abandoned, _gone
from tests.support.plans import base_plan, drill_of, fail, network_of, plan_data


def answered(kept, question, weight):
    kept.begin(question).set_result(question)
    kept.weigh(question, weight)


def test_the_longest_unused_make_room():
    kept = Kept(most=100)
    for question in "abc":
        answered(kept, question, 30)
    kept.get("a")
    answered(kept, "d", 40)
    assert [one for one in "abcd" if kept.get(one)] == ["a", "c", "d"]
    assert kept.held == 100


def test_one_that_is_larger_than_all_is_kept_alone_and_what_is_being_computed_stays():
    kept = Kept(most=100)
    answered(kept, "a", 30)
    running = kept.begin("running")
    answered(kept, "large", 500)
    assert kept.get("a") is None
    assert kept.get("running") is running
    assert kept.held == 500
    answered(kept, "b", 10)
    assert (kept.held, kept.get("large")) == (10, None)
    kept.drop("b")
    kept.drop("running")
    assert (kept.held, len(kept)) == (0, 0)


def test_an_answer_is_weighed_by_its_arrays_and_not_by_what_it_shares():
    assert weight_of(np.zeros(1000)) == pytest.approx(8000, rel=0.1)
    one = np.zeros(10_000)
    assert weight_of([one, one, (one,)]) < 2 * one.nbytes
    flow = undisturbed(network_of(plan_data()))
    assert 5_000 < weight_of(flow) < 2_000_000
    assert weight_of(flow.network) > 10_000
    short, long = (
        weight_of(drill_of(plan_data(), [fail(at_s, zone="fells-1") for at_s in range(10, last, 40)], lasts_s=900))
        for last in (20, 400)
    )
    assert long > 2 * short
    assert weight_of(base_plan()) > 50_000


def test_nothing_is_left_of_who_asked(tmp_path):
    computer = Computer(Repository(tmp_path / "plans.sqlite"))
    for _ in range(500):
        assert computer.once("question", lambda: 7) == 7
    with pytest.raises(ZeroDivisionError):
        computer.once("other", lambda: 1 // 0)
    assert computer._waiting == {}
    assert computer.once("other", lambda: 8) == 8
    computer.repository.close()


def test_work_on_an_answer_that_fell_out_is_given_up_when_its_asker_leaves(tmp_path):
    """As often as it was asked before: only who waits now counts."""
    computer = Computer(Repository(tmp_path / "plans.sqlite"))
    for _ in range(3):
        computer.once("long", lambda: 1)
    computer._kept.drop("long")
    left = threading.Event()
    _gone.set(left)

    def work():
        left.set()
        computer.watch("long")()

    with pytest.raises(Abandoned):
        computer.once("long", work)
    _gone.set(None)
    computer.repository.close()


def test_many_plans_do_not_throw_an_answer_out(tmp_path):
    repository = Repository(tmp_path / "plans.sqlite")
    computer = Computer(repository)
    keys = [repository.add(base_plan()).key for _ in range(100)]
    settled = computer.settled(keys[0], None)
    for key in keys:
        computer.plan(key)
    assert computer.settled(keys[0], None) is settled
    repository.close()
