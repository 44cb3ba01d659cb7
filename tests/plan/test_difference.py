"""What differs between two plans: where, in words, and whether it replaces the thing."""

import pytest

from northgate.plan import plan_from_data
from northgate.plan.difference import difference
from tests.support.plans import changed, plan_data

REASON = {"code": "one-zone", "about": "tiles", "because": "a trial"}


def told(data, before=None):
    return [(one.where, one.about, one.words, one.effect) for one in difference(
        plan_from_data(before or plan_data()), plan_from_data(data))]  # fmt: skip


@pytest.mark.parametrize(
    ("data", "wanted"),
    [
        (changed(plan_data(), "/probes/0/interval_s", 5),
         ("/probes/0", "probe ready", "every 5 s, was 10 s", "in place")),
        (changed(plan_data(platform={"replace_only": ["balancer.layer", "listener.port"]}),
                 "/balancers/0/listeners/0/port", 8443),
         ("/balancers/0", "balancer front", "listeners https port 8443, was 443", "replace")),
        (plan_data(accepted=[REASON]),
         ("/accepted", "finding one-zone of tiles", "left as it is, because a trial", "in place")),
        (plan_data(reliability={"zone": {"per_year": 1, "repair_s": 60}}),
         ("/reliability", "reliability", "zone per year 1, repair 60, was nothing", "in place")),
    ],
)  # fmt: skip
def test_a_change_is_told_with_its_place(data, wanted):
    before = plan_data(platform=data["platform"]) if "platform" in data else None
    assert wanted in told(data, before)


def test_what_is_gone_is_where_it_was_and_reasons_are_taken_up_again():
    more = plan_data()
    more["probes"].append({"name": "idle"})
    assert told(plan_data(), more) == [("/probes/1", "probe idle", "removed", "removed")]
    assert told(plan_data(), plan_data(accepted=[REASON])) == [
        ("/accepted", "finding one-zone of tiles", "taken up again", "in place"),
    ]  # fmt: skip
