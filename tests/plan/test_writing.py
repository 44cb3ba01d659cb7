"""Writing YAML: comments, order and wording stay, only what was edited changes."""

import difflib

import pytest
from hypothesis import given, settings

from northgate.plan import PlanError, plan_from_data, plan_from_text
from northgate.plan.editing import patched
from northgate.plan.writing import plan_as_yaml
from tests.plan.test_reading import EXAMPLE
from tests.support.exploring import examples
from tests.support.strategies import plans_with_a_drill

TEXT = EXAMPLE.read_text()


def changed_lines(patch):
    plan = patched(plan_from_text(TEXT), patch)
    written = plan_as_yaml(plan, TEXT)
    assert plan_from_text(written) == plan
    unedited = plan_as_yaml(plan_from_text(TEXT), TEXT)
    diff = difflib.ndiff(unedited.splitlines(), written.splitlines())
    return [line for line in diff if line[0] in "+-"]


def test_writing_what_was_not_edited_keeps_every_comment_and_the_order():
    written = plan_as_yaml(plan_from_text(TEXT), TEXT)
    comments = [line.strip() for line in TEXT.splitlines() if line.strip().startswith("#")]
    assert [line.strip() for line in written.splitlines() if line.strip().startswith("#")] == comments
    assert plan_from_text(written) == plan_from_text(TEXT)


def test_one_value_changes_one_line():
    lines = changed_lines([{"op": "replace", "path": "/probes/0/interval_s", "value": 5}])
    assert len(lines) == 2
    assert "interval_s: 10" in lines[0]
    assert "interval_s: 5," in lines[1]


def test_a_value_that_was_by_default_is_added_to_its_object():
    lines = changed_lines([{"op": "replace", "path": "/target_groups/0/reach", "value": "zone"}])
    assert [line.strip("+- ") for line in lines] == ["reach: zone"]


def test_removing_an_item_keeps_the_comments_of_the_others():
    lines = changed_lines([{"op": "remove", "path": "/drills/1"}])
    assert all(line.startswith("-") for line in lines)
    assert any("tiles-8-crashes" in line for line in lines)


def test_an_added_item_stands_at_the_end_and_reads_well():
    probe = {"name": "quick", "interval_s": 2.5, "timeout_s": 1}
    lines = changed_lines([{"op": "add", "path": "/probes/-", "value": probe}])
    assert [line.strip("+ ") for line in lines] == ["- {name: quick, interval_s: 2.5, timeout_s: 1}"]


def test_a_reordered_list_keeps_each_items_own_text():
    lines = changed_lines([{"op": "move", "from": "/drills/1", "path": "/drills/0"}])
    assert {line[2:] for line in lines if line[0] == "+"} == {line[2:] for line in lines if line[0] == "-"}


@settings(max_examples=examples(10), deadline=None)
@given(plans_with_a_drill(), plans_with_a_drill())
def test_any_plan_written_over_any_others_text_reads_back_as_itself(one, other):
    text = plan_as_yaml(plan_from_data(one))
    plan = plan_from_data(other)
    assert plan_from_text(plan_as_yaml(plan, text)) == plan


@pytest.mark.parametrize("source", [None, '{"northgate": 1, "name": "small"}'])
def test_without_yaml_to_keep_a_fresh_text_is_written(source):
    plan = plan_from_text(TEXT)
    assert plan_from_text(plan_as_yaml(plan, source)) == plan


SHARED = """\
# Ours.
northgate: 1
name: two
regions: [{name: fells, zones: [fells-1, fells-2]}]
fleets:
  - {name: one, count: 2, zones: {fells-1: , fells-2: }, instance: &machine {capacity_rps: 100, service_ms: 5}}
  - {name: two, count: 2, zones: {fells-1: , fells-2: }, instance: *machine}  # like one
"""


def test_what_two_share_is_written_apart_where_only_one_of_them_changes():
    plan = plan_from_text(SHARED)
    machine = plan.fleets[0].instance.model_copy(update={"capacity_rps": 70.0})
    edited = plan.model_copy(
        update={"fleets": [plan.fleets[0].model_copy(update={"instance": machine}), plan.fleets[1]]}
    )
    text = plan_as_yaml(edited, SHARED)
    assert plan_from_text(text) == edited
    assert text.startswith("# Written anew: the text that this plan was read from could not hold")
    # As long as nothing of what they share changes, the text stays, anchor and all.
    kept = plan_as_yaml(plan.model_copy(update={"title": "Two"}), SHARED)
    assert "*machine} # like one" in kept
    assert "# Ours." in kept


def test_the_order_of_zones_is_kept_for_machines_stand_by_it():
    plan = plan_from_text(SHARED)
    turned = plan.fleets[0].model_copy(update={"zones": {"fells-2": None, "fells-1": None}})
    edited = plan.model_copy(update={"fleets": [turned, plan.fleets[1]]})
    read = plan_from_text(plan_as_yaml(edited, SHARED))
    assert list(read.fleets[0].zones) == ["fells-2", "fells-1"]
    assert [one.zone for one in read.fleets[0].instances()] == ["fells-2", "fells-1"]


@pytest.mark.parametrize(
    "text", ["\nx", " lead", "tail ", "a\tb", ": y", "? k", "- a", "null", "1e3", "~", "é🌊", "a\n\nb", "#"]
)
def test_a_text_comes_back_as_it_was(text):
    plan = plan_from_text(SHARED).model_copy(update={"notes": text})
    assert plan_from_text(plan_as_yaml(plan, SHARED)).notes == text
    assert plan_from_text(plan_as_yaml(plan)).notes == text


@pytest.mark.parametrize("sign", ["\x07", "\x1b[31m", "\x85", "\x00", "\x7f"])
def test_what_a_terminal_would_obey_is_refused_with_its_place(sign):
    with pytest.raises(PlanError) as caught:
        plan_from_data({"northgate": 1, "name": "x", "drills": [{"name": "d", "title": f"red{sign}alert"}]})
    (problem,) = caught.value.problems
    assert problem.where == "/drills/0/title"
    assert f"the control character U+{ord(sign[0]):04X}" in problem.message
