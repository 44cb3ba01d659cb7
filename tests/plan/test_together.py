"""Changes that must go together are offered as one edit."""

import pytest

from northgate.plan import PlanError, plan_from_data
from northgate.plan.editing import patched
from northgate.plan.together import completed
from tests.support.plans import plan_data


def replacing(path, value):
    return [{"op": "replace", "path": path, "value": value}]


def plan_with(**more):
    data = plan_data()
    data["certificates"] = [{"name": "public", "hosts": ["www.beckwater.example"]}]
    rules = [{"name": "maps", "when": {"path": ["/maps/*"]}, "do": {"pool": "web"}}]
    listeners = [
        {"name": "https", "protocol": "https", "port": 443, "rules": rules, "otherwise": {"pool": "web"}},
        {"name": "http", "protocol": "http", "port": 80, "otherwise": {"redirect": {"protocol": "https"}}},
    ]
    listeners[0]["certificate"] = "public"
    data["balancers"][0]["listeners"] = listeners
    data["target_groups"][0]["affinity"] = {"by": "cookie"}
    return plan_from_data(data | more)


def refused_but_completed(plan, patch):
    with pytest.raises(PlanError):
        patched(plan, patch)
    return patched(plan, completed(plan, patch))


def spoken(balancer):
    return [one.protocol for one in balancer.listeners]


def test_a_layer_takes_listeners_and_groups_along():
    four = refused_but_completed(plan_with(), replacing("/balancers/0/layer", 4))
    assert (four.balancers[0].layer, spoken(four.balancers[0])) == (4, ["tls", "tcp"])
    assert [one.rules for one in four.balancers[0].listeners] == [[], []]
    assert [one.otherwise.pool for one in four.balancers[0].listeners] == ["web", "web"]
    assert (four.target_groups[0].protocol, four.target_groups[0].affinity.by) == ("tcp", "source")
    seven = refused_but_completed(four, replacing("/balancers/0/layer", 7))
    assert (seven.balancers[0].layer, spoken(seven.balancers[0])) == (7, ["https", "http"])
    assert seven.target_groups[0].protocol == "http"
    assert seven.balancers[0].listeners[0].certificate == "public"


def test_a_listeners_protocol_takes_the_layer_and_the_other_listeners_along():
    plan = refused_but_completed(plan_with(), replacing("/balancers/0/listeners/1/protocol", "udp"))
    assert (plan.balancers[0].layer, spoken(plan.balancers[0])) == (4, ["tls", "udp"])


def test_a_group_that_a_balancer_of_another_layer_uses_stays_as_it_is():
    plan = plan_with()
    other = plan.balancers[0].model_copy(update={"name": "other"})
    plan = plan.model_copy(update={"balancers": [*plan.balancers, other]})
    four = refused_but_completed(plan, replacing("/balancers/0/layer", 4))
    assert (four.target_groups[0].protocol, four.target_groups[0].affinity.by) == ("http", "cookie")
    assert spoken(four.balancers[1]) == ["https", "http"]


@pytest.mark.parametrize(("end", "value", "scale"), [("min", 9, (9, 9)), ("max", 2, (2, 2))])
def test_the_ends_of_a_scale_go_together(end, value, scale):
    data = plan_data()
    data["fleets"][0]["scale"] = {"min": 3, "max": 6, "target_utilisation": 0.6}
    plan = refused_but_completed(plan_from_data(data), replacing(f"/fleets/0/scale/{end}", value))
    assert (plan.fleets[0].scale.min, plan.fleets[0].scale.max) == scale


def test_a_listener_that_only_redirects_needs_a_pool_at_layer_4():
    listener = {"name": "http", "protocol": "http", "port": 80, "otherwise": {"redirect": {"protocol": "https"}}}
    data = plan_data(pools=[])
    data["balancers"][0]["listeners"] = [listener]
    assert completed(plan_from_data(data), replacing("/balancers/0/layer", 4)) is None


@pytest.mark.parametrize(
    "patch",
    [
        replacing("/balancers/0/layer", "four"),
        replacing("/balancers", 3),
        replacing("/balancers/0/listeners", [None]),
        replacing("/probes/0/interval_s", -1),
    ],
)
def test_nothing_is_offered_where_nothing_would_mend_it(patch):
    with pytest.raises(PlanError):
        patched(plan_with(), patch)
    assert completed(plan_with(), patch) is None
