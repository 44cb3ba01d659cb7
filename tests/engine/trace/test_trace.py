"""Traces: each hop with its reason, how a request ends, and many requests against their expected shares."""

import datetime

import jsonpatch
import pytest
from msgspec.structs import replace
from scipy import stats

from northgate.engine.base.errors import CannotRun
from northgate.engine.drill.run import run_drill, undisturbed
from northgate.engine.reports import board_state
from northgate.engine.solver.solve import Solver
from northgate.engine.trace.history import History
from northgate.engine.trace.probe import trace_probe
from northgate.engine.trace.question import Question
from northgate.engine.trace.trace import trace
from northgate.engine.truth.encounter import encounter
from northgate.engine.truth.faults import truth_under
from northgate.engine.truth.paths import Paths
from northgate.plan import plan_from_data
from northgate.plan.models.faults import Part
from tests.engine.drill.test_traffic import behind, drawn, layer_4, rule, slow_and_quick
from tests.engine.network.test_names import two_regions
from tests.support.plans import changed, fail, network_of, plan_data

URL = "https://www.beckwater.example/tiles/7"


def asked(data, url=URL, *, at=None, steps=(), client="walkers", **question):
    """A trace on a plan: now, or at a second of a drill with these steps."""
    script = {"name": "test", "lasts_s": 900, "phases": "worst", "steps": list(steps)}
    network = network_of({**data, "drills": [script]})
    if at is None:
        return trace(undisturbed(network), Question(url=url, client=client, **question))
    run = run_drill(network, network.plan.drills[0])
    flow = run.flow_at(at)
    return trace(flow, Question(url=url, client=client, **question), History(flow, run, at))


def hops(answer):
    return {hop.kind: hop for hop in answer.hops}


def test_a_served_request_says_why_at_every_hop():
    answer = asked(plan_data())
    assert [hop.kind for hop in answer.hops] == [
        "name",
        "address",
        "listener",
        "rule",
        "pool",
        "group",
        "target",
        "service",
    ]
    assert all(hop.ok and hop.because for hop in answer.hops)
    end = answer.outcome
    assert (end.status, end.error, end.target, end.zone) == (200, None, "tiles-1", "fells-1")
    assert end.latency_ms == pytest.approx(12 + hops(answer)["service"].latency_ms)
    shares = [one.share for one in hops(answer)["target"].candidates]
    assert shares == pytest.approx([1 / 6] * 6)
    assert [one.chosen for one in hops(answer)["target"].candidates].count(True) == 1


def test_round_robin_gives_everyone_exactly_their_turns():
    answer = asked(plan_data(), times=18)
    assert answer.counts == {f"tiles-{number}": 3 for number in range(1, 7)}
    assert len(answer.answers) == len(answer.sequence) == 18
    assert [answer.expected[place].answer for place in answer.sequence] == answer.answers
    weighted = changed(plan_data(), "/target_groups/0/targets", [{"fleet": "tiles"}, {"instance": "big", "weight": 4}])
    weighted["instances"] = [{"name": "big", "zone": "fells-1", "serves": [{"port": 8080, "protocol": "http"}]}]
    assert asked(weighted, times=30).counts["big"] == 12


@pytest.mark.parametrize("balance", ["round-robin", "least-connections", "two-choices"])
@pytest.mark.parametrize("vary", ["connection", "source"])
def test_counts_keep_to_the_solvers_shares(balance, vary):
    answer = asked(slow_and_quick(balance), times=360, vary=vary)
    for row in answer.expected:
        assert abs(row.count - row.expected_share * 360) <= 3, "each front takes turns by itself, to within one"
    assert sum(row.expected_share for row in answer.expected) == pytest.approx(1)


@pytest.mark.parametrize(("balance", "vary"), [("source-hash", "source"), ("flow-hash", "connection")])
def test_hashed_choices_spread_as_the_shares_say(balance, vary):
    data = changed(plan_data(), "/target_groups/0/balance", balance)
    answer = asked(data, times=1000, vary=vary)
    counts = [row.count for row in answer.expected]
    assert stats.chisquare(counts, [row.expected_share * 1000 for row in answer.expected]).pvalue > 0.001


def test_what_is_kept_stays_where_it_is():
    sticky = changed(plan_data(), "/target_groups/0/affinity", {"by": "cookie"})
    assert len(asked(sticky, times=20, session="kept", vary="kept").counts) == 1
    assert len(asked(sticky, times=20, session="kept").counts) == 1, "whichever front a new connection comes through"
    by_source = changed(plan_data(), "/target_groups/0/affinity", {"by": "source"})
    stays = asked(by_source, times=20)
    assert len(stays.counts) == 1
    assert [one.puzzle for one in stays.explained] == ["Why does refreshing always land on the same target?"]
    assert len(asked(sticky, times=20, session="none").counts) == 6
    assert len(asked(changed(plan_data(), "/target_groups/0/balance", "source-hash"), times=20).counts) == 1
    assert len(asked(layer_4(), times=20, vary="kept").counts) == 1
    assert len(asked(plan_data(), times=20, vary="kept").counts) == 6, "at layer 7 each request is chosen for anew"


def test_at_layer_4_nobody_sees_a_cookie():
    answer = asked(changed(layer_4(), "/target_groups/0/affinity", {"by": "cookie"}), times=12, session="kept")
    assert len(answer.counts) == 6
    (turns,) = [one for one in answer.explained if "take turns" in one.puzzle]
    assert "by cookie, which a balancer of layer 4 never sees" in turns.words
    assert turns.remedy.patch[0]["value"] == "source"


def test_a_kept_connection_carries_so_many_requests_then_comes_the_next():
    """`requests_per_connection`: at layer 4 each connection leads to one target, and the next is chosen for anew."""
    data = layer_4()
    data["clients"][0]["requests_per_connection"] = 5
    answers = asked(data, times=20, vary="kept").answers
    connections = [answers[start : start + 5] for start in range(0, 20, 5)]
    assert all(len(set(one)) == 1 for one in connections)
    assert len({one[0] for one in connections}) == 4, "turns go round"
    expected = asked(data, times=20, vary="kept").expected
    assert [row.expected_share for row in expected] == pytest.approx([1 / 6] * 6)


def test_areas_in_turn_see_their_own_region():
    answer = asked(two_regions(choose="nearest"), times=8, vary="area")
    zones = [answer.expected[place].zone for place in answer.sequence]
    assert zones[1::2] == ["coast-1"] * 4
    assert all(zone.startswith("fells") for zone in zones[::2])
    puzzle = next(one for one in answer.explained if "another region" in one.puzzle)
    assert puzzle.remedy.patch[0]["value"] == "order"


def test_a_silent_target_is_504_at_layer_7():
    data = changed(plan_data(), "/balancers/0/zones", {"fells-2": None})
    end = asked(data, steps=[fail(60, zone="fells-1")], at=61).outcome
    assert (end.status, end.error, end.cause) == (504, "timed_out", "timed_out")
    assert end.latency_ms == pytest.approx(12 + 3000), "the group's connect time-out"
    assert end.reason == "tiles-1 is silent, and front has not noticed yet"


def test_at_layer_4_silence_is_a_time_out_and_a_refusal_a_reset():
    data = layer_4()
    data["target_groups"][0]["probe"] = None
    for part, error, waited in (({"zone": "fells-1"}, "timed_out", 5000), ({"process": "tiles-1"}, "reset", 0)):
        network = network_of(data)
        flow = undisturbed(network)
        truth = truth_under(network, [Part.model_validate(part)])
        state = replace(
            flow.state,
            truth=replace(truth, front_dead=flow.state.truth.front_dead),
            encounter=encounter(Paths.of(network), truth),
        )
        end = trace(Solver(network).solve(state), Question(url=URL, client="walkers")).outcome
        assert (end.status, end.error) == (None, error)
        assert end.latency_ms == pytest.approx(12 + waited), "the client's own connect time-out"


def test_what_was_noticed_is_left_out_with_its_reason():
    answer = asked(plan_data(), steps=[fail(60, zone="fells-1")], at=200)
    target = {one.name: one for one in hops(answer)["target"].candidates}
    assert target["tiles-1"].excluded == "3 probes failed: out since 1:35"
    assert (target["tiles-1"].truth, target["tiles-1"].belief) == ("silent", "out")
    front = {one.name: one for one in hops(answer)["address"].candidates}
    assert front["fells-1"].excluded == "dead since 1:00: left the address at 1:05"
    unnoticed = asked(plan_data(), steps=[fail(60, zone="fells-1")], at=80)
    note = {one.name: one.note for one in hops(unnoticed)["target"].candidates}["tiles-1"]
    assert note == "out in 15 s, at the latest in 15 s"


def test_a_refusing_target_is_502_and_nobody_503():
    data = changed(plan_data(), "/fleets/0/count", 1)
    refused = asked(data, steps=[fail(60, process="tiles-1")], at=61)
    assert (refused.outcome.status, refused.outcome.error) == (502, "refused")
    assert hops(refused)["service"].because == "process of tiles-1 is lost since 1:00"
    nobody = asked(data, steps=[fail(60, process="tiles-1")], at=200)
    assert (nobody.outcome.status, nobody.outcome.error) == (503, "none_healthy")
    assert nobody.hops[-1].kind == "pool"


def test_a_dead_front_that_is_still_in_the_address_times_out():
    answer = asked(plan_data(), steps=[fail(60, front={"balancer": "front", "zone": "fells-1"})], at=62)
    assert (answer.outcome.error, answer.outcome.cause) == ("timed_out", "dead_front")
    assert answer.outcome.latency_ms == 5000
    assert answer.hops[-1].because == "its front is dead since 1:00, and leaves the address at 1:05"


def test_a_missing_firewall_rule_is_named_with_its_remedy():
    data = drawn(edge=[rule(["443"])], app=[rule(["22"])])
    data["target_groups"][0]["probe"] = None
    answer = asked(data)
    last = answer.hops[-1]
    assert (last.kind, last.about, last.ok) == ("firewall", "app", False)
    assert last.remedy.patch == [
        {
            "op": "add", "path": "/firewalls/1/allow_in/-",
            "value": {"protocol": "tcp", "ports": ["8080"], "from": "balancer:front"},
        }
    ]  # fmt: skip
    assert (answer.outcome.status, answer.outcome.cause) == (504, "blocked")
    assert asked(drawn(edge=[rule(["80"])])).outcome.status is None, "before the front nobody answers at all"


def test_one_click_lets_all_sources_and_probes_through():
    """A firewall that takes nothing, before targets that see the client: what is added lets everybody's request pass,
    and the probes too, so that the targets are in use."""
    data = layer_4()
    data["firewalls"] = [{"name": "app", "allow_in": []}]
    data["fleets"][0]["instance"]["firewall"] = "app"
    data["target_groups"][0]["when_none_healthy"] = "send-anyway"
    remedy = asked(data).hops[-1].remedy
    seen = data["clients"][0].get("cidr", "198.18.0.0/16")
    assert remedy.words == f"let app take tcp 8080 from {seen} and tcp 8080 from balancer:front"
    mended = jsonpatch.apply_patch(plan_from_data(data).model_dump(mode="json", by_alias=True), remedy.patch)
    answer = asked(mended, times=50, vary="source")
    assert (answer.outcome.error, {row.error for row in answer.expected}) == (None, {None})
    assert all(one.in_use == one.targets for one in board_state(undisturbed(network_of(mended))).groups)


def test_at_layer_4_each_source_meets_the_firewall_itself():
    data = layer_4()
    data["firewalls"] = [
        {"name": "app", "allow_in": [rule(["8080"], "198.18.0.0/17"), rule(["8080"], "balancer:front")]}
    ]
    data["fleets"][0]["instance"]["firewall"] = "app"
    inside, outside = (asked(data, source=source) for source in ("198.18.0.9", "198.18.200.9"))
    assert (inside.outcome.cause, outside.outcome.cause) == (None, "blocked")
    assert "from walkers" in outside.hops[-1].because


@pytest.mark.parametrize(
    ("listeners", "url", "status", "error"),
    [
        ([{"redirect": {"protocol": "https", "status": 301}}], "http://www.beckwater.example/", 200, None),
        ([{"redirect": {"host": "www.beckwater.example"}}], "http://www.beckwater.example/", None, "redirect_loop"),
        ([{"respond": {"status": 404}}], "http://www.beckwater.example/", 404, None),
        ([], "http://www.beckwater.example/", None, "refused"),
    ],
)
def test_redirects_are_followed_and_fixed_answers_end_it(listeners, url, status, error):
    data = plan_data()
    made = [{"name": "http", "protocol": "http", "port": 80, "otherwise": one} for one in listeners]
    data["balancers"][0]["listeners"] += made
    end = asked(data, url).outcome
    assert (end.status, end.error) == (status, error)


def test_a_redirect_leads_on_ten_times_at_most():
    data = plan_data()
    rules = [
        {"name": f"step-{n}", "when": {"path": [f"/{n}"]}, "do": {"redirect": {"path": f"/{n + 1}"}}} for n in range(20)
    ]
    data["balancers"][0]["listeners"][0]["rules"] = rules
    assert asked(data, "https://www.beckwater.example/10").outcome.status == 200
    assert asked(data, "https://www.beckwater.example/9").outcome.error == "too_many_redirects"


def test_a_certificate_that_does_not_cover_the_host_or_has_expired():
    data = plan_data(certificates=[{"name": "public", "hosts": ["*.beckwater.example"], "expires": "2027-03-01"}])
    data["balancers"][0]["listeners"][0]["certificate"] = "public"
    assert asked(data, today=datetime.date(2027, 3, 1)).outcome.status == 200
    late = asked(data, today=datetime.date(2027, 3, 2))
    assert (late.outcome.error, late.hops[-1].because) == (
        "certificate",
        "public was valid until 2027-03-01, today is 2027-03-02",
    )
    data["certificates"][0]["hosts"] = ["beckwater.example"]
    wrong = asked(data)
    assert wrong.hops[-1].remedy.patch[0]["value"] == "www.beckwater.example"


def test_each_rule_that_did_not_match_says_why():
    data = plan_data()
    data["balancers"][0]["listeners"][0]["rules"] = [
        {"name": "other-path", "when": {"path": ["/alerts/*"]}, "do": {"pool": "web"}},
        {"name": "other-host", "when": {"host": ["x.example"]}, "do": {"pool": "web"}},
        {"name": "other-method", "when": {"method": ["POST"]}, "do": {"pool": "web"}},
        {"name": "other-source", "when": {"source": ["192.0.2.0/24"]}, "do": {"pool": "web"}},
        {"name": "canary", "when": {"header": {"X-Canary": ["1"]}}, "do": {"pool": "web"}},
    ]
    got = hops(asked(data))["rule"]
    assert [one.excluded for one in got.candidates] == [
        "path /alerts/* is not /tiles/7", "host x.example is not www.beckwater.example", "method POST is not GET",
        "the source is not in 192.0.2.0/24", "header X-Canary = 1 does not match", None,
    ]  # fmt: skip
    assert got.because == "none of 5 rules matches"
    canary = hops(asked(data, headers={"x-canary": "1"}))["rule"]
    assert (canary.about, canary.because) == ("5 canary", "the first of 5 rules that matches")


def test_a_trace_goes_through_balancers_behind_balancers():
    answer = asked(behind())
    kinds = [hop.kind for hop in answer.hops]
    assert kinds.count("address") == kinds.count("target") == 2
    assert (answer.outcome.status, answer.outcome.target) == (200, "tiles-1")
    many = asked(behind(), times=12)
    assert many.counts == {f"tiles-{number}": 2 for number in range(1, 7)}


def test_what_leads_outside_answers_there():
    data = changed(plan_data(), "/names/0/answers", [{"address": "192.0.2.77"}])
    assert asked(data).outcome.zone == "outside"


@pytest.mark.parametrize(
    ("change", "puzzle", "remedy"),
    [
        (("/target_groups/0/balance", "source-hash"), "always land on the same target", "round-robin"),
        (("/target_groups/0/affinity", {"by": "source"}), "always land on the same target", "none"),
        (("/target_groups/0/affinity", {"by": "cookie"}), "always land on the same target", "none"),
        (("/name", "small"), "take turns", "cookie"),
    ],
)
def test_sticking_and_taking_turns_are_explained(change, puzzle, remedy):
    explained = asked(changed(plan_data(), *change)).explained
    found = next(one for one in explained if puzzle in one.puzzle)
    assert found.remedy.patch[0]["value"] == remedy


def test_uneven_shares_are_explained():
    lonely = plan_data()
    lonely["target_groups"][0]["reach"] = "zone"
    served = lonely["fleets"][0]["instance"]
    lonely["instances"] = [{"name": f"more-{n}", "zone": "fells-1", **served} for n in range(4)]
    lonely["target_groups"][0]["targets"] += [{"instance": f"more-{n}"} for n in range(4)]
    zone = next(one for one in asked(lonely).explained if "times as much" in one.puzzle)
    assert zone.puzzle == "Why does tiles-3 get 3 times as much as tiles-1?"
    assert zone.remedy.patch[0]["value"] == "region"
    weighted = plan_data()
    weighted["instances"] = [{"name": "big", "zone": "fells-1", **served}]
    weighted["target_groups"][0]["targets"].append({"instance": "big", "weight": 3})
    assert any(one.words == "their weights are 3 and 1" for one in asked(weighted).explained)


def test_a_target_that_gets_nothing_yet_is_explained():
    steps = [fail(60, instance="tiles-1"), {"at_s": 200, "restore": {"instance": "tiles-1"}}]
    answer = asked(plan_data(), steps=steps, at=201)
    assert any(
        one.puzzle == "Why does tiles-1 get nothing?" and "2 passed probes" in one.words for one in answer.explained
    )


@pytest.mark.parametrize(
    ("question", "match"),
    [
        ({"client": "walker"}, "did you mean 'walkers'"),
        ({"area": "upland"}, "did you mean 'uplands'"),
        ({"source": "198.18.0"}, "is not an address"),
    ],
)
def test_unknown_senders_are_refused_with_the_nearest(question, match):
    with pytest.raises(CannotRun, match=match):
        asked(plan_data(), **question)


@pytest.mark.parametrize(
    "url", ["https://www.beckwater.example:99999/", "ftp://a.example/", "https://", "tcp://a.example"]
)
def test_what_is_no_url_is_refused_with_the_reason(url):
    with pytest.raises(CannotRun, match=r"is not a URL|needs a port"):
        asked(plan_data(), url)


def test_an_unknown_host_ends_at_the_name():
    answer = asked(plan_data(), "https://ww.beckwater.example/")
    assert answer.outcome.error == "no_such_name"
    assert "did you mean 'www.beckwater.example'" in answer.hops[-1].because


def test_any_of_many_can_be_shown():
    answer = asked(plan_data(), steps=[fail(60, zone="fells-1")], at=80, times=30, show=4)
    assert answer.outcome.target in (answer.answers[4], "tiles-1", "tiles-2")
    first = asked(plan_data(), steps=[fail(60, zone="fells-1")], at=80, times=30)
    assert first.answers == answer.answers, "which one is shown changes nothing"


def probed(data, *, steps=(), at=None, target="tiles-1", front=None):
    network = network_of({**data, "drills": [{"name": "d", "phases": "worst", "steps": list(steps)}]})
    if at is None:
        return trace_probe(undisturbed(network), "tiles", target, front)
    run = run_drill(network, network.plan.drills[0])
    flow = run.flow_at(at)
    return trace_probe(flow, "tiles", target, front, History(flow, run, at))


@pytest.mark.parametrize(
    ("part", "error", "because"),
    [
        ({"instance": "tiles-1"}, "timed_out", "tiles-1 is silent"),
        ({"process": "tiles-1"}, "refused", "tiles-1 refuses on port 8080"),
        ({"page": "/ready", "status": 500}, "bad_status", "/ready answers 500, 200-399 is expected"),
        ({"slow": "tiles-1", "factor": 1000}, "timed_out", "tiles-1 answers after"),
        ({"link": ["fells-1", "fells-2"]}, "timed_out", "tiles-1 is silent"),
    ],
)
def test_a_probe_says_why_its_target_is_out(part, error, because):
    answer = probed(plan_data(), steps=[fail(60, **part)], at=300, front="front/fells-2")
    assert answer.outcome.error == error
    assert because in answer.outcome.reason
    assert "believed out" in answer.outcome.reason


def test_a_probe_that_passes_says_so_and_a_blocked_one_names_the_rule():
    good = probed(plan_data())
    assert (good.outcome.status, good.outcome.error) == (200, None)
    assert "is believed in use by front in fells-1: the probe passes" in good.outcome.reason
    blocked = probed(drawn(app=[rule(["22"])]))
    assert (blocked.outcome.error, blocked.hops[-1].about) == ("blocked", "app")
    assert blocked.hops[-1].remedy.patch[0]["value"]["from"] == "balancer:front"
    with pytest.raises(CannotRun, match="did you mean 'tiles-1'"):
        probed(plan_data(), target="tile-1")
