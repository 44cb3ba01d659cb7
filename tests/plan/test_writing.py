"""Writing YAML: comments, order and wording stay, only what was edited changes."""

import difflib
import re
from io import StringIO
from random import Random

import pytest
from hypothesis import given, settings
from ruamel.yaml import YAML

from northgate.plan import PlanError, plan_from_data, plan_from_text, read_plan
from northgate.plan.editing import patched, renaming
from northgate.plan.problems import pointer
from northgate.plan.writing import plain_data, plan_as_yaml
from tests.plan.test_reading import EXAMPLE
from tests.simulation.random_plans import random_plan
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


def commented(plan, seed):
    """A text of a plan with comments at many places, of lines of their own and behind others."""
    rng, lines = Random(seed), []
    for number, line in enumerate(plan_as_yaml(plan).splitlines()):
        indent = line[: len(line) - len(line.lstrip())]
        lines += [f"{indent}# above {number}"] if rng.random() < 0.15 else []
        lines.append(f"{line}  # behind {number}" if rng.random() < 0.5 else line)
    return "\n".join(lines) + "\n"


def comments_in(text):
    return set(re.findall("# (?:above|behind) [0-9]+", text))


def numbers_in(here, place=()):
    """The places of all numbers in a document."""
    if isinstance(here, int | float) and not isinstance(here, bool):
        yield place, here
    parts = here.items() if isinstance(here, dict) else enumerate(here) if isinstance(here, list) else ()
    for key, value in parts:
        yield from numbers_in(value, (*place, key))


@pytest.mark.parametrize("seed", range(examples(12)))
def test_no_comment_is_lost_wherever_it_stands(seed):
    """Not a letter changes without an edit; with one its line alone, or what is by default until now is added."""
    plan = plan_from_data(random_plan(seed))
    text = commented(plan, seed)
    assert plan_as_yaml(plan, text) == text
    places = list(numbers_in(plain_data(plan)))
    for place, value in Random(seed).sample(places, 6):
        if place[0] == "northgate":
            continue
        try:
            edited = patched(plan, [{"op": "replace", "path": pointer(place), "value": value + 1}])
        except PlanError:
            continue
        written = plan_as_yaml(edited, text)
        assert plan_from_text(written) == edited
        assert comments_in(written) == comments_in(text), place
        differ = [line for line in difflib.ndiff(text.splitlines(), written.splitlines()) if line[0] in "+-"]
        assert len(differ) == 2, place


NAMED = """\
northgate: 1  # ours
name: named
regions:
  - {name: fells, zones: [fells-1, fells-2]}
fleets:
  # The tiles.
  - name: tiles
    # Two of them.
    count: 2
    zones: {fells-1: null, fells-2: null} # both
    instance: {serves: []}
target_groups:
  - name: web
    port: 80
    # All of them.
    targets:
      - fleet: tiles
pools:
  - name: all
    tiers:
      # The first.
      - groups:
          web: 1 # alone
drills:
  # Later.
  - name: none
    lasts_s: 60
"""


def test_what_is_renamed_keeps_its_comments_and_its_place():
    plan = plan_from_text(NAMED)
    other = patched(plan, renaming(plan, "fleet", "tiles", "maps"))
    other = patched(other, renaming(other, "zone", "fells-1", "fells-9"))
    written = plan_as_yaml(patched(other, renaming(other, "target_group", "web", "site")), NAMED)
    lines = {"tiles": "maps", "fells-1": "fells-9", "web": "site"}
    wanted = NAMED
    for was, now in lines.items():
        wanted = re.sub(rf"(?<=[ {{\[]){was}(?=[\n,:}}\]])", now, wanted)
    assert written == wanted


def test_lines_that_end_as_elsewhere_keep_their_comments_once():
    plan = plan_from_text(NAMED)
    edited = patched(plan, [{"op": "replace", "path": "/fleets/0/count", "value": 3}])
    assert plan_as_yaml(edited, NAMED.replace("\n", "\r\n")) == plan_as_yaml(edited, NAMED)


def test_where_a_list_stands_after_nothing_its_style_is_none():
    text = NAMED.replace("    count: 2\n", "    count: 2\n    scale:\n").replace("# both", "# both, and none of it")
    plan = plan_from_text(text)
    assert plan_as_yaml(plan, text) == text
    written = plan_as_yaml(patched(plan, [{"op": "replace", "path": "/fleets/0/count", "value": 3}]), text)
    assert written == text.replace("count: 2", "count: 3")


@pytest.mark.parametrize(("indent", "dash"), [(2, 0), (4, 0), (4, 2), (3, 1), (8, 4)])
def test_a_text_keeps_its_own_indents(indent, dash):
    """Whatever wrote it: one edit changes one line."""
    yaml, stream = YAML(), StringIO()
    yaml.indent(mapping=indent, sequence=dash + 2, offset=dash)
    plan = read_plan(EXAMPLE)
    yaml.dump(plain_data(plan), stream)
    text = stream.getvalue()
    written = plan_as_yaml(
        patched(plan, [{"op": "replace", "path": "/pools/0/tiers/0/groups/tiles", "value": 7}]), text
    )
    differ = [line for line in difflib.ndiff(text.splitlines(), written.splitlines()) if line[0] in "+-"]
    assert [line.split() for line in differ] == [["-", "tiles:", "95"], ["+", "tiles:", "7"]]


def test_what_is_put_in_another_order_stays_in_its_text():
    plan = plan_from_text(NAMED)
    swapped = {"fells-2": None, "fells-1": None}
    edited = patched(plan, [{"op": "replace", "path": "/fleets/0/zones", "value": swapped}])
    written = plan_as_yaml(edited, NAMED)
    assert written == NAMED.replace("fells-1: null, fells-2: null", "fells-2: null, fells-1: null")


def test_a_list_that_is_emptied_leaves_the_rest_as_it_is():
    plan = plan_from_text(NAMED)
    written = plan_as_yaml(patched(plan, [{"op": "replace", "path": "/drills", "value": []}]), NAMED)
    assert written == NAMED[: NAMED.index("drills:")] + "drills: []\n"


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
    assert kept == SHARED + "title: Two\n"


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
