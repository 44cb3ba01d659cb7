"""Edits: JSON Patch on the whole document, and the patches that renaming and deleting need."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from northgate.plan import PlanError, plan_from_data, plan_from_text
from northgate.plan.difference import difference, place_words
from northgate.plan.editing import patch_between, patched, removal, renaming, users_of, whole_data
from northgate.plan.references import dangling, definitions
from tests.plan.test_reading import EXAMPLE
from tests.simulation.random_plans import random_plan
from tests.support.exploring import examples
from tests.support.plans import base_plan, plan_data

DEMO = plan_from_text(EXAMPLE.read_text())
OBJECTS = [(kind, name) for kind, name, _ in definitions(DEMO)]
RENAMED = [(kind, name) for kind, name in OBJECTS if kind not in ("name", "drill")]


def test_a_patch_addresses_the_document_with_every_default():
    plan = patched(base_plan(), [{"op": "replace", "path": "/target_groups/0/affinity/by", "value": "cookie"}])
    assert plan.target_groups[0].affinity.by == "cookie"


@pytest.mark.parametrize(
    ("patch", "where", "says"),
    [
        (
            [{"op": "replace", "path": "/probes/0/interval_s", "value": -1}],
            "/probes/0/interval_s",
            "at least 0.001 is wanted",
        ),
        ([{"op": "replace", "path": "/probes/7/interval_s", "value": 1}], "/probes/7/interval_s", "cannot be applied"),
        ([{"op": "add", "path": "/probes/0/intervall_s", "value": 1}], "/probes/0/intervall_s", "did you mean"),
        ([{"op": "test", "path": "/name", "value": "other"}], "/name", "not what the patch expects"),
        ([{"op": "remove", "path": "/name"}], "/name", "is missing"),
        ([{"op": "add", "path": "/probes/-", "value": {"name": "ready"}}], "/probes/1", "another probe"),
    ],
)
def test_what_a_patch_gets_wrong_is_placed(patch, where, says):
    with pytest.raises(PlanError) as caught:
        patched(base_plan(), patch)
    assert caught.value.problems[0].where == where
    assert says in caught.value.problems[0].message


def test_the_patch_between_two_plans_leads_from_one_to_the_other():
    other = base_plan(title="other", probes=[])
    assert patched(base_plan(), patch_between(base_plan(), other)) == other


@pytest.mark.parametrize(("kind", "name"), OBJECTS)
def test_deleting_any_object_with_its_references_leaves_nothing_dangling(kind, name):
    left = patched(DEMO, removal(DEMO, kind, name))
    assert (kind, name) not in [(known_kind, known) for known_kind, known, _ in definitions(left)]
    assert dangling(left) == []


@pytest.mark.parametrize(("kind", "name"), RENAMED)
def test_renaming_any_object_takes_its_references_along(kind, name):
    before = len(users_of(DEMO, kind, name))
    after = patched(DEMO, renaming(DEMO, kind, name, "renamed"))
    assert dangling(after) == []
    assert len(users_of(after, kind, "renamed")) == before


@given(st.integers(0, 400), st.integers(0, 10**6))
def test_objects_of_any_plan_are_deleted_and_renamed(seed, pick):
    plan = plan_from_data(random_plan(seed))
    objects = [(kind, name) for kind, name, _ in definitions(plan)]
    kind, name = objects[pick % len(objects)]
    assert dangling(patched(plan, removal(plan, kind, name))) == []
    if kind != "name":
        renamed = patched(plan, renaming(plan, kind, name, "renamed"))
        assert dangling(renamed) == []
        assert patched(renamed, renaming(renamed, kind, "renamed", name)) == plan


def test_with_an_end_of_a_link_the_step_goes_in_which_it_fails():
    link = {"link": ["fells-1", "fells-2"]}
    steps = [{"at_s": 1, "fail": link}, {"at_s": 2, "fail": {"zone": "fells-3"}}, {"at_s": 3, "restore": link}]
    plan = base_plan(drills=[{"name": "d", "steps": steps}])
    left = patched(plan, removal(plan, "zone", "fells-2"))
    assert [one.at_s for one in left.drills[0].steps] == [2]


def test_deleting_what_is_not_there_is_an_error():
    with pytest.raises(PlanError, match="there is no probe 'redy'"):
        removal(DEMO, "probe", "redy")


VALUES = st.one_of(
    st.none(), st.booleans(), st.integers(-5, 500), st.text(max_size=5), st.lists(st.integers(), max_size=2)
)


@given(
    st.sampled_from(["add", "replace", "remove", "test"]),
    st.sampled_from(["", "/", "/probes", "/probes/0", "/probes/-", "/names/0/ttl_s", "/nope/1", "probes", "/~2"]),
    VALUES,
)
def test_any_operation_is_applied_or_refused(op, path, value):
    try:
        plan = patched(base_plan(), [{"op": op, "path": path, "value": value}])
    except PlanError:
        return
    assert whole_data(plan)["northgate"] == 1


def words(patch, **more):
    before = base_plan(**more)
    return [(one.about, one.words, one.effect) for one in difference(before, patched(before, patch))]


def test_a_difference_reads_like_a_sentence():
    assert words([{"op": "replace", "path": "/probes/0/interval_s", "value": 30}]) == [
        ("probe ready", "every 30 s, was 10 s", "in place")
    ]
    assert words([{"op": "replace", "path": "/names/0/ttl_s", "value": 5}]) == [
        ("name www.beckwater.example", "TTL 5 s, was 60 s", "in place")
    ]


def test_what_the_platform_cannot_change_in_place_is_replaced():
    platform = {"replace_only": ["balancer.exposure", "listener.port"]}
    patch = [
        {"op": "replace", "path": "/balancers/0/exposure", "value": "internal"},
        {"op": "replace", "path": "/balancers/0/idle_timeout_s", "value": 90},
        {"op": "replace", "path": "/balancers/0/listeners/0/port", "value": 8443},
    ]
    assert [(told, effect) for _, told, effect in words(patch, platform=platform)] == [
        ("exposure internal, was public", "replace"),
        ("idle timeout 90 s, was 60 s", "in place"),
        ("listeners https port 8443, was 443", "replace"),
    ]


def test_added_removed_and_reordered_objects_are_told():
    patch = [{"op": "add", "path": "/probes/0", "value": {"name": "first"}}, {"op": "remove", "path": "/drills/0"}]
    told = words(patch, drills=[{"name": "d"}])
    assert told == [("probe first", "added", "added"), ("drill d", "removed", "removed")]
    swap = [{"op": "move", "from": "/probes/1", "path": "/probes/0"}]
    probes = [{"name": "a"}, {"name": "b"}]
    data = plan_data(probes=probes)
    assert words(swap, probes=data["probes"]) == [("probes", "other order", "in place")]


def with_rules():
    balancers = plan_data()["balancers"]
    rules = [{"name": name, "when": {"path": [f"/{name}/*"]}, "do": {"pool": "web"}} for name in ("maps", "alerts")]
    balancers[0]["listeners"][0]["rules"] = rules
    return balancers


def test_another_order_of_rules_is_a_change():
    rules = "/balancers/0/listeners/0/rules"
    told = words([{"op": "move", "from": f"{rules}/1", "path": f"{rules}/0"}], balancers=with_rules())
    assert told == [("balancer front", "listeners https rules in another order: alerts, maps", "in place")]


def test_another_name_is_told_as_one_change():
    rename = renaming(base_plan(), "target_group", "tiles", "charts")
    assert words(rename) == [("target group charts", "name charts, was tiles", "in place")]
    longer = [*rename, {"op": "replace", "path": "/target_groups/0/drain_s", "value": 90}]
    assert words(longer)[1:] == [("target group charts", "draining takes 90 s, was 30 s", "in place")]
    rule = [{"op": "replace", "path": "/balancers/0/listeners/0/rules/0/name", "value": "charts"}]
    told = words(rule, balancers=with_rules())
    assert told == [("balancer front", "listeners https rules charts, was named maps", "in place")]


def test_what_is_another_thing_is_no_new_name():
    patch = [
        {"op": "remove", "path": "/probes/0"},
        {"op": "add", "path": "/probes/-", "value": {"name": "b", "path": "/b"}},
    ]
    probes = [{"name": "a", "path": "/a"}, {"name": "ready"}]
    told = words(patch, probes=probes)
    assert told == [("probe a", "removed", "removed"), ("probe b", "added", "added")]


def test_a_place_is_told_as_people_call_it():
    places = [place_words(DEMO, one.location) for one in users_of(DEMO, "pool", "api")]
    assert places == [
        f"balancer {front}: listeners https rules alerts do pool" for front in ("fells-front", "coast-front")
    ]
    assert place_words(DEMO, ("probes", 0)) == "probe ready"
    assert place_words(DEMO, ("drills", 0, "steps", 1, "restore", "zone")) == "drill lose-fells-2: steps 2 restore zone"
    assert place_words(DEMO, ("platform", "prices")) == "platform"


def test_equal_plans_have_no_difference():
    assert difference(DEMO, plan_from_text(EXAMPLE.read_text())) == []


@pytest.mark.parametrize("seed", range(examples(4)))
def test_what_is_renamed_stands_where_it_stood(seed):
    """Machines are spread over zones in their order: each stands in the same zone, whatever that is called."""
    plan = plan_from_data(random_plan(seed))
    for zone in [zone for region in plan.regions for zone in region.zones]:
        made = patched(plan, renaming(plan, "zone", zone, "elsewhere"))
        was = [one.zone for one in plan.machines]
        assert [one.zone for one in made.machines] == ["elsewhere" if one == zone else one for one in was]
