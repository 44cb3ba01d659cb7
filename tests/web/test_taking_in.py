"""Files that are taken in through the server: what would come in is told, and the edit that takes it in."""

import pytest

from northgate.intake import files, take_in
from northgate.plan import plan_from_data
from tests.intake.test_taking_in import line, log
from tests.support.plans import plan_data

BYTES = {"content-type": "application/octet-stream"}


@pytest.fixture
def key(client):
    """A small plan: its key."""
    return client.post("/api/plans", json=plan_data()).json()["key"]


def ask(client, key, form, body, **query):
    return client.post(f"/api/plans/{key}/take-in", params={"as": form} | query, content=body, headers=BYTES)


def taken_by_edit(client, key, answer):
    patch = answer.json()["patch"]
    made = client.patch(f"/api/plans/{key}", json=patch, headers={"if-match": '"1"'})
    assert made.status_code == 200, made.text
    return plan_from_data(made.json()["document"])


@pytest.mark.parametrize("profile", [True, False])
def test_a_log_that_comes_in_pieces_becomes_the_clients_that_the_command_makes_of_it(client, key, tmp_path, profile):
    lines = [line(f"192.0.2.{n % 9}", f"18:{n // 60:02}:{n % 60:02}", f"/tiles/{n % 3}") for n in range(300)]
    path = log(tmp_path, *lines, "nonsense")
    pieces = (path.read_bytes()[at : at + 777] for at in range(0, path.stat().st_size, 777))
    answer = ask(client, key, "clients", pieces, profile=profile)
    assert answer.status_code == 200, answer.text
    assert (answer.json()["read"], answer.json()["bad"]) == (301, 1)
    assert answer.json()["first_bad"] == [{"line": 301, "text": "nonsense"}]
    assert client.get(f"/api/plans/{key}").json()["head"]["revision"] == 1
    by_command = take_in(path, "clients", plan_from_data(plan_data()), profile=profile)
    assert taken_by_edit(client, key, answer) == by_command.plan


def test_names_and_machines_take_the_place_of_those_of_their_name(client, key):
    zone = b"www.beckwater.example. 33 IN A 203.0.113.10\nnew.beckwater.example. 60 IN CNAME www.beckwater.example.\n"
    before = client.get(f"/api/plans/{key}").json()["document"]
    answer = ask(client, key, "names", zone)
    assert answer.json()["added"] == ["www.beckwater.example", "new.beckwater.example"]
    assert [one["op"] for one in answer.json()["patch"]] == ["replace" if before["names"] else "add", "add"]
    made = taken_by_edit(client, key, answer)
    assert {one.name: one.ttl_s for one in made.names} == {"www.beckwater.example": 33, "new.beckwater.example": 60}
    table = b"name,zone,capacity_rps\nspare-1,fells-1,50\n"
    answer = ask(client, key, "machines", table)
    assert answer.json()["patch"] == [
        {"op": "add", "path": "/instances/-", "value": {"name": "spare-1", "zone": "fells-1", "capacity_rps": 50}}
    ]


def test_what_cannot_be_taken_in_is_told(client, key, monkeypatch):
    assert "holds no line of an access log (1 others)" in ask(client, key, "clients", b"nothing\n").text
    assert "did you mean 'zone'" in ask(client, key, "machines", b"name,zon\na,b\n").text
    assert ask(client, key, "names", b"\xff\xfe").status_code == 422
    monkeypatch.setattr("northgate.web.deciding.taking.MOST_BYTES", 100)
    monkeypatch.setattr(files, "MOST_BYTES", 100)
    assert "larger than" in ask(client, key, "names", b"; " * 100).text
    assert ask(client, key, "nothing", b"").status_code == 422
    assert ask(client, "none", "names", b"").status_code == 404
    plain = client.post(f"/api/plans/{key}/take-in?as=names", content=b"x", headers={"content-type": "text/plain"})
    assert plain.status_code == 422
