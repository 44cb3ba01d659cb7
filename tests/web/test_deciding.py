"""The log, agreeing, variants and sweeps over the API."""

import pytest

from tests.support.plans import fail, plan_data

LOSS = {
    "name": "loss", "lasts_s": 120, "steps": [fail(30, instance="tiles-1")],
    "expect": [{"reading": "failed", "at_most": 0}],
}  # fmt: skip


@pytest.fixture
def small(client):
    """The key of a small plan with one drill that does not hold."""
    return client.post("/api/plans", json=plan_data(drills=[LOSS])).json()["key"]


def patched(client, key, revision, **values):
    patch = [{"op": "replace", "path": path, "value": value} for path, value in values.items()]
    answer = client.patch(f"/api/plans/{key}", json=patch, headers={"if-match": f'"{revision}"'})
    assert answer.status_code == 200, answer.text
    return answer.json()


def test_the_log_tells_what_was_changed_why_and_who_agreed(client, small):
    at = f"/api/plans/{small}"
    patched(client, small, 1, **{"/probes/0/interval_s": 7})
    assert client.put(f"{at}/log/reason", json={"revision": 2, "reason": " less load "}).status_code == 204
    said = {"who": "Ada", "why": "the spring flood"}
    looked = client.post(f"{at}/look-over", json=said, headers={"if-match": '"2"'}).json()
    assert looked["head"]["agreed"] is None
    assert client.post(f"{at}/agree", json=said, headers={"if-match": '"2"'}).json()["head"]["agreed"] == 2
    log = client.get(f"{at}/log").json()
    newest, first = log["entries"]
    assert (log["of"], newest["reason"], newest["current"], first["on_the_way"]) == (2, "less load", True, True)
    assert [(one["agreed"], one["who"]) for one in newest["standings"]] == [(False, "Ada"), (True, "Ada")]
    assert newest["changes"][0]["words"] == "every 7 s, was 10 s"
    assert client.get(f"{at}/log", params={"before": 2}).json()["entries"] == [first]
    back = client.post(f"{at}/go-to", params={"revision": 1}, headers={"if-match": '"2"'}).json()
    assert (back["head"]["revision"], back["head"]["agreed"]) == (1, 2)
    assert client.post(f"{at}/go-to", params={"revision": 9}, headers={"if-match": '"1"'}).status_code == 404
    assert client.put(f"{at}/log/reason", json={"revision": 9, "reason": ""}).status_code == 404


def test_the_gate_names_what_stops_and_what_drills_miss(client, small):
    gate = client.get(f"/api/plans/{small}/gate").json()
    assert [(one["drill"], one["reading"]) for one in gate["missed"]] == [("loss", "failed")]
    assert gate["missed"][0]["got"] > 0
    assert [one["code"] for one in gate["stops"]] == ["certificate-missing"]
    patched(client, small, 1, **{"/target_groups/0/targets": []})
    stops = client.get(f"/api/plans/{small}/gate").json()["stops"]
    assert "empty-group" in [one["code"] for one in stops]


def test_variants_are_held_against_the_same_drills_and_taken_over(client, small):
    at = f"/api/plans/{small}"
    variant = client.post(f"{at}/variants", json={"name": "quick"}).json()
    assert variant["variant"] == "quick"
    patched(client, variant["key"], 1, **{"/probes/0/interval_s": 2, "/probes/0/timeout_s": 1})
    assert [one["key"] for one in client.get(f"{at}/variants").json()] == [small, variant["key"]]
    matrix = client.get(f"{at}/matrix").json()
    assert [one["name"] for one in matrix["columns"]][1] == "quick"
    (row,) = matrix["rows"]
    slow, quick = (cell["readings"]["failed"] for cell in row["cells"])
    assert 0 < quick < slow
    assert [cell["held"] for cell in row["cells"]] == [False, False]
    compared = client.get(f"{at}/compare", params={"beside": variant["key"]}).json()
    both = compared["drills"][0]["readings"]["failed"]
    assert (both["a"], both["b"]) == (pytest.approx(quick), pytest.approx(slow))
    taken = client.post(f"{at}/take-over", params={"variant": variant["key"]}, headers={"if-match": '"1"'}).json()
    assert (taken["head"]["revision"], taken["document"]["probes"][0]["interval_s"]) == (2, 2)
    assert client.get(f"{at}/compare", params={"beside": "nobody"}).status_code == 404


def test_a_sweep_answers_every_cell_and_the_place_of_its_settings(client, small):
    settings = ["probes/ready/interval_s=5..10/5", "probes/ready/unhealthy_after=2..3"]
    asked = {"drill": "loss", "set": settings}
    swept = client.get(f"/api/plans/{small}/sweep", params=asked).json()
    assert [axis["place"] for axis in swept["axes"]] == ["/probes/0/interval_s", "/probes/0/unhealthy_after"]
    assert [len(row) for row in swept["values"]] == [2, 2]
    assert swept["values"][0][0] < swept["values"][1][1]
    refused = client.get(f"/api/plans/{small}/sweep", params=asked | {"set": ["probes/redy/interval_s=5"]})
    assert (refused.status_code, "did you mean" in refused.text) == (422, True)
    assert refused.json()["title"] == "This cannot be asked"
    known = client.get(f"/api/plans/{small}/sweep/settings").json()
    assert "probes/ready/interval_s" in [one["path"] for one in known]
    done = client.get(f"/api/plans/{small}/sweep/progress", params=asked).json()
    assert done == {"done": None, "of": None, "waits": None}


def test_a_change_is_rehearsed_in_the_order_that_is_asked_for(client, small):
    patched(client, small, 1, **{"/probes/0/interval_s": 7, "/names/0/ttl_s": 20})
    asked = {"since": 1}
    usual = client.get(f"/api/plans/{small}/change", params=asked).json()["steps"]
    assert len(usual) == 2
    other = client.get(f"/api/plans/{small}/change", params=asked | {"order": "1,0@300"}).json()["steps"]
    assert [one["words"] for one in other] == [one["words"] for one in usual[::-1]]
    assert other[1]["at_s"] == 300
    assert client.get(f"/api/plans/{small}/change", params=asked | {"order": "1"}).status_code == 409
    assert client.get(f"/api/plans/{small}/change", params=asked | {"order": "1;0"}).status_code == 422
