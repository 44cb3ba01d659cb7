"""In drills machine code does what is written: every loop is run both ways on what it is asked."""

import numpy as np
import pytest

from northgate.engine.base.loops import LOOPS, Compiled
from tests.engine.network.test_names import two_regions
from tests.engine.processes.test_anew import at_layer_4
from tests.engine.solver.test_connections import layer_4
from tests.engine.solver.test_fixed_point import busy_plan
from tests.support.plans import drill_of, fail, plan_data

# What loops work in, and leave behind as it comes.
AT_WORK = {"work", "ways", "chances", "by_route", "met", "sums", "firsts", "drawn", "room"}
# As Python a loop takes a thousand times as long: of each so many calls are looked at.
LOOKED_AT = 40


@pytest.fixture
def called(monkeypatch):
    """How often each loop has been called; the first of these were also run as Python, and gave the same."""
    times, by_machine = dict.fromkeys(LOOPS, 0), Compiled.__call__

    def both(self, *asked):
        times[self.entrance] += 1
        copies = [np.array(one) for one in asked]
        by_machine(self, *asked)
        if times[self.entrance] > LOOKED_AT:
            return
        with np.errstate(all="ignore"):
            self.function(*copies)
        for name, one, other in zip(self.function.__annotations__, asked, copies, strict=False):
            alike = np.allclose(one, other, rtol=1e-12, atol=1e-14, equal_nan=True)
            assert alike or name in AT_WORK, f"{self.entrance}: {name}"

    monkeypatch.setattr(Compiled, "__call__", both)
    return times


def test_every_loop_of_a_drill_does_what_is_written(called):
    """Held by keys and sessions, or by these alone; told several addresses; connected, through a balancer of little
    bandwidth, by a key, or by old answers; more than can be worked off; sent to who is least busy."""
    many = plan_data()
    many["clients"][0] |= {"rps": 5600, "retries": 2}
    many["fleets"][0]["instance"]["queue_s"] = 0.2
    many["target_groups"][0]["try_others"] = 1
    kept = plan_data()
    kept["clients"][0] |= {"retries": 2, "sources": 50}
    affinity = {"by": "cookie", "lasts_s": 60, "renews": False}
    kept["target_groups"][0] |= {"balance": "source-hash", "try_others": 1, "affinity": affinity}
    bound = plan_data()
    bound["clients"][0]["sources"] = 50
    bound["target_groups"][0]["affinity"] = affinity
    told = two_regions()
    told["clients"][0] |= {"retries": 2, "tries_next_address": True}
    connected = layer_4(rps=5600, retries=2)
    connected["balancers"][0]["bandwidth_mbps"] = 100
    for data in (many, kept, bound, told, connected, busy_plan(retries=2)):
        drill_of(data, [fail(30, instance="tiles-1"), fail(40, zone="fells-2")], lasts_s=120)
    drill_of(layer_4({"balance": "source-hash"}, retries=2), [fail(30, instance="tiles-1")], lasts_s=60)
    drill_of(at_layer_4(sources=300, connection_s=30), [fail(60, region="fells")], lasts_s=150)
    of_drills = [name for name in LOOPS if ".engine.solver." in name or ".engine.processes." in name]
    assert [name for name in of_drills if not called[name]] == []
