"""What is handed over: each part says of the plan what is so, and can be read back by those who use it."""

import csv
import datetime
import http.server
import io
import json
import subprocess
import threading
from html.parser import HTMLParser
from pathlib import Path

import dns.zone
import pytest

from northgate.engine.network import compile_network
from northgate.handover.sheet import EXPORTS, export
from northgate.handover.sheet.building import builds
from northgate.handover.sheet.reaching import COLUMNS, needed_rules, needless_rules
from northgate.handover.sheet.sheet import RANKED, Table
from northgate.handover.sheet.written import as_csv
from northgate.losses import loss_table
from northgate.plan import plan_from_data, read_plan
from tests.cli.test_cli import northgate, write
from tests.engine.drill.test_traffic import drawn, rule
from tests.review.plans import but, whole
from tests.support.plans import plan_data

TODAY = datetime.date(2027, 1, 15)
DEMO = Path(__file__).parents[2] / "examples" / "beckwater.plan.yaml"
WITH_LOSSES = {"markdown", "html", "json", "losses-csv", "findings-csv"}


def exported(data, kind):
    return export(plan_from_data(data), kind, TODAY)


def test_a_zone_file_is_read_back_with_what_is_told_now():
    text = export(read_plan(DEMO), "dns-zone", TODAY)
    zone = dns.zone.from_text(text, origin="beckwater.example.", relativize=False, check_origin=False)
    found = {(str(name), rdata.to_text(), ttl) for name, ttl, rdata in zone.iterate_rdatas("A")}
    assert found == {("www.beckwater.example.", "203.0.113.10", 60), ("gauges.beckwater.example.", "203.0.113.20", 60)}
    assert "; www.beckwater.example. 60 IN A 203.0.113.20 ; takes over" in text


def test_every_answer_of_a_name_that_gives_all_is_a_record():
    data = plan_data()
    answers = [{"balancer": "front"}, {"address": "2001:db8::5"}, {"address": "198.51.100.7"}]
    data["names"][0] |= {"choose": "all", "answers": answers, "ttl_s": 300}
    data["names"].append({"name": "old.beckwater.example", "answers": [{"host": "www.beckwater.example"}]})
    zone = dns.zone.from_text(
        exported(data, "dns-zone"), origin="beckwater.example.", relativize=False, check_origin=False
    )
    kinds = {(kind, rdata.to_text()) for kind in ("A", "AAAA", "CNAME") for _, _, rdata in zone.iterate_rdatas(kind)}
    assert kinds == {
        ("A", "203.0.113.10"), ("A", "198.51.100.7"), ("AAAA", "2001:db8::5"), ("CNAME", "www.beckwater.example."),
    }  # fmt: skip


def rows(text):
    return list(csv.DictReader(io.StringIO(text)))


def test_the_rules_that_are_needed_stand_beside_those_there_are():
    data = drawn(app=[rule(["8080"], "balancer:front"), rule(["22"], "any")])
    found = rows(exported(data, "firewall-csv"))
    assert list(found[0]) == list(COLUMNS)
    to_targets = {
        (one["needed_by"], one["source"], one["protocol"], one["port"], one["has"])
        for one in found
        if one["needed_by"] != "walkers"
    }
    assert to_targets == {
        ("tiles", "balancer:front", "tcp", "8080", "app 1"),
        ("probe ready of tiles", "balancer:front", "tcp", "8080", "app 1"),
    }  # fmt: skip
    assert needless_rules(compile_network(plan_from_data(data))) == ["app 2"]
    missing = rows(exported(drawn(app=[]), "firewall-csv"))
    assert {one["has"] for one in missing if one["needed_by"] == "tiles"} == {""}


def test_a_balancer_that_passes_clients_on_needs_rules_for_them():
    data = drawn(app=[rule(["8080"], "balancer:front")])
    data["balancers"][0] |= {"source_seen": "client"}
    found = needed_rules(compile_network(plan_from_data(data)))
    assert {(one.source, one.has) for one in found if one.needed_by == "tiles"} != {("balancer:front", "app 1")}
    assert {one.has for one in found if one.needed_by == "tiles"} == {""}
    assert {(one.source, one.has) for one in found if one.needed_by.startswith("probe ready")} == {
        ("balancer:front", "app 1")
    }


def test_targets_are_listed_with_their_addresses_and_no_cell_is_a_formula():
    found = rows(export(read_plan(DEMO), "targets-csv", TODAY))
    assert len(found) == sum(one["group"] == "tiles" for one in found) + 2 + 16 + 3
    assert {
        "group": "tiles",
        "target": "tiles-1",
        "zone": "fells-1",
        "address": "10.20.11.2",
        "port": "8080",
        "weight": "1",
        "probe": "ready",
    } in found
    cells = ("=1+1", "+1", "-1", "@sum", "a,b")
    assert as_csv(Table(("a",) * 5, [cells])).splitlines()[1] == "'=1+1,'+1,'-1,'@sum,\"a,b\""


def test_steps_come_after_what_they_stand_on_and_say_every_value():
    plan = read_plan(DEMO)
    words = [one.words for one in builds(plan)]
    order = [
        "network fells-net",
        "firewall app",
        "probe ready",
        "fleet tiles",
        "target group tiles",
        "pool web",
        "balancer fells-front",
        "name www.beckwater.example",
    ]
    places = [words.index(f"build {one}") for one in order]
    assert places == sorted(places)
    values = dict(next(one.values for one in builds(plan) if one.words == "build probe ready"))
    assert (values["Every"], values["Give up after"], values["Path"]) == ("10 s", "5 s", "/ready")
    text = export(plan, "checklist", TODAY)
    assert text.count("- [ ] ") == len(words)
    assert "Hosts: \\*.beckwater.example" in text


class Tags(HTMLParser):
    """Counts tags, and whether each that is opened is closed."""

    def __init__(self):
        super().__init__()
        self.open, self.seen = [], []

    def handle_starttag(self, tag, attrs):
        self.seen.append(tag)
        assert not {"src", "href"} & {name for name, _ in attrs}, "a page that loads nothing"
        if tag not in ("meta", "rect"):
            self.open.append(tag)

    def handle_endtag(self, tag):
        if tag != "rect":
            assert self.open.pop() == tag


def test_the_page_is_whole_and_takes_nothing_of_the_plan_for_markup():
    data = plan_data(title="<script>alert(1)</script> & co", notes="a | b\n<b>")
    page, reader = exported(data, "html"), Tags()
    reader.feed(page)
    assert reader.open == []
    assert "script" not in reader.seen
    assert reader.seen.count("svg") == 1
    assert "&lt;script&gt;" in page
    assert "\\<b\\>" in exported(data, "markdown")


def test_all_of_it_is_one_document():
    document = json.loads(exported(plan_data(), "json"))
    assert {"plan", "steps", "firewall", "records", "targets", "drills", "losses", "cost", "findings", "checks"} <= set(
        document
    )
    assert document["plan"]["name"] == "small"


def test_the_sheet_has_every_section():
    text = exported(plan_data(), "markdown")
    for title in (
        "Build, in this order",
        "What cannot be changed later",
        "Firewall rules that it needs",
        "DNS records",
        "Targets",
        "Drills",
        "Losses, the worst first",
        "Cost",
        "Open findings",
        "What is assumed",
        "Checks for the first day",
    ):
        assert f"\n## {title}\n" in text


@pytest.fixture
def port():
    """A server on loopback that answers as the plan's machines do: its port."""

    class Answers(http.server.BaseHTTPRequestHandler):
        def do_GET(self):
            self.send_response(200)
            self.end_headers()

        def log_message(self, *_):
            pass

    with http.server.ThreadingHTTPServer(("127.0.0.1", 0), Answers) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        yield server.server_address[1]
        server.shutdown()


def local(port):
    """A plan whose balancer is what listens at that port of loopback."""
    data = plan_data(names=[])
    data["balancers"][0] |= {
        "addresses": ["127.0.0.1"],
        "listeners": [{"name": "http", "protocol": "http", "port": port, "otherwise": {"pool": "web"}}],
    }
    data["clients"][0]["calls"] = [{"url": f"http://127.0.0.1:{port}/tiles/7"}]
    data["drills"] = [{"name": "d", "steps": [{"at_s": 60, "fail": {"process": "tiles-1"}}]}]
    return data


CONNECTS = """#!/usr/bin/env python3
import socket, sys
try:
    socket.create_connection((sys.argv[-2], int(sys.argv[-1])), 3).close()
except OSError:
    sys.exit(1)
"""


def run_checks(tmp_path, data):
    script = tmp_path / "checks.sh"
    # A connect is all that nc is used for; where it is not installed, Python makes it.
    nc = tmp_path / "nc"
    nc.write_text(CONNECTS)
    nc.chmod(0o755)
    script.write_text(exported(data, "checks"))
    return subprocess.run(
        ["sh", str(script)],
        check=False,
        capture_output=True,
        text=True,
        timeout=60,
        env={"PATH": f"{tmp_path}:/usr/bin:/bin:/usr/local/bin"},
    )


def test_the_checks_hold_where_all_is_as_planned(tmp_path, port):
    done = run_checks(tmp_path, local(port))
    assert done.stdout.splitlines() == [
        f"held      front takes connections on 127.0.0.1 port {port}: yes",
        f"held      GET http://127.0.0.1:{port}/tiles/7 is answered: 200",
        "2 held, 0 not held",
    ]
    assert (done.returncode, done.stderr) == (0, "")


def test_the_checks_say_what_does_not_hold(tmp_path, port):
    data = local(port)
    data["balancers"][0]["listeners"][0]["otherwise"] = {"respond": {"status": 410}}
    done = run_checks(tmp_path, data)
    assert f"NOT HELD  GET http://127.0.0.1:{port}/tiles/7 is answered: expected 410, got 200" in done.stdout
    assert done.returncode == 1


def test_what_a_plan_says_is_never_run(tmp_path, port):
    data = local(port) | {"title": "x\nexit 7\n$(exit 8)"}
    data["clients"][0]["calls"] = [{"url": f"http://127.0.0.1:{port}/$(exit%209);'\""}]
    done = run_checks(tmp_path, data)
    assert "2 held, 0 not held" in done.stdout


@pytest.mark.parametrize("kind", EXPORTS)
def test_the_command_prints_each(tmp_path, kind):
    # What all losses come to is worked out of the smaller plan.
    data = plan_data() if kind in WITH_LOSSES else but(("/names/0/ttl_s", 600))
    assert northgate("export", write(tmp_path, data), "--as", kind).stdout.strip()


def test_tables_are_given_out_whole():
    losses = rows(exported(whole(), "losses-csv"))
    assert [one["lost"] for one in losses] == [one.words for one in loss_table(plan_from_data(whole())).losses]
    assert len(losses) > RANKED
    prices = {"platform": {"prices": {"instance_hour": 0.5}}}
    (tiles,) = (one for one in rows(exported(whole() | prices, "cost-csv")) if one["part"] == "tiles")
    assert tiles["a month"] == f"{4 * 0.5 * 730:,.2f}"
    assert [one["network"] for one in rows(exported(whole(), "routes-csv"))] == ["fells-net", "coast-net"]
    assert exported(plan_data(), "drills-csv").strip() == ""


def test_an_unknown_export_is_refused_with_the_nearest(tmp_path):
    done = northgate("export", write(tmp_path, plan_data()), "--as", "dns-zones")
    assert done.returncode == 2
    assert "did you mean 'dns-zone'?" in done.stderr


def test_only_long_words_of_a_table_are_broken():
    page = exported(plan_data(), "html")
    assert "<td>8080</td>" in page
    assert "<td class=long>status https://www.beckwater.example/" in page
