"""The server's answers: plans in and out, questions to the engine, problems with places."""

import json
from threading import Event

import pytest

from northgate.engine.formulas import METHODS
from northgate.plan import plan_from_text, read_plan
from northgate.web.computing import Computer
from northgate.web.waiting.leaving import Abandoned
from tests.plan.test_reading import EXAMPLE
from tests.support.plans import changed, fail, plan_data

TEXT = EXAMPLE.read_text()
DRILL = "/api/plans/beckwater/drills/lose-fells-2"


def test_the_demo_is_listed_and_read(client):
    head = client.get("/api/plans").json()[0]
    assert head == {
        "key": "beckwater", "name": "beckwater", "title": "Beckwater flood watch", "revision": 1, "agreed": None,
        "edits": 0, "can_undo": False, "can_redo": False, "instances": 43, "zones": 5, "drills": 4,
        "variant": None, "unreadable": None,
    }  # fmt: skip
    whole = client.get("/api/plans/beckwater").json()
    assert whole["head"] == head
    assert whole["document"]["fleets"][0]["count"] == 18
    assert whole["document"]["probes"][1]["unhealthy_after"] == 2


def test_a_plan_comes_back_as_it_went_in(client):
    assert client.get("/api/plans/beckwater/file").text == TEXT
    as_json = client.get("/api/plans/beckwater/file?as=json")
    assert as_json.headers["content-disposition"] == 'attachment; filename="beckwater.plan.json"'
    assert plan_from_text(as_json.text) == read_plan(EXAMPLE)


def test_a_second_import_gets_a_key_of_its_own(client):
    keys = [client.post("/api/plans", content=TEXT).json()["key"] for _ in range(2)]
    assert keys == ["beckwater-2", "beckwater-3"]
    assert len(client.get("/api/plans").json()) == 3


def test_a_plan_imported_as_json_is_exported_as_yaml(client):
    assert client.post("/api/plans", content=json.dumps(plan_data())).status_code == 201
    assert plan_from_text(client.get("/api/plans/small/file").text) == plan_from_text(json.dumps(plan_data()))


def test_a_bad_plan_is_refused_with_places(client):
    answer = client.post("/api/plans", content="northgate: 1\nname: small\nprobse: []\n")
    assert answer.status_code == 422
    assert answer.headers["content-type"] == "application/problem+json"
    assert answer.json()["problems"] == [
        {"where": "/probse", "message": "unknown field 'probse'; did you mean 'probes'?", "line": 3, "column": 1}
    ]
    assert client.post("/api/plans", content=b"\xff\xfe").status_code == 422


@pytest.mark.parametrize(
    ("path", "detail"),
    [
        ("/api/plans/bekwater", "there is no plan 'bekwater'; did you mean 'beckwater'?"),
        ("/api/plans/beckwater?revision=7", "there is no plan 'beckwater, revision 7'"),
        ("/api/plans/beckwater/drills/lose-fells-3", "did you mean 'lose-fells-2'?"),
        ("/api/nothing", "There is no /api/nothing"),
    ],
)
def test_what_is_not_there_is_said_so(client, path, detail):
    answer = client.get(path)
    assert answer.status_code == 404
    assert detail in answer.json()["detail"]


def test_the_state_now_serves_everything(client):
    state = client.get("/api/plans/beckwater/state").json()
    assert state["rps"] == pytest.approx(2730)
    assert state["failed_rps"] == 0
    assert sum(zone["served_rps"] for zone in state["zones"]) == pytest.approx(2730)
    assert {one["group"] for one in state["berths"]} == {"tiles", "tiles-next", "alerts-api", "holding-page"}
    assert len(state["berths"]) == 43


def test_a_drill_and_its_state_agree(client):
    drill = client.get(DRILL).json()
    series = drill["series"]
    for index in (0, 2, 10, len(series["t_s"]) - 1):
        state = client.get(f"{DRILL}/state?at={series['t_s'][index]}").json()
        assert state["failed_rps"] == pytest.approx(sum(values[index] for values in series["failed_rps"].values()))
        for zone in state["zones"]:
            assert zone["served_rps"] == pytest.approx(series["by_zone_rps"][zone["name"]][index])


def test_the_board_adds_up_at_every_level(client):
    state = client.get(f"{DRILL}/state?at=89").json()
    for part in ("clients", "names", "balancers"):
        assert sum(one["rps"] for one in state[part]) == pytest.approx(state["rps"])
        assert sum(one["failed_rps"] for one in state[part]) == pytest.approx(state["failed_rps"])
    for group in state["groups"]:
        cells = [cell for cell in state["cells"] if cell["group"] == group["name"]]
        berths = [berth for berth in state["berths"] if berth["group"] == group["name"]]
        assert sum(cell["rps"] for cell in cells) == pytest.approx(group["rps"])
        assert sum(berth["failed_rps"] for berth in berths) == pytest.approx(group["failed_rps"])
        assert sum(cell["unnoticed"] for cell in cells) == group["unnoticed"]
    into_zone = {
        zone["name"]: sum(one["rps"] for one in state["ribbons"] if one["to"] == f"zone:{zone['name']}")
        for zone in state["zones"]
    }
    assert into_zone["fells-2"] == pytest.approx(next(z["rps"] for z in state["zones"] if z["name"] == "fells-2"))


def test_strips_and_consequences(client):
    strips = client.get(f"{DRILL}/strips?group=tiles-next").json()
    assert [strip["target"] for strip in strips] == ["tiles-next-1", "tiles-next-2"]
    assert any(piece["wrong"] for piece in strips[1]["pieces"])
    ready = client.get("/api/plans/beckwater/consequences").json()[0]
    for found, (earliest_s, answer_s) in ((ready["silent"], (25, 5)), (ready["refused"], (20, 0))):
        sums = {"beats": 2, "beat_s": 10, "answer_s": answer_s}
        assert found == {
            "earliest_s": earliest_s,
            "mean_s": earliest_s + 5,
            "latest_s": earliest_s + 10,
            "earliest": {"first_s": 0, **sums},
            "latest": {"first_s": 10, **sums},
        }


def test_what_if_answers_for_several_parts(client):
    faults = [{"zone": "fells-2"}, {"instance": "tiles-1"}]
    answer = client.post("/api/plans/beckwater/what-if", json={"faults": faults}).json()
    assert answer["at_once"]["failed_rps"] > answer["settled"]["failed_rps"]
    assert [zone["lost"] for zone in answer["at_once"]["zones"]] == [False, True, False, False, False]


@pytest.mark.parametrize(
    "body", [{"faults": []}, {"faults": [{"zone": "fells-2", "instance": "tiles-1"}]}, {"faults": [{}]}, {}, []]
)
def test_a_malformed_question_is_refused(client, body):
    answer = client.post("/api/plans/beckwater/what-if", json=body)
    assert answer.status_code == 422
    assert answer.json()["problems"][0]["where"].startswith("/faults") or answer.json()["problems"][0]["where"] == ""


def test_a_question_about_an_unknown_part_names_the_nearest(client):
    answer = client.post("/api/plans/beckwater/what-if", json={"faults": [{"zone": "fels-2"}]})
    assert answer.status_code == 409
    assert "there is no zone 'fels-2'; did you mean 'fells-2'?" in answer.json()["detail"]


def test_a_draft_that_cannot_run_is_kept_and_says_why(client):
    data = plan_data()
    data["target_groups"][0]["probe"] = "redy"
    key = client.post("/api/plans", content=json.dumps(data)).json()["key"]
    answer = client.get(f"/api/plans/{key}/state")
    assert answer.status_code == 409
    assert answer.json()["problems"][0]["where"] == "/target_groups/0/probe"
    assert client.get(f"/api/plans/{key}").status_code == 200


def test_work_stops_once_all_who_asked_for_it_have_left(repository, client):
    computer, asked = Computer(repository), []

    def answer(question="what"):
        watch = computer.watch(question)
        for _ in range(200):
            asked.append(1)
            watch()
            if len(asked) == 3:
                leave.set()
        return "answered"

    leave = Event()
    with pytest.raises(Abandoned):
        computer._found("what", answer, leave)
    assert len(asked) == 4, "it went on after its only asker had left"
    assert computer._found("what", answer, Event()) == "answered", "what was abandoned can be asked again"


@pytest.mark.parametrize("method", METHODS)
def test_a_request_is_traced_in_a_drill_however_targets_are_chosen(client, method):
    """What a drill has come to is sent to the process that traces."""
    data = changed(plan_data(), "/target_groups/0/balance", method)
    data["drills"] = [{"name": "d", "lasts_s": 100, "steps": [fail(20, zone="fells-1")]}]
    key = client.post("/api/plans", json=data).json()["key"]
    asked = {"client": "walkers", "url": data["clients"][0]["calls"][0]["url"], "drill": "d", "at_s": 90}
    answer = client.post(f"/api/plans/{key}/trace", json=asked)
    assert (answer.status_code, answer.json()["outcome"]["status"]) == (200, 200)


def test_a_request_is_traced_now_and_in_a_drill(client):
    url = "https://www.beckwater.example/alerts/near"
    asked = {"client": "walkers", "url": url, "times": 10, "vary": "source"}
    now = client.post("/api/plans/beckwater/trace", json=asked).json()
    assert now["outcome"]["status"] == 200
    assert len(now["sequence"]) == 10
    cut = client.post(
        "/api/plans/beckwater/trace", json={"client": "walkers", "url": url, "drill": "alerts-cut-off", "at_s": 62}
    ).json()
    assert (cut["outcome"]["status"], cut["outcome"]["cause"]) == (504, "blocked")
    assert cut["hops"][-1]["link"] == "firewall:app"
    probe = {"probe_group": "tiles", "probe_target": "tiles-8", "drill": "lose-fells-2", "at_s": 89}
    assert client.post("/api/plans/beckwater/trace", json=probe).json()["outcome"]["error"] == "timed_out"
    refused = client.post("/api/plans/beckwater/trace", json={"client": "walker", "url": url})
    assert refused.status_code == 409
    assert "did you mean 'walkers'" in refused.json()["problems"][0]["message"]
    assert client.post("/api/plans/beckwater/trace", json={"url": url, "times": 10**9}).status_code == 422
    assert client.post("/api/plans/beckwater/trace", json={"url": "https://a.example:99999/"}).status_code == 409
    rules = "/api/plans/beckwater/rules?balancer=fells-front&listener=https&url=https://a.example:99999/"
    assert client.get(rules).status_code == 409


def test_a_drill_is_told_as_noticed_first_as_it_is_and_as_noticed_last(client):
    found = {one["phases"]: one for one in client.get(f"{DRILL}/phases").json()}
    assert list(found) == ["best", "spread", "worst"]
    assert found["spread"]["failed"] == client.get(DRILL).json()["readings"]["failed"]
    assert found["best"]["failed"] < found["spread"]["failed"] < found["worst"]["failed"]
    # n I + T less (n - 1) I + T: one interval of the 10 s probe lies between the two.
    assert found["worst"]["worst_blind_s"] - found["best"]["worst_blind_s"] == pytest.approx(10)
    for one in found.values():
        ends = [*one["t_s"][1:], 900]
        failed = sum(rate * (end - start) for rate, start, end in zip(one["failed_rps"], one["t_s"], ends, strict=True))
        assert failed == pytest.approx(one["failed"], rel=1e-9)


def test_nobody_runs_a_drill_that_is_done(client):
    assert client.get(DRILL).status_code == 200
    assert client.get(f"{DRILL}/progress").json() == {"reached_s": None, "waits": None}


def test_the_index_has_everything_with_its_users_and_what_is_lacking(client):
    answer = client.get("/api/plans/beckwater/index").json()
    ready = next(one for one in answer["entries"] if (one["kind"], one["name"]) == ("probe", "ready"))
    assert {"kind": "target_group", "name": "tiles"} in ready["used_by"]
    assert (ready["unused"], answer["next"]) == (False, [])
    client.post("/api/plans", content='{"northgate": 1, "name": "empty"}', headers={"content-type": "text/plain"})
    assert client.get("/api/plans/empty/index").json()["next"][0]["add"] == "region"


def test_what_is_added_now_is_asked_as_what_is_lost(client):
    body = {"faults": [{"instance": "tiles-1"}], "change": "added", "groups": ["tiles"]}
    answer = client.post("/api/plans/beckwater/what-if", json=body).json()
    berth = next(one for one in answer["at_once"]["berths"] if one["target"] == "tiles-1")
    assert (berth["unproven"], berth["rps"]) == (True, 0)
