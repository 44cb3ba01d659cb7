"""Revisions held side by side, changes rehearsed and plans handed over, asked of the server."""

import pytest

from tests.support.plans import plan_data


@pytest.fixture
def key(client):
    """A small plan whose probe has become quicker since: its key."""
    made = client.post("/api/plans", json=plan_data()).json()["key"]
    patch = [{"op": "replace", "path": "/probes/0/interval_s", "value": 5}]
    assert client.patch(f"/api/plans/{made}", json=patch, headers={"if-match": '"1"'}).status_code == 200
    return made


def test_a_revision_is_compared_with_the_first_or_the_agreed_one(client, key):
    whole = client.get(f"/api/plans/{key}/compare").json()
    assert [one["words"] for one in whole["differences"]] == ["probe ready: every 5 s, was 10 s"]
    client.post(f"/api/plans/{key}/agree", headers={"if-match": '"2"'})
    assert client.get(f"/api/plans/{key}/compare").json()["differences"] == []
    assert len(client.get(f"/api/plans/{key}/compare?since=1").json()["differences"]) == 1
    assert client.get(f"/api/plans/{key}/compare?since=99").status_code == 404


def test_losses_are_compared_by_what_they_cost(client, key):
    made = client.get(f"/api/plans/{key}/compare/losses").json()
    process = next(one for one in made["changed"] if one["words"].startswith("process of any of 2: tiles-1"))
    before, after = (
        {
            one["words"]: one["failed_requests"]
            for one in client.get(f"/api/plans/{key}/losses?revision={n}").json()["losses"]
        }
        for n in (1, 2)
    )
    assert (process["a"], process["b"]) == (before[process["words"]], after[process["words"]])
    assert process["b"] < process["a"]
    assert client.get(f"/api/plans/{key}/compare/losses?since=2").json() == {"gained": [], "lost": [], "changed": []}
    assert client.get(f"/api/plans/{key}/compare/losses/progress").json() == {"done": None, "of": None, "waits": None}


def test_a_change_is_rehearsed_and_tells_nothing_while_nobody_works(client, key):
    answer = client.get(f"/api/plans/{key}/change").json()
    assert [one["words"] for one in answer["steps"]] == ["change probe ready: every"]
    assert answer["readings"]["failed"] == 0
    assert client.get(f"/api/plans/{key}/change/progress").json() == {"done": None, "of": None, "waits": None}


def test_the_board_of_a_change_is_shown_at_any_second(client, key):
    then = client.get(f"/api/plans/{key}/change/state?at=0").json()
    assert then["step"] == 0
    assert then["document"]["probes"][0]["interval_s"] == 5
    assert then["state"]["failed_rps"] == 0
    # 600 requests/s, each under way for its round trip of 12 ms and its service of 20 ms.
    assert then["under_way"] == pytest.approx(600 * then["state"]["mean_latency_ms"] / 1000)
    assert then["under_way"] > 600 * 0.012
    nothing = client.get(f"/api/plans/{key}/change/state?at=0&since=2")
    assert nothing.status_code == 422
    assert "nothing is to be done" in nothing.text


def test_usual_changes_are_offered_rehearsed_and_looked_at(client, key):
    assert "empty" in [one["code"] for one in client.get(f"/api/plans/{key}/usual").json()]
    asked = "said=zone%3Dfells-1&said=away_s%3D60"
    answer = client.get(f"/api/plans/{key}/usual/empty?{asked}").json()
    worst = answer["rehearsal"]["worst"]
    then = client.get(f"/api/plans/{key}/usual/empty/state?{asked}&at={worst['at_s'] + 0.1}").json()
    assert then["state"]["failed_rps"] == pytest.approx(worst["failed_rps"])
    assert answer["rehearsal"]["steps"][then["step"]]["words"] == "turn fells-1 off"
    assert client.get(f"/api/plans/{key}/usual/empty/progress?{asked}").json() == {
        "done": None,
        "of": None,
        "waits": None,
    }
    assert client.get(f"/api/plans/{key}/usual/empty?said=zone").status_code == 422
    assert "did you mean" in client.get(f"/api/plans/{key}/usual/empty?said=zone%3Dfels-1").text


def test_exports_are_files_and_the_sheet_may_do_nothing(client, key):
    kept = client.get(f"/api/plans/{key}/export/firewall-csv")
    assert kept.headers["content-type"].startswith("text/csv")
    assert kept.headers["content-disposition"] == f'attachment; filename="{key}.firewall-csv.csv"'
    sheet = client.get(f"/api/plans/{key}/export/html?opened=true")
    assert sheet.headers["content-disposition"].startswith("inline")
    policy = sheet.headers["content-security-policy"]
    assert "default-src 'none'" in policy
    assert "sandbox" in policy
    assert "script-src" not in policy
    assert sheet.headers["x-content-type-options"] == "nosniff"


def test_an_unknown_export_is_told_with_the_nearest(client, key):
    answer = client.get(f"/api/plans/{key}/export/dns-zon")
    assert answer.status_code == 404
    assert "dns-zone" in answer.text
