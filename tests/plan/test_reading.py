"""Reading plans: every error at its place, with the nearest known word, and hostile text refused."""

import json
import os
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from northgate.plan import PlanError, plan_from_data, plan_from_text, read_plan
from northgate.plan.loading import load_yaml
from northgate.plan.reading import MAX_BYTES
from northgate.plan.writing import plain_data, plan_as_json, plan_as_yaml
from tests.support.plans import changed, plan_data

EXAMPLE = Path(__file__).parents[2] / "examples" / "beckwater.plan.yaml"
HEAD = "northgate: 1\nname: small\n"


def problems_of(text: str) -> list[str]:
    with pytest.raises(PlanError) as caught:
        plan_from_text(text, "a.plan.yaml")
    return [problem.describe("a.plan.yaml") for problem in caught.value.problems]


def problems_or_none(read):
    try:
        read()
    except PlanError as error:
        return error.problems
    return None


def test_the_example_is_a_plan_and_survives_writing_in_both_forms():
    plan = read_plan(EXAMPLE)
    assert plan.title == "Beckwater flood watch"
    assert plan_from_text(plan_as_yaml(plan)) == plan
    assert plan_from_text(plan_as_json(plan)) == plan


def test_json_and_yaml_of_the_same_data_are_the_same_plan():
    data = plan_data()
    assert plan_from_text(json.dumps(data)) == plan_from_data(data)


def test_what_is_written_leaves_out_what_is_as_by_default():
    written = plain_data(plan_from_data(plan_data()))
    assert written["probes"] == [{"name": "ready", "path": "/ready"}]
    assert plan_from_data(written) == plan_from_data(plan_data())


def test_an_unknown_field_is_named_with_line_column_and_the_nearest_field():
    text = HEAD + "regions:\n  - {name: fells, zones: [fells-1]}\nprobes:\n  - {name: ready, intervall_s: 10}\n"
    assert problems_of(text) == [
        "a.plan.yaml:6:19: /probes/0/intervall_s: unknown field 'intervall_s'; did you mean 'interval_s'?"
    ]


def test_an_unknown_field_deep_in_a_list_finds_the_words_of_its_own_model():
    text = HEAD + "fleets:\n  - name: a\n    zones: {z: null}\n    count: 1\n    instance: {servs: []}\n"
    assert "unknown field 'servs'; did you mean 'serves'?" in problems_of(text)[0]


def test_several_errors_are_told_together():
    text = HEAD + "probes:\n  - {name: Ready, interval_s: 0}\nclients: 3\n"
    found = problems_of(text)
    assert len(found) == 3
    assert "/probes/0/name: 'Ready' is not a name" in found[0]
    assert "/probes/0/interval_s: at least 0.001 is wanted (found 0)" in found[1]
    assert "/clients: a list is wanted (found 3)" in found[2]


def test_a_missing_field_is_placed_at_its_object():
    assert problems_of("northgate: 1\n") == ["a.plan.yaml:1:1: /name: the field 'name' is missing"]


@pytest.mark.parametrize(
    ("place", "value", "says"),
    [
        ("/target_groups/0/balance", "round-robbin", "did you mean 'round-robin'?"),
        ("/names/0/name", "www..example", "is not a DNS name"),
        ("/clients/0/calls/0/url", "www.beckwater.example", "is not a URL such as https://"),
        ("/balancers/0/addresses/0", "203.0.113.300", "is not an IPv4 or IPv6 address"),
        ("/fleets/0/count", "6", "a whole number is wanted (found '6')"),
        ("/fleets/0/count", True, "a whole number is wanted (found true)"),
        ("/fleets/0/zones", [], "a mapping is wanted (found an empty list)"),
        ("/fleets/0/instance", [1], "a mapping of fields is wanted (found a list of 1)"),
        ("/pools/0/tiers", [], "no fewer than 1 is wanted (found an empty list)"),
        ("/clients/0/rps", 1e30, "at most 1,000,000,000,000 is wanted (found 1e+30)"),
        ("/fleets/0/instance/capacity_rps", -1, "more than 0 is wanted (found -1)"),
        ("/title", None, "a text is wanted (found nothing)"),
        ("/probes/0/expect", ["200-700"], "is not a status such as 200"),
        ("/northgate", 2, "2 is not one of 1"),
        ("/balancers/0/listeners/0/protocol", "tcp", "at layer 7 a listener speaks http, https"),
        ("/target_groups/0/targets/0", {"fleet": "tiles", "instance": "a"}, "exactly one of instance, fleet"),
        ("/clients/0/profile", [[60, 1], [30, 2]], "must rise"),
    ],
)
def test_a_bad_value_is_refused_with_its_place_and_what_would_work(place, value, says):
    with pytest.raises(PlanError) as caught:
        plan_from_data(changed(plan_data(), place, value))
    assert any(says in problem.message for problem in caught.value.problems), caught.value
    assert all(place.startswith(problem.where) or problem.where.startswith(place) for problem in caught.value.problems)


@pytest.mark.parametrize(
    ("value", "told"),
    [
        ("anny", ["/firewalls/0/allow_out: 'any' or a list is wanted (found 'anny'); did you mean 'any'?"]),
        (3, ["/firewalls/0/allow_out: 'any' or a list is wanted (found 3)"]),
        ([{"to": 5, "ports": ["80"]}], ["/firewalls/0/allow_out/0/to: a text is wanted (found 5)"]),
        (
            [{"to": "any", "ports": ["80"], "list[{x}]": 1}],
            ["/firewalls/0/allow_out/0/list[{x}]: unknown field 'list[{x}]'"],
        ),
    ],
)
def test_what_may_be_of_two_kinds_is_refused_once_and_as_what_it_is_most_like(value, told):
    with pytest.raises(PlanError) as caught:
        plan_from_data(plan_data(firewalls=[{"name": "app", "allow_out": value}]))
    assert [problem.describe() for problem in caught.value.problems] == told


@pytest.mark.parametrize(
    ("cidr", "says"),
    [("10.20.0.1/16", "the network that holds it is 10.20.0.0/16"), ("10.20", "is not a network such as")],
)
def test_a_network_with_host_bits_names_the_network_meant(cidr, says):
    data = plan_data(networks=[{"name": "net", "region": "fells", "cidr": cidr}])
    with pytest.raises(PlanError, match=says):
        plan_from_data(data)


@pytest.mark.parametrize("cidr", ["10.20.0.0/16", "2001:db8::/48"])
def test_networks_are_ipv4_or_ipv6(cidr):
    plan = plan_from_data(plan_data(networks=[{"name": "net", "region": "fells", "cidr": cidr}]))
    assert plan.networks[0].cidr == cidr


def test_a_name_given_twice_is_placed_at_the_second():
    text = HEAD + "probes:\n  - {name: ready}\n  - {name: ready}\n"
    assert problems_of(text) == ["a.plan.yaml:5:5: /probes/1: another probe has the name 'ready'"]


def test_an_instance_may_not_take_the_name_of_a_fleets_instance():
    data = plan_data(instances=[{"name": "tiles-2", "zone": "fells-1"}])
    with pytest.raises(PlanError, match="another instance has the name 'tiles-2'"):
        plan_from_data(data)


def test_dangling_references_are_allowed_in_a_draft():
    plan = plan_from_data(changed(plan_data(), "/target_groups/0/probe", "nowhere"))
    assert plan.target_groups[0].probe == "nowhere"


def test_statuses_and_ports_may_be_numbers_or_ranges():
    plan = plan_from_data(changed(plan_data(), "/probes/0/expect", [204, "300-399"]))
    probe = plan.probes[0]
    assert [probe.expects(status) for status in (200, 204, 300, 399, 400)] == [False, True, True, True, False]


NASTY = {
    "a tag": (HEAD + "title: !!python/object/apply:os.system ['true']\n", "has the tag"),
    "a key twice": (HEAD + "title: a\ntitle: b\n", "the key 'title' stands twice"),
    "not a number": (HEAD + "clients:\n  - {name: a, rps: .nan, calls: []}\n", ".nan is not a number"),
    "infinity": (HEAD + "clients:\n  - {name: a, rps: .inf, calls: []}\n", ".inf is not a number"),
    "broken": (HEAD + "regions: [", "is not YAML"),
    "a list": ("- 1\n- 2\n", "is not a plan"),
    "nothing": ("", "is not a plan"),
    "a number": ("42", "is not a plan"),
    "deep": (HEAD + "title: " + "[" * 60 + "]" * 60, "deep"),
    "very deep": (HEAD + "title: " + "[" * 100_000, "3:48: is nested more than 40 deep"),
    "deep JSON": ('{"a":' * 60 + "1" + "}" * 60, "deep"),
    "very deep JSON": ('{"a":' * 100_000 + "1" + "}" * 100_000, "deep"),
    "JSON with a key twice": ('{"northgate": 1, "name": "a", "name": "b"}', "stands twice"),
    "JSON with NaN": ('{"northgate": NaN}', "NaN is not a number"),
    "broken JSON": ('{"northgate": 1,', "is not JSON"),
    "a key that is a list": (HEAD + "? [a, b]\n: 1\n", "a key that is not a word"),
    "control characters": (HEAD + "title: \x00\n", "is not YAML"),
    "a directive": ("%YAML 9.9\n---\n" + HEAD + "nope: 1\n", ""),
    "two documents": (HEAD + "---\n" + HEAD, "is not YAML"),
    "an unknown alias": (HEAD + "title: *nobody\n", "is not YAML"),
    "a huge number": (HEAD + "clients:\n  - {name: a, rps: 1e400, calls: []}\n", "1e400 is not a number"),
}


@pytest.mark.parametrize("name", NASTY)
def test_hostile_text_is_refused_with_a_reason(name):
    text, says = NASTY[name]
    assert says in "\n".join(problems_of(text))


def test_an_alias_bomb_is_refused_before_it_goes_off():
    lines = ["a0: &a0 [x, x, x, x, x, x, x, x, x, x]"]
    lines += [f"a{n}: &a{n} [{', '.join([f'*a{n - 1}'] * 10)}]" for n in range(1, 9)]
    assert "holds more than" in problems_of(HEAD + "\n".join(lines))[0]


def test_a_file_that_is_too_large_or_not_text_is_refused(tmp_path):
    large, binary = tmp_path / "large.plan.yaml", tmp_path / "binary.plan.yaml"
    large.write_bytes(b"#" * (MAX_BYTES + 1))
    binary.write_bytes(b"northgate: \xff\xfe")
    for path, says in ((large, "larger than"), (binary, "not UTF-8"), (tmp_path / "none", "No such file")):
        with pytest.raises(PlanError, match=says):
            read_plan(path)


@given(st.text(max_size=300))
def test_no_text_at_all_makes_the_reader_stumble(text):
    problems = problems_or_none(lambda: plan_from_text(text))
    assert problems is None or problems


JSON_VALUES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False, allow_infinity=False) | st.text(max_size=12),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=8), inner, max_size=4),
    max_leaves=12,
)


@given(st.sampled_from(sorted(plan_data())), JSON_VALUES)
def test_any_value_in_any_field_is_taken_or_refused_with_a_place(field, value):
    problems = problems_or_none(lambda: plan_from_data({**plan_data(), field: value}))
    assert all(problem.where.startswith(f"/{field}") for problem in problems or [])


@pytest.mark.parametrize(
    ("text", "meant"),
    [
        ("yes", "yes"), ("on", "on"), ("True", True), ("~", None), ("", None), ("0o17", 15), ("0x1f", 31), ("017", 17),
        ("1_000", 1000), ("-3", -3), ("1.5", 1.5), ("1e3", 1000.0), ("'1'", "1"), ('"true"', "true"),
        ("2027-09-01", "2027-09-01"), ("!!str 3", "3"), ("!!int 3", 3), ("{a: 1}", {"a": 1}),
        ("[a, https://x.example/y]", ["a", "https://x.example/y"]),
        ("1:30", "1:30"), ("|\n  a\n  b", "a\nb\n"),
    ],
)  # fmt: skip
def test_words_mean_what_the_core_schema_says(text, meant):
    data, _ = load_yaml(f"x: {text}\n")
    assert data == {"x": meant}
    assert type(data["x"]) is type(meant)


def test_aliases_stand_for_what_they_name_and_are_counted_out():
    data, places = load_yaml("a: &a {b: [1, 2]}\nc: *a\nd: [*a, *a]\n")
    assert data == {"a": {"b": [1, 2]}, "c": {"b": [1, 2]}, "d": [{"b": [1, 2]}] * 2}
    assert (places["a", "b", 1], places["c",], places["d", 1]) == ((1, 15), (2, 1), (3, 9))
    nine = "a: &a [x,x,x,x,x,x,x,x,x]\n"
    for one, before in zip("bcdefgh", "abcdefg", strict=True):
        nine += f"{one}: &{one} [{', '.join([f'*{before}'] * 9)}]\n"
    with pytest.raises(PlanError, match="values, aliases counted out"):
        load_yaml(nine)
    with pytest.raises(PlanError, match="signs, aliases counted out"):
        load_yaml('a: &a "' + "n" * 1_000_000 + '"\nb: [' + "*a, " * 60_000 + "]\n")
    with pytest.raises(PlanError, match="undefined alias 'a'"):
        load_yaml("a: &a [*a]\n")


def test_reading_takes_time_by_the_size_alone_and_problems_are_cut():
    """A hundred thousand unknown fields, told as twenty and how many more."""
    text = HEAD + "".join(f"field-{n}: 1\n" for n in range(100_000))
    problems = problems_of(text)
    assert len(problems) == 21
    assert problems[-1].endswith("and 99,980 more")


@pytest.mark.parametrize("what", ["/dev/zero", "folder", "fifo"])
def test_what_is_no_regular_file_is_refused(tmp_path, what):
    path = tmp_path / what if what != "/dev/zero" else Path(what)
    if what == "folder":
        path.mkdir()
    elif what == "fifo":
        os.mkfifo(path)
    with pytest.raises(PlanError, match="regular file"):
        read_plan(path)


def test_more_machines_than_can_be_counted_are_refused():
    fleet = "fleets: [{name: f, zones: {fells-1: null}, count: 1000000}]\n"
    (problem,) = problems_of(HEAD + "regions: [{name: fells, zones: [fells-1]}]\n" + fleet)
    assert "holds 1,000,000 machines, a plan at most 200,000" in problem
