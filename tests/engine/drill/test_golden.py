"""The demo's drills, event for event: what they log today is what they logged when it was last looked at.

A change of a log is a change of what the engine says: look at it, and write it anew by running this file.
"""

from functools import cache
from pathlib import Path

import numpy as np
import pytest

from northgate.engine.drill.run import run_drill
from northgate.engine.network.compile import compile_network
from northgate.engine.reports.drill import drill_answer
from northgate.plan import read_plan
from tests.plan.test_reading import EXAMPLE

# On one worker, so that each drill is run once.
pytestmark = pytest.mark.xdist_group("demo's drills")

GOLDEN = Path(__file__).parent / "golden"
PLAN = read_plan(EXAMPLE)
NETWORK = compile_network(PLAN)


@cache
def run_of(name):
    """A drill of the demo, run once."""
    return run_drill(NETWORK, next(one for one in PLAN.drills if one.name == name))


def log_of(drill):
    """Events and readings of a drill as text: seconds to the millisecond, counts to the tenth."""
    answer = drill_answer(run_of(drill.name))
    lines = [f"{event.at_s:10.3f}  {event.kind:<8}  {event.message}" for event in answer.events]
    readings = answer.readings
    lines += ["", f"requests {readings.requests:.1f}", f"failed {readings.failed:.1f}"]
    lines += [f"  {cause} {count:.1f}" for cause, count in readings.failed_by_cause.items() if count > 0.05]
    lines += [f"settled {readings.settled_s:.3f}", f"worst blind {readings.worst_blind_s:.3f}", answer.summary]
    return "\n".join(lines) + "\n"


@pytest.mark.parametrize("drill", PLAN.drills, ids=lambda drill: drill.name)
def test_the_demos_drills_log_what_they_logged(drill):
    assert log_of(drill) == (GOLDEN / f"{drill.name}.log").read_text()


def test_a_bound_is_rarely_met_nearly_and_then_again():
    """Looked at once more within a millisecond: four times in this cascade; 21 times if the end of a step is where the
    load half-way says (`Step.faster`)."""
    seconds = np.array([frame.t_s for frame in run_of("lose-fells").keyframes])
    assert (np.diff(seconds) < 1e-3).sum() < 8


def test_every_blind_time_of_the_demo_lies_within_what_is_possible():
    for drill in PLAN.drills:
        for row in run_of(drill.name).blind:
            if row.believed_at_s is not None:
                assert row.bounds.earliest_s - 1e-6 <= row.blind_s <= row.bounds.latest_s + 1e-6


if __name__ == "__main__":
    for one in PLAN.drills:
        (GOLDEN / f"{one.name}.log").write_text(log_of(one))
