"""What is there already, taken into a plan."""

import io
import json
import random
import re
import shutil
from pathlib import Path

import pytest

from northgate.handover.sheet.records import zone_file
from northgate.intake import logs, take_in
from northgate.intake.logs import read_log
from northgate.plan import PlanError, plan_from_data, read_plan
from tests.cli.test_cli import northgate, write
from tests.simulation.random_plans import random_plan
from tests.support.plans import drill_of, plan_data

DEMO = Path(__file__).parents[2] / "examples" / "beckwater.plan.yaml"


def line(source="192.0.2.1", at="18:30:05", path="/tiles/7", method="GET", zone="+0000", day="26/Nov/2026"):
    return f'{source} - - [{day}:{at} {zone}] "{method} {path} HTTP/1.1" 200 512'


def log(tmp_path, *lines):
    path = tmp_path / "access.log"
    path.write_text("\n".join(lines) + "\n")
    return path


def taken(path, form, data=None, **more):
    return take_in(path, form, plan_from_data(data or plan_data()), **more)


def test_rates_paths_and_sources_are_counted(tmp_path):
    lines = [line(f"192.0.2.{n % 5}", f"18:30:{n % 60:02}", f"/tiles/{n % 3}") for n in range(120)]
    lines += [line(at="18:31:10", path="/alerts/near?q=1", method="POST") for _ in range(30)]
    group = taken(log(tmp_path, *lines), "clients").plan.clients[-1]
    assert (group.name, group.rps, group.sources) == ("from-log", 2, 5)
    assert [(call.url, call.method, call.share) for call in group.calls] == [
        ("https://www.beckwater.example/tiles/0", "GET", 120),
        ("https://www.beckwater.example/alerts/near", "POST", 30),
    ]  # fmt: skip


def test_the_profile_follows_the_minutes_of_the_log(tmp_path):
    lines = [line(at=f"18:{minute}:00") for minute, count in ((30, 6), (31, 3), (34, 6)) for _ in range(count)]
    group = taken(log(tmp_path, *lines), "clients", profile=True).plan.clients[-1]
    assert group.profile == [[0, 1], [60, 0.5], [120, 0], [240, 1], [300, 0]]
    assert group.rps == pytest.approx(0.1)


def test_time_zones_and_the_combined_format_are_understood(tmp_path):
    more = ' "https://www.beckwater.example/" "Mozilla/5.0 (X11; [x])"'
    lines = [line(at="19:30:05", zone="+0100") + more, line(at="13:00:30", zone="-0530") + more, line() + more]
    traffic = read_log(io.BytesIO("\n".join(lines).encode()))
    assert traffic.requests == 3
    assert list(traffic.minutes.values()) == [3]


def test_bad_lines_are_counted_and_shown_and_never_dropped_in_silence(tmp_path):
    lines = [line(), "nonsense \x1b[31m", "", line(at="25:00:00"), line(day="26/Nox/2026"), line()]
    found = taken(log(tmp_path, *lines), "clients")
    assert (found.read, found.bad.count) == (5, 3)
    assert [number for number, _ in found.bad.first] == [2, 4, 5]
    assert "\x1b" not in found.bad.first[0][1]
    with pytest.raises(PlanError, match=r"no line of an access log \(1 others\)"):
        taken(log(tmp_path, "nothing"), "clients")


def test_heavy_sources_are_told(tmp_path):
    lines = [line(f"192.0.2.{n}") for n in range(200)] + [line("198.51.100.9")] * 100
    (peak, heavy) = taken(log(tmp_path, *lines), "clients").notes
    assert "201 different sources" in peak
    assert heavy == "a heavy source: 198.51.100.9, 33.3% of all"


def test_a_log_of_anything_at_all_breaks_nothing():
    chance = random.Random(7)
    junk = [bytes(chance.randrange(256) for _ in range(chance.randrange(200))) for _ in range(300)]
    mixed = [bytearray(line().encode()) for _ in range(300)]
    for one in mixed:
        one[chance.randrange(len(one))] = chance.randrange(256)
    whole = b"\n".join([*junk, *map(bytes, mixed)])
    traffic = read_log(io.BytesIO(whole))
    assert traffic.requests + traffic.bad.count == sum(bool(one.strip()) for one in whole.split(b"\n"))
    plan = plan_data()
    plan["clients"].append({"name": "x", "rps": 1, "calls": traffic.calls("https://www.beckwater.example")})
    plan_from_data(plan)


@pytest.mark.parametrize("piece", [100, 333, 4096])
def test_pieces_of_any_size_come_to_the_same(monkeypatch, piece):
    """However a log is cut into pieces, and whether its lines are found at once or one by one."""
    chance = random.Random(piece)
    lines = [
        line(f"192.0.2.{n % 9}", f"18:{n // 60:02}:{n % 60:02}", method=chance.choice(("GET", "POST")),
             path=f"/{chance.choice('ab')}/{n % 30}?{n}")
        for n in range(400)
    ]  # fmt: skip
    lines[50:50], lines[200:200] = ["no request", ""], [line(at="24:00:00")]
    text = "\n".join(lines).encode()
    at_once = read_log(io.BytesIO(text))
    monkeypatch.setattr(logs, "PIECE", piece)
    monkeypatch.setattr(logs, "MOST_PATHS", 5)
    monkeypatch.setattr(logs, "USUAL", re.compile(rb"()()()$^"))
    in_pieces = read_log(io.BytesIO(text))
    assert at_once.requests == in_pieces.requests == 400
    assert at_once.bad.first == in_pieces.bad.first == [(51, "no request"), (201, line(at="24:00:00")[:120])]
    assert (at_once.minutes, at_once.sources) == (in_pieces.minutes, in_pieces.sources)
    assert at_once.kinds == in_pieces.kinds
    assert sum(at_once.kinds.values()) == sum(at_once.minutes.values()) == 400


def test_a_drill_runs_on_what_came_in(tmp_path):
    lines = [line(at=f"18:30:{n % 60:02}") for n in range(600)]
    data = taken(log(tmp_path, *lines), "clients", plan_data(clients=[])).plan.model_dump(mode="json", by_alias=True)
    assert drill_of(data, []).readings.requests == pytest.approx(10 * 600)


def zone(tmp_path, text):
    path = tmp_path / "zone"
    path.write_text(text)
    return path


def test_a_zone_file_becomes_names_that_lead_to_balancers(tmp_path):
    text = """$TTL 300
beckwater.example. IN SOA ns.beckwater.example. hostmaster.beckwater.example. 1 7200 3600 1209600 300
www.beckwater.example. 60 IN A 203.0.113.10
www.beckwater.example. 60 IN A 198.51.100.7
old.beckwater.example. IN CNAME www.beckwater.example.
beckwater.example. IN MX 10 mail.beckwater.example.
"""
    found = taken(zone(tmp_path, text), "names")
    names = {one.name: one for one in found.plan.names}
    assert [one.model_dump(exclude_defaults=True) for one in names["www.beckwater.example"].answers] == [
        {"balancer": "front"}, {"address": "198.51.100.7"},
    ]  # fmt: skip
    assert (names["www.beckwater.example"].choose, names["www.beckwater.example"].ttl_s) == ("all", 60)
    assert names["old.beckwater.example"].answers[0].host == "www.beckwater.example"
    assert found.bad.count == 1
    assert found.notes == ["1 of them were in the plan before, and answer as in the file now"]


# Names of every kind of answer, whom a file cannot tell apart by more than their records.
MANY = [
    {"name": "Any.beckwater.example", "choose": "all", "answers": [
        {"host": "a.example"}, {"instance": "old"}, {"address": "2001:db8::1"}, {"address": "203.0.113.10"},
    ]},
    {"name": "alias.beckwater.example", "choose": "share", "answers": [
        {"host": "A.example.", "weight": 3}, {"host": "b.example"},
    ]},
    {"name": "first.beckwater.example", "probe": "ready", "ttl_s": 7, "standby_share": 0.1, "answers": [
        {"balancer": "front"}, {"address": "198.51.100.7"}, {"instance": "old"},
    ], "when_none_healthy": {"host": "a.example"}},
]  # fmt: skip


def with_many_names():
    data = plan_data()
    data["instances"] = [{"name": "old", "zone": "fells-1", "public_address": "203.0.113.40"}]
    data["names"] += MANY
    return plan_from_data(data)


def test_what_a_plan_gives_out_as_records_is_no_news_to_it(tmp_path):
    """A zone file can be read: an alias stands alone at its name (RFC 1034, section 3.6.2). And it changes nothing."""
    plans = [with_many_names(), read_plan(DEMO), *(plan_from_data(random_plan(seed)) for seed in range(20))]
    for plan in plans:
        found = take_in(zone(tmp_path, zone_file(plan)), "names", plan)
        assert (found.plan, found.patch, found.added) == (plan, [], [])
        assert found.notes == [f"{len(plan.names)} in the file answer so already"]


def test_what_a_file_cannot_say_of_a_name_stays(tmp_path):
    text = "first.beckwater.example. 7 IN A 198.51.100.7\nfirst.beckwater.example. 7 IN A 198.51.100.8\n"
    text += "alias.beckwater.example. 90 IN CNAME a.example.\nany.beckwater.example. 60 IN A 203.0.113.40\n"
    found = take_in(zone(tmp_path, text), "names", with_many_names())
    first, alias, other = (
        next(one for one in found.plan.names if one.name.lower() == f"{name}.beckwater.example").model_dump(
            exclude_defaults=True
        )
        for name in ("first", "alias", "any")
    )
    assert (first["probe"], first["when_none_healthy"]) == ("ready", {"host": "a.example"})
    assert (first["choose"], first["answers"]) == ("all", [{"address": "198.51.100.7"}, {"address": "198.51.100.8"}])
    assert "standby_share" not in first
    # Only how long it is kept is news.
    assert (alias["ttl_s"], alias["answers"]) == (90, MANY[1]["answers"])
    assert (other["name"], other["answers"]) == ("Any.beckwater.example", [{"instance": "old"}])


@pytest.mark.parametrize("text", ["this is none", "$INCLUDE /etc/passwd", "a.example. IN MX 10 b.example."])
def test_what_is_no_zone_file_is_refused(tmp_path, text):
    with pytest.raises(PlanError, match="zone"):
        taken(zone(tmp_path, text), "names")


def test_a_table_becomes_machines_and_updates_those_that_are_there(tmp_path):
    path = tmp_path / "machines.csv"
    path.write_text("name,zone,capacity_rps,tags\nmaps-1,fells-1,120,wet;new\nmaps-2,fells-2,1.5,\n,fells-1,,\n")
    found = taken(path, "machines")
    one, two = found.plan.instances
    assert (one.name, one.zone, one.capacity_rps, one.tags) == ("maps-1", "fells-1", 120, ["wet", "new"])
    assert (two.capacity_rps, two.tags) == (1.5, [])
    assert found.bad.first == [(4, ",fells-1,,: it has no name")]
    path.write_text("name,zone,service_ms\nmaps-1,fells-3,9\n")
    again = take_in(path, "machines", found.plan).plan.instances
    assert {(each.name, each.zone, each.service_ms, each.capacity_rps) for each in again} == {
        ("maps-1", "fells-3", 9, 120), ("maps-2", "fells-2", 0, 1.5),
    }  # fmt: skip


def test_an_unknown_column_is_told_with_the_nearest(tmp_path):
    path = tmp_path / "machines.csv"
    path.write_text("name,zone,capacty_rps\nmaps-1,fells-1,120\n")
    with pytest.raises(PlanError, match="no column 'capacty_rps'; did you mean 'capacity_rps'"):
        taken(path, "machines")


def test_the_command_changes_the_plan_file_and_keeps_its_comments(tmp_path):
    plan = tmp_path / "demo.plan.yaml"
    shutil.copy(DEMO, plan)
    file = log(tmp_path, *[line(at=f"18:30:{n:02}") for n in range(60)], "nonsense")
    said = json.loads(northgate("import", file, "--as", "clients", "--into", plan, "--json").stdout)
    assert (said["added"], said["read"], said["bad"]["count"]) == (["from-log"], 61, 1)
    assert read_plan(plan).clients[-1].rps == 1
    assert "# From outside only web traffic" in plan.read_text()
    before = plan.read_bytes()
    northgate("import", file, "--as", "clients", "--into", plan, "--dry-run")
    assert plan.read_bytes() == before


def test_what_cannot_come_in_leaves_the_plan_file_as_it_was(tmp_path):
    plan = write(tmp_path, plan_data())
    before = plan.read_bytes()
    bad = tmp_path / "machines.csv"
    bad.write_text("name,zone\nMaps 1,fells-1\n")
    done = northgate("import", bad, "--as", "machines", "--into", plan)
    assert done.returncode == 2
    assert "is not a name" in done.stderr
    assert plan.read_bytes() == before
    assert northgate("import", tmp_path, "--as", "clients", "--into", plan).returncode == 2
    assert "did you mean 'clients'" in northgate("import", bad, "--as", "client", "--into", plan).stderr
