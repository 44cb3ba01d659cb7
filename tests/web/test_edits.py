"""Editing over the wire: revisions, stale edits, undo over restarts, and a server killed in the middle."""

import threading
import time

import pytest
from sqlalchemy import event, text

from northgate.web.waiting.keeping import Kept
from tests.support.plans import plan_data

PLAN = "/api/plans/beckwater"
SLOWER = [{"op": "replace", "path": "/probes/0/interval_s", "value": 30}]


def edit(client, patch, revision):
    return client.patch(PLAN, json=patch, headers={"if-match": f'"{revision}"'})


def test_an_edit_makes_a_revision_and_the_engine_answers_for_it(client):
    before = client.get(PLAN)
    assert before.headers["etag"] == '"1"'
    answer = edit(client, SLOWER, 1)
    assert answer.headers["etag"] == '"2"'
    assert answer.json()["document"]["probes"][0]["interval_s"] == 30
    assert answer.json()["head"] | {"edits": 1, "can_undo": True, "revision": 2} == answer.json()["head"]
    ready = client.get(f"{PLAN}/consequences").json()[0]
    assert ready["silent"]["latest_s"] == 95
    assert client.get(f"{PLAN}/consequences?revision=1").json()[0]["silent"]["latest_s"] == 35


def test_a_stale_edit_is_refused_with_the_revision_there_is(client):
    edit(client, SLOWER, 1)
    answer = edit(client, SLOWER, 1)
    assert answer.status_code == 412
    assert "revision 2" in answer.json()["detail"]


@pytest.mark.parametrize(
    ("header", "status"), [({}, 422), ({"if-match": "*"}, 422), ({"if-match": "one"}, 422), ({"if-match": "1"}, 200)]
)
def test_an_edit_names_the_revision_that_it_is_made_of(client, header, status):
    assert client.patch(PLAN, json=SLOWER, headers=header).status_code == status


@pytest.mark.parametrize(
    ("patch", "where"),
    [
        ([{"op": "replace", "path": "/probes/0/interval_s", "value": "often"}], "/probes/0/interval_s"),
        ([{"op": "replace", "path": "/probes/9/interval_s", "value": 3}], "/probes/9/interval_s"),
        ([{"op": "explode", "path": "/probes/0"}], "/0/op"),
        ({"not": "a list"}, ""),
    ],
)
def test_a_bad_patch_changes_nothing_and_says_where(client, patch, where):
    answer = edit(client, patch, 1)
    assert answer.status_code == 422
    assert answer.json()["problems"][0]["where"] == where
    assert client.get(PLAN).json()["head"]["revision"] == 1


def test_undo_redo_and_agree(client):
    edit(client, SLOWER, 1)
    undone = client.post(f"{PLAN}/undo", headers={"if-match": "2"}).json()
    assert (undone["head"]["revision"], undone["document"]["probes"][0]["interval_s"]) == (1, 10)
    assert client.post(f"{PLAN}/undo", headers={"if-match": "1"}).status_code == 409
    redone = client.post(f"{PLAN}/redo", headers={"if-match": "1"}).json()
    assert redone["document"]["probes"][0]["interval_s"] == 30
    agreed = client.post(f"{PLAN}/agree", headers={"if-match": "2"}).json()["head"]
    assert (agreed["agreed"], agreed["edits"]) == (2, 0)


def test_the_difference_in_words(client):
    edit(client, SLOWER, 1)
    assert client.get(f"{PLAN}/difference?since=1").json() == [
        {"about": "probe ready", "words": "every 30 s, was 10 s", "effect": "in place"}
    ]


def test_the_export_after_an_edit_keeps_the_comments(client):
    original = client.get(f"{PLAN}/file").text
    edit(client, SLOWER, 1)
    text = client.get(f"{PLAN}/file").text
    assert "# Two zones of the fells can just carry three zones' load" in text
    assert "interval_s: 30" in text
    assert client.get(f"{PLAN}/file?revision=1").text == original


def test_removal_and_renaming_are_prepared_and_can_be_sent(client):
    prepared = client.get(f"{PLAN}/removal?kind=probe&name=ready").json()
    assert prepared["references"] == [f"/target_groups/{index}/probe" for index in (0, 1, 2)]
    left = edit(client, prepared["patch"], 1).json()["document"]
    assert [group["probe"] for group in left["target_groups"]] == [None, None, None, "holding"]
    renamed = client.get(f"{PLAN}/renaming?kind=zone&name=fells-2&to=fells-b").json()
    document = edit(client, renamed["patch"], 2).json()["document"]
    assert "fells-b" in document["balancers"][0]["zones"]
    assert client.get(f"{PLAN}/state").status_code == 200
    assert client.get(f"{PLAN}/removal?kind=probe&name=nope").status_code == 422


def test_copy_delete_and_bring_back(client):
    copied = client.post(f"{PLAN}/copy").json()
    assert (copied["key"], copied["title"]) == ("beckwater-2", "Beckwater flood watch (copy)")
    assert client.delete(PLAN).status_code == 204
    assert [plan["key"] for plan in client.get("/api/plans").json()] == ["beckwater-2"]
    assert client.get(PLAN).status_code == 404
    assert client.post(f"{PLAN}/restore").json()["key"] == "beckwater"
    assert client.delete("/api/plans/nope").status_code == 404


def test_the_schema_says_what_strings_refer_to(client):
    groups = client.get("/api/schema").json()["$defs"]["TargetGroup"]["properties"]
    assert {"x-refers-to": "probe"}.items() <= groups["probe"]["anyOf"][0].items()


def test_a_proposal_is_made_and_not_kept(client):
    body = {
        "name": "vale",
        "regions": {"vale": ["vale-1"]},
        "rows": [{"name": "a", "zone": "vale-1"}],
        "url": "https://a.example/",
    }
    proposed = client.post("/api/proposal", json=body).json()
    assert proposed["instances"][0]["name"] == "a"
    assert len(client.get("/api/plans").json()) == 1
    refused = client.post("/api/proposal", json=body | {"rows": [{"name": "a", "zone": "vale-2"}]})
    assert refused.json()["problems"][0]["where"] == "/rows/0/zone"


def test_the_rules_of_a_listener_and_the_losses_of_zones(client):
    url = f"{PLAN}/rules?balancer=fells-front&listener=https&url=https://www.beckwater.example/alerts/x"
    rows = client.get(url).json()["rows"]
    assert [(row["name"], row["takes"]) for row in rows] == [("alerts", True), ("otherwise", False)]
    losses = client.get(f"{PLAN}/zone-losses").json()
    assert losses[1]["peak_utilisation"]["tiles"] == pytest.approx(1596 / 12 / 150)
    assert client.get(f"{PLAN}/rules?balancer=nope&listener=https").status_code == 409


def test_the_same_question_asked_at_once_is_computed_once(client, monkeypatch):
    from northgate import work

    runs = []
    real = work.alone
    monkeypatch.setattr(work, "alone", lambda *asked, **more: runs.append(1) or time.sleep(0.2) or real(*asked, **more))
    threads = [threading.Thread(target=client.get, args=(f"{PLAN}/drills/lose-fells-2",)) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(runs) == 1


def test_an_edit_of_a_drill_compiles_nothing_again_and_runs_only_that_drill(client, monkeypatch):
    from northgate import work
    from northgate.web import computing, tasks

    done = []

    def noting(name):
        real = getattr(computing, name)
        monkeypatch.setattr(computing, name, lambda *asked, **how: done.append(name) or real(*asked, **how))

    def alone(task, *given, **more):
        assert task is tasks.drill
        done.append("drill")
        return real_alone(task, *given, **more)

    real_alone = work.alone
    monkeypatch.setattr(work, "alone", alone)

    def ask(*drills):
        done.clear()
        assert client.get(f"{PLAN}/state").status_code == 200
        for drill in drills:
            assert client.get(f"{PLAN}/drills/{drill}").status_code == 200
        return done

    for name in ("compile_network", "undisturbed"):
        noting(name)
    drills = ("lose-fells-2", "tiles-8-crashes")
    assert sorted(ask(*drills)) == ["compile_network", "drill", "drill", "undisturbed"]
    assert edit(client, [{"op": "replace", "path": "/drills/1/steps/0/at_s", "value": 61}], 1).status_code == 200
    assert ask(*drills) == ["drill"]
    named = [{"op": "add", "path": "/title", "value": "Other"}, {"op": "replace", "path": "/name", "value": "other"}]
    assert edit(client, named, 2).status_code == 200
    assert ask(*drills) == []
    assert edit(client, [{"op": "replace", "path": "/probes/0/interval_s", "value": 11}], 3).status_code == 200
    assert sorted(ask(*drills)) == ["compile_network", "drill", "drill", "undisturbed"]


def test_a_drill_that_an_edit_makes_unfit_is_told_though_all_else_is_kept(client):
    assert client.get(f"{PLAN}/state").status_code == 200
    assert client.get(f"{PLAN}/zone-losses").status_code == 200
    astray = [{"op": "replace", "path": "/drills/0/steps/0/fail/zone", "value": "fells-9"}]
    assert edit(client, astray, 1).status_code == 200
    for question in ("state", "zone-losses", "drills/lose-fells-2", "drills/tiles-8-crashes"):
        answer = client.get(f"{PLAN}/{question}")
        assert answer.status_code == 409, question
        assert answer.json()["problems"][0]["where"] == "/drills/0/steps/0/fail/zone"


def test_an_edit_can_be_looked_at_before_it_is_made(client):
    patch = [{"op": "replace", "path": "/fleets/0/count", "value": 30}, *SLOWER]
    answer = client.post(f"{PLAN}/preview", json={"patch": patch}).json()
    tiles = next(one for one in answer["state"]["groups"] if one["name"] == "tiles")
    assert tiles["targets"] == 34
    assert answer["document"]["fleets"][0]["count"] == 30
    assert answer["consequences"][0]["silent"]["latest_s"] == 95
    assert client.get(PLAN).json()["head"]["revision"] == 1


def test_a_preview_tells_what_stands_in_the_way_of_a_run(client):
    patch = [{"op": "replace", "path": "/target_groups/0/probe", "value": "raedy"}]
    answer = client.post(f"{PLAN}/preview", json={"patch": patch}).json()
    assert answer["state"] is None
    assert answer["problems"][0]["where"] == "/target_groups/0/probe"
    refused = client.post(f"{PLAN}/preview", json={"patch": [{"op": "remove", "path": "/probes/9"}]})
    assert (refused.status_code, refused.json()["problems"][0]["where"]) == (422, "/probes/9")


def test_a_plan_is_updated_from_its_file_which_keeps_its_comments(client):
    text = "# quicker\n" + client.get(f"{PLAN}/file").text.replace("interval_s: 10", "interval_s: 7", 1)
    answer = client.put(f"{PLAN}/file", content=text, headers={"if-match": "1", "content-type": "text/plain"})
    assert answer.json()["head"]["revision"] == 2
    assert [(one["about"], one["words"]) for one in answer.json()["changes"]] == [
        ("probe ready", "every 7 s, was 10 s")
    ]
    assert client.get(f"{PLAN}/file").text == text
    edit(client, [{"op": "replace", "path": "/probes/1/interval_s", "value": 20}], 2)
    kept = client.get(f"{PLAN}/file").text
    assert "# quicker" in kept
    assert "interval_s: 20" in kept
    client.post(f"{PLAN}/undo", headers={"if-match": "3"})
    client.post(f"{PLAN}/undo", headers={"if-match": "2"})
    assert "# quicker" not in client.get(f"{PLAN}/file").text


def test_a_file_that_is_no_plan_updates_nothing(client):
    text = client.get(f"{PLAN}/file").text.replace("interval_s: 10", "interval_s: often", 1)
    answer = client.put(f"{PLAN}/file", content=text, headers={"if-match": "1", "content-type": "text/plain"})
    assert (answer.status_code, answer.json()["problems"][0]["where"]) == (422, "/probes/0/interval_s")
    assert answer.json()["problems"][0]["line"] > 1
    assert client.get(PLAN).json()["head"]["revision"] == 1


def test_what_could_not_be_read_back_is_never_kept(client):
    """A value that no patch may make, as its plan would be larger than any that is read."""
    key = client.post("/api/plans", json=plan_data()).json()["key"]
    big = [{"code": "one-zone", "about": f"x{n}", "because": "y" * 19_000} for n in range(450)]
    answer = client.patch(
        f"/api/plans/{key}", json=[{"op": "add", "path": "/accepted", "value": big}], headers={"if-match": '"1"'}
    )
    assert answer.status_code in (413, 422)
    head = client.get(f"/api/plans/{key}").json()["head"]
    assert (head["revision"], head["can_undo"]) == (1, False)
    assert client.get("/api/plans").status_code == 200


def test_a_long_title_is_copied_and_stays_readable(client):
    key = client.post("/api/plans", json=plan_data(title="t" * 20_000)).json()["key"]
    copy = client.post(f"/api/plans/{key}/copy")
    assert copy.status_code == 201
    assert client.get(f"/api/plans/{copy.json()['key']}").status_code == 200


def test_a_plan_that_cannot_be_read_takes_no_other_away(client, repository):
    key = client.post("/api/plans", json=plan_data()).json()["key"]
    spoil = "UPDATE revision SET document = :what WHERE plan_id = (SELECT id FROM plan WHERE key = :key)"
    with repository.session() as session:
        session.execute(text(spoil), {"key": key, "what": '{"northgate": 9}'})
    client.app.state.computer._plans = Kept(10**6)
    listed = {one["key"]: one for one in client.get("/api/plans").json()}
    assert listed["beckwater"]["unreadable"] is None
    assert "northgate" in listed[key]["unreadable"]
    assert client.get(f"/api/plans/{key}/file").text == '{"northgate": 9}'
    assert client.delete(f"/api/plans/{key}").status_code == 204
    assert [one["key"] for one in client.get("/api/plans").json()] == ["beckwater"]


def test_a_full_disk_refuses_an_edit_and_loses_nothing(client, repository):
    """A file that may not grow stands in for the disk: SQLite says of either that it is full."""
    assert edit(client, SLOWER, 1).status_code == 200
    engine = repository._engine
    full = [True]

    def bound(connection, _):
        if full:
            connection.execute(f"PRAGMA max_page_count = {connection.execute('PRAGMA page_count').fetchone()[0]}")

    event.listen(engine, "connect", bound)
    engine.dispose()
    # More than what is left free in the last page.
    notes = [{"op": "add", "path": "/notes", "value": " ".join(str(one) for one in range(3000))}]
    refused = edit(client, [SLOWER[0] | {"value": 20}, *notes], 2)
    assert refused.status_code == 507
    assert "disk is full; nothing was changed" in refused.json()["detail"]
    full.clear()
    engine.dispose()
    assert client.get(PLAN).json()["head"]["revision"] == 2
    assert edit(client, [SLOWER[0] | {"value": 20}], 2).json()["head"]["revision"] == 3
