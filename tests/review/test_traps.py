"""The plans that ship to show what goes wrong: the review says just that of each."""

from pathlib import Path

import pytest

from northgate.engine.drill import Losing
from northgate.engine.network import compile_network
from northgate.engine.reports.losses import alike, loss_row
from northgate.plan import read_plan
from northgate.review import review
from tests.review.plans import TODAY

EXAMPLES = Path(__file__).parents[2] / "examples"
TRAPS = {
    "client-address": {"client-blocked-at-target"},
    "empty-group": {"empty-group"},
    "health-elsewhere": {"probe-elsewhere"},
    "internal": {"internal-behind-public", "front-blocked"},
    "old-answers": {"answers-never-withdrawn", "single-point"},
    "one-rack": {"one-fault-domain", "one-wave", "single-point"},
    "otherwise": {"otherwise-no-fallback", "one-zone", "single-point"},
    "own-zone": {"own-zone-empty", "one-zone", "single-point"},
    "probe-blocked": {"probe-blocked", "nobody-in-use", "probe-elsewhere"},
    "probe-page": {"probe-path", "nobody-in-use"},
    "redirect-loop": {"redirect-loop"},
    "sticky-return": {"sessions-stay"},
    "two-of-three": {"cascade"},
}


def test_every_trap_that_ships_is_known():
    assert {path.name for path in EXAMPLES.glob("trap-*")} == {f"trap-{name}.plan.yaml" for name in TRAPS}


@pytest.mark.parametrize("name", TRAPS)
def test_the_review_says_what_is_wrong(name):
    plan = read_plan(EXAMPLES / f"trap-{name}.plan.yaml")
    network = compile_network(plan)
    losing = Losing(network)
    kinds = ("zone", "front", "fault_domain", "maintenance_wave", "instance")
    rows = [loss_row(losing, [one]) for one in alike(network) if one.kind in kinds]
    found = review(plan, TODAY, rows).findings
    # That machines are in no group, or objects unused, follows from what is wrong.
    codes = {one.code for one in found} - {"machine-idle", "unused"}
    assert codes == TRAPS[name]
    assert plan.title
    assert plan.notes
