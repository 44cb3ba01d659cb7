"""Strangers are kept out, and large bodies."""

import pytest
from starlette.testclient import TestClient

from northgate.plan.reading import MAX_BYTES
from northgate.web.app import make_app
from northgate.web.door.guards import is_local_host


@pytest.mark.parametrize(
    ("host", "local"),
    [
        ("localhost", True), ("localhost:8420", True), ("127.0.0.1:8420", True), ("[::1]:8420", True), ("[::1]", True),
        ("LOCALHOST", True), ("127.9.9.9", True), ("", False), ("beckwater.example", False), ("10.0.0.1:80", False),
        ("[[[localhost:1", False), ("localhost:evil.example", False), ("localhost:", False), ("127.0.0.1:80:80", False),
        ("localhost.beckwater.example", False), ("127.0.0.1.beckwater.example", False), ("0.0.0.0", False),
    ],
)  # fmt: skip
def test_only_loopback_names_are_local(host, local):
    assert is_local_host(host) is local


def test_a_foreign_host_is_refused(client):
    answer = client.get("/api/plans", headers={"host": "rebound.beckwater.example"})
    assert answer.status_code == 421
    assert answer.json()["title"] == "Not for this host"


@pytest.mark.parametrize(
    ("origin", "status"),
    [
        ("http://127.0.0.1", 201),
        ("http://127.0.0.1:9999", 403),
        ("https://127.0.0.1", 403),
        ("http://localhost", 403),
        ("https://pages.example", 403),
        ("null", 403),
    ],
)
def test_pages_of_other_origins_may_not_write(client, origin, status):
    text = "northgate: 1\nname: small\n"
    assert client.post("/api/plans", content=text, headers={"origin": origin}).status_code == status


def test_a_body_is_bounded_whether_it_says_so_or_not(client):
    assert client.post("/api/plans", content=b"#" * (MAX_BYTES + 1)).status_code == 413

    def in_pieces():
        for _ in range(MAX_BYTES // 1_000_000 + 2):
            yield b"#" * 1_000_000

    assert client.post("/api/plans", content=in_pieces()).status_code == 413
    assert len(client.get("/api/plans").json()) == 1


def test_every_answer_tells_the_browser_what_it_may_do(client):
    headers = client.get("/api/plans").headers
    assert headers["x-content-type-options"] == "nosniff"
    assert "frame-ancestors 'none'" in headers["content-security-policy"]


@pytest.mark.parametrize(
    ("site", "status"), [("same-origin", 200), ("none", 200), ("same-site", 403), ("cross-site", 403)]
)
def test_pages_of_other_sites_may_not_even_read(client, site, status):
    answer = client.get("/api/plans", headers={"sec-fetch-site": site})
    assert answer.status_code == status
    assert "base-uri 'none'" in answer.headers["content-security-policy"]


@pytest.mark.parametrize("headers", [{"host": "rebound.example"}, {"origin": "null"}, {"content-length": "99999999"}])
def test_refusals_have_the_headers_too(client, headers):
    answer = client.post("/api/plans", content=b"x", headers=headers)
    assert answer.status_code in (403, 413, 421)
    assert answer.headers["x-frame-options"] == "DENY"


@pytest.fixture
def private(repository):
    with TestClient(make_app(repository, "s3cret"), base_url="http://127.0.0.1", follow_redirects=False) as asked:
        yield asked


def test_a_private_server_answers_only_who_brings_its_token(private):
    assert private.get("/api/plans").status_code == 401
    assert private.get("/plans").status_code == 401
    assert private.get("/plans?token=guess").status_code == 401
    # Not in the address of a question: it would stand in logs and histories.
    assert private.get("/api/plans?token=s3cret").status_code == 401
    assert private.get("/api/plans", headers={"authorization": "Bearer guess"}).status_code == 401
    assert private.get("/api/plans", headers={"authorization": "Bearer s3cret"}).status_code == 200
    refused = private.get("/api/plans")
    assert refused.headers["x-frame-options"] == "DENY"


def test_its_address_leads_in_and_leaves_no_token_behind(private):
    led = private.get("/plans/small/board?token=s3cret")
    assert (led.status_code, led.headers["location"]) == (303, "/plans/small/board")
    cookie = led.headers["set-cookie"].lower()
    assert "httponly" in cookie
    assert "samesite=strict" in cookie
    assert private.get("/api/plans").status_code == 200
    private.cookies.clear()
    assert private.get("/api/plans").status_code == 401
    elsewhere = private.get("http://127.0.0.1//pages.example/?token=s3cret")
    assert elsewhere.headers["location"] == "/pages.example/"
