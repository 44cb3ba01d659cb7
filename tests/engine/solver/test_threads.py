"""Threads that work on one network share nothing that they change."""

import sys
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest

from northgate.engine.drill.run import run_drill
from northgate.engine.trace.question import Question
from northgate.engine.trace.trace import trace
from tests.support.plans import fail, network_of, plan_data

THREADS, ROUNDS = 4, 1


@pytest.fixture
def switching():
    """Threads take turns after every few instructions."""
    before = sys.getswitchinterval()
    sys.setswitchinterval(1e-6)
    yield
    sys.setswitchinterval(before)


def hashed():
    steps = [fail(20 * number, instance=f"tiles-{number}") for number in range(1, 3)]
    data = plan_data(drills=[{"name": "d", "lasts_s": 90, "steps": steps}])
    data["target_groups"][0] |= {"balance": "source-hash", "affinity": {"by": "source", "lasts_s": 60}}
    data["clients"][0] |= {"sources": 60, "retries": 1}
    return network_of(data)


@pytest.mark.usefixtures("switching")
def test_a_drill_is_the_same_in_many_threads_at_once():
    network = hashed()
    drill = network.plan.drills[0]
    alone = run_drill(network, drill)
    with ThreadPoolExecutor(THREADS) as pool:
        runs = list(pool.map(lambda _: run_drill(network, drill), range(THREADS * ROUNDS)))
    for run in runs:
        assert run.readings == alone.readings
        for frame, wanted in zip(run.keyframes, alone.keyframes, strict=True):
            assert np.array_equal(frame.utilisation, wanted.utilisation)


@pytest.mark.usefixtures("switching")
def test_moments_and_traces_of_one_run_are_the_same_in_many_threads_at_once():
    run = run_drill(hashed(), hashed().plan.drills[0])
    asked = Question(url="https://www.beckwater.example/", client="walkers", times=4, vary="source")

    def look(second):
        flow = run.flow_at(second)
        return flow.queue.utilisation.tolist(), trace(flow, asked).model_dump()

    seconds = [*range(10, 90, 30)] * ROUNDS
    alone = [look(second) for second in seconds]
    with ThreadPoolExecutor(THREADS) as pool:
        assert list(pool.map(look, seconds)) == alone
