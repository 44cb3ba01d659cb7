"""The command line as a user runs it: output, exit status, no traceback."""

import io
import json
import sqlite3
import subprocess
import sys
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path
from typing import NamedTuple
from unittest import mock
from xml.etree import ElementTree

import jsonschema
import pytest

from northgate import __version__
from northgate.cli import main
from northgate.store.repository import Repository
from tests.engine.network.test_names import two_regions
from tests.plan.test_reading import EXAMPLE, NASTY
from tests.support.plans import base_plan, changed, fail, plan_data
from tests.support.waits import WAIT_S

STABLE_KEYS = {"name", "held", "readings", "expect", "blind", "series"}


class Done(NamedTuple):
    """What a command has printed, and how it ended."""

    returncode: int
    stdout: str
    stderr: str


def northgate(*words):
    """Runs a command in this process."""
    out, err, status = io.StringIO(), io.StringIO(), 0
    with mock.patch("sys.argv", ["northgate", *map(str, words)]), redirect_stdout(out), redirect_stderr(err):
        try:
            main()
        except SystemExit as end:
            status = end.code or 0
    return Done(status, out.getvalue(), err.getvalue())


def process(*words, **more):
    """Runs a command as a process of its own."""
    return subprocess.run(
        [sys.executable, "-m", "northgate", *map(str, words)], capture_output=True, text=True, check=False, **more
    )


def write(tmp_path, data):
    path = tmp_path / "a.plan.json"
    path.write_text(json.dumps(data))
    return path


def test_drill_prints_one_json_document_with_the_stable_keys():
    done = northgate("drill", EXAMPLE, "--json")
    drills = json.loads(done.stdout)["drills"]
    assert done.stderr == ""
    assert [drill["name"] for drill in drills] == ["lose-fells-2", "tiles-8-crashes", "alerts-cut-off", "lose-fells"]
    assert all(drill.keys() >= STABLE_KEYS for drill in drills)
    assert set(drills[0]["series"]) >= {"t_s", "by_zone_rps", "failed_rps", "utilisation", "stale_share"}
    row = drills[0]["blind"][0]
    assert row.keys() >= {
        "target",
        "balancer",
        "front",
        "probe",
        "change",
        "true_at_s",
        "believed_at_s",
        "earliest_s",
        "latest_s",
    }
    lengths = {
        len(values) for part in drills[0]["series"].values() if isinstance(part, dict) for values in part.values()
    }
    assert lengths == {len(drills[0]["series"]["t_s"])}


def test_the_exit_status_follows_the_expectations():
    assert process("drill", EXAMPLE, "lose-fells-2").returncode == 1
    assert northgate("drill", EXAMPLE, "tiles-8-crashes").returncode == 0


def test_the_summary_is_for_a_terminal():
    done = northgate("drill", EXAMPLE, "lose-fells-2")
    assert "held 2 of 3 expectations" in done.stdout
    assert "NOT HELD failed_share at most 0.002" in done.stdout
    assert "possible 25 to 35 s" in done.stdout
    assert max(map(len, done.stdout.splitlines())) <= 100


def test_a_plan_without_drills_says_so(tmp_path):
    done = northgate("drill", write(tmp_path, plan_data()))
    assert (done.returncode, done.stdout) == (0, "The plan has no drills.\n")


@pytest.mark.parametrize(
    ("data", "says"),
    [
        (plan_data(probse=[]), "/probse: unknown field 'probse'; did you mean 'probes'?"),
        (changed(plan_data(), "/target_groups/0/probe", "redy"), "/target_groups/0/probe: there is no probe 'redy'"),
        (
            plan_data(
                drills=[{"name": "d", "steps": [{"at_s": 5, "restore": {"zone": "fells-1"}}]}],
            ),
            "/drills/0/steps/0/restore: zone fells-1 has not failed before 5 s",
        ),
        (plan_data(drills=[{"name": "d", "steps": [fail(9999, zone="fells-1")]}]), "after the drill has ended"),
    ],
)
def test_unusable_input_ends_with_status_2_and_its_place(tmp_path, data, says):
    done = northgate("drill", write(tmp_path, data), "--json")
    assert (done.returncode, done.stdout) == (2, "")
    assert says in done.stderr
    assert "Traceback" not in done.stderr


@pytest.mark.parametrize("words", [
    ["drill", "BAD"], ["trace", "BAD"], ["losses", "BAD"], ["size", "BAD"], ["usual", "BAD"], ["cost", "BAD"],
    ["sweep", "BAD", "--drill", "d", "--set", "probes/ready/interval_s=2..4/2"], ["export", "BAD", "--as", "json"],
    ["change", EXAMPLE, "BAD"], ["change", "BAD", EXAMPLE],
])  # fmt: skip
def test_what_stands_in_the_way_of_a_run_is_told_with_its_line(tmp_path, words):
    lines = EXAMPLE.read_text().splitlines()
    number = next(number for number, line in enumerate(lines) if line.strip() == "probe: ready")
    bad = tmp_path / "bad.plan.yaml"
    bad.write_text("\n".join([*lines[:number], lines[number].replace("ready", "redy"), *lines[number + 1 :]]))
    done = northgate(*(bad if word == "BAD" else word for word in words))
    assert (done.returncode, done.stdout) == (2, "")
    place = f"{bad}:{number + 1}:{lines[number].index('probe') + 1}: /target_groups/0/probe"
    assert done.stderr == f"{place}: there is no probe 'redy'; did you mean 'ready'?\n"


@pytest.mark.parametrize(
    "words", [["drill"], ["drill", "/nowhere.plan.yaml"], ["dril"], ["drill", EXAMPLE, "lose-fels-2"]]
)
def test_wrong_words_end_with_status_2(words):
    done = northgate(*words)
    assert done.returncode == 2
    assert "Traceback" not in done.stderr


def test_a_mistyped_drill_names_the_nearest():
    assert "did you mean 'lose-fells-2'?" in northgate("drill", EXAMPLE, "lose-fels-2").stderr


def test_schema_prints_the_schema():
    printed = json.loads(northgate("schema").stdout)
    jsonschema.Draft202012Validator.check_schema(printed)
    assert printed == json.loads(northgate("schema", "--json").stdout)


def test_a_taken_port_is_said_plainly(tmp_path):
    import socket

    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        done = process("demo", "--no-browser", "--port", taken.getsockname()[1], "--data", tmp_path, timeout=WAIT_S)
    assert done.returncode == 2
    assert "cannot be used" in done.stderr


@pytest.mark.parametrize("name", ["a tag", "an unknown alias", "very deep", "JSON with NaN"])
def test_hostile_files_end_with_status_2_and_no_traceback(tmp_path, name):
    path = tmp_path / "nasty.plan.yaml"
    path.write_text(NASTY[name][0])
    done = process("drill", path)
    assert done.returncode == 2
    assert NASTY[name][1] in done.stderr
    assert "Traceback" not in done.stderr


def test_make_example_prints_a_plan_that_runs(tmp_path):
    printed = northgate("make-example", "--targets", 30, "--zones", 4, "--groups", 2, "--rules", 6, "--seed", 7)
    path = tmp_path / "made.plan.yaml"
    path.write_text(printed.stdout)
    assert northgate("drill", path).returncode == 0
    again = northgate("make-example", "--targets", 30, "--zones", 4, "--groups", 2, "--rules", 6, "--seed", 7)
    assert again.stdout == printed.stdout


def test_a_trace_is_one_document_with_its_stable_keys(tmp_path):
    done = northgate("trace", EXAMPLE, "--client", "walkers", "--at", "lose-fells-2@89", "--json")
    answer = json.loads(done.stdout)
    assert (done.returncode, done.stderr) == (0, "")
    assert answer["outcome"].keys() >= {"status", "error", "latency_ms", "target"}
    assert answer["request"]["client"] == "walkers"
    assert "answers" not in answer
    for hop in answer["hops"]:
        assert hop.keys() >= {"kind", "about", "ok", "because", "candidates"}
        assert all(one.keys() >= {"name", "zone", "chosen", "share", "excluded"} for one in hop["candidates"])
    many = json.loads(northgate("trace", EXAMPLE, "--client", "walkers", "--times", "20", "--json").stdout)
    assert len(many["answers"]) == sum(many["counts"].values()) == 20


def test_a_trace_in_words_and_that_of_a_probe():
    text = northgate("trace", EXAMPLE, "--client", "walkers", "--at", "lose-fells-2@89", "--times", "40").stdout
    assert text.startswith("200 after 43.6 ms: tiles-1 in fells-1 answers")
    assert "because one address, spread evenly over 2 fronts; the fells-2 front left the address 24 s ago" in text
    assert "sent 40 times" in text
    probe = northgate("trace", EXAMPLE, "--probe", "tiles/tiles-8", "--at", "lose-fells-2@89").stdout
    assert probe.startswith("time-out after 5 s: tiles-8 is believed out by fells-front in fells-1")


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (["--client", "walker"], "there is no client group 'walker'; did you mean 'walkers'?"),
        (["--at", "lose-fell@3"], "there is no drill 'lose-fell'; did you mean 'lose-fells'?"),
        (["--at", "lose-fells-2@soon"], "'soon' is not a second; write DRILL@SECOND"),
        (["--at", "lose-fells-2@1000"], "the drill lasts from 0 to 900 s"),
        (["--url", "https://a.example:99999/"], "/url: 'https://a.example:99999/' is not a URL"),
        (["--vary", "colour"], "connection, kept, source or area"),
        (["--header", "x-canary"], "'x-canary' is not a header"),
        (["--probe", "tiles/tiles-80"], "nobody probes 'tiles-80' in tiles; did you mean 'tiles-8'?"),
    ],
)
def test_a_trace_that_cannot_be_made_ends_with_status_2(arguments, says):
    done = northgate("trace", EXAMPLE, *arguments)
    assert (done.returncode, done.stdout) == (2, "")
    assert says in done.stderr
    assert "Traceback" not in done.stderr


def test_reports_for_pipelines(tmp_path):
    junit, markdown = tmp_path / "drills.xml", tmp_path / "drills.md"
    done = northgate(
        "drill", EXAMPLE, "lose-fells-2", "tiles-8-crashes", "--junit", str(junit), "--markdown", str(markdown)
    )
    assert done.returncode == 1
    suites = ElementTree.parse(junit).getroot()
    assert (suites.get("tests"), suites.get("failures")) == ("5", "1")
    case = suites.find("testsuite/testcase[failure]")
    assert case.get("name") == "failed_share at most 0.002"
    assert "requests fail over" in case.find("failure").text
    text = markdown.read_text()
    assert "## lose fells-2 at peak: **not held**" in text
    assert "| failed_share at most 0.002 | 1.06 % | **not held** |" in text
    refused = northgate("drill", EXAMPLE, "tiles-8-crashes", "--junit", str(tmp_path / "no" / "such.xml"))
    assert refused.returncode == 2
    assert "cannot be written" in refused.stderr


def test_levers_are_worked_out_when_asked():
    done = northgate("drill", EXAMPLE, "tiles-8-crashes", "--levers", "--json")
    levers = json.loads(done.stdout)["drills"][0]["levers"]
    assert levers[0]["fewer_failed"] >= levers[1]["fewer_failed"] > 0
    assert "what would have helped" in northgate("drill", EXAMPLE, "tiles-8-crashes", "--levers").stdout


def test_the_version_is_told():
    done = process("--version")
    assert (done.returncode, done.stdout) == (0, f"northgate {__version__}\n")


def test_what_a_plan_leaves_open_is_told_beside_its_answer(tmp_path):
    data = two_regions()
    data["areas"][0]["latency_ms"].pop("coast")
    data["names"][0]["choose"] = "nearest"
    done = northgate("trace", write(tmp_path, data), "--client", "walkers", "--json")
    assert done.returncode == 0
    assert "uplands has no latency to coast" in done.stderr
    assert json.loads(done.stdout)["outcome"]["zone"].startswith("fells")


def test_losses_are_ranked_in_one_document(tmp_path):
    path = write(tmp_path, plan_data())
    done = northgate("losses", path, "--json")
    document = json.loads(done.stdout)
    rows = document["losses"]
    assert [row["failed_requests"] for row in rows] == sorted((row["failed_requests"] for row in rows), reverse=True)
    keys = {
        "parts",
        "count",
        "failed_requests",
        "blind_s",
        "settled_s",
        "unserved_share",
        "peak_utilisation",
        "cascade",
    }
    assert keys <= set(rows[0])
    zone = next(row for row in rows if row["parts"] == [{"zone": "fells-1"}])
    assert zone["blind_s"] == 35
    assert [one["lost"] for one in document["headroom"]] == [
        None, {"zone": "fells-1"}, {"zone": "fells-2"}, {"zone": "fells-3"},
    ]  # fmt: skip
    assert {"failed_requests", "availability", "by_part"} <= set(document["year"])
    said = northgate("losses", path)
    assert said.returncode == 0
    assert "zone fells-1" in said.stdout
    assert "overload from" in said.stdout


def test_a_drill_does_not_load_what_it_does_not_need(tmp_path):
    """SciPy, the server and the work of many processes take longer to load than most drills to run; readers of YAML,
    masked arrays and XML as long as a tenth of all the rest."""
    needless = "scipy fastapi sqlalchemy distributed numba yaml numpy.ma xml concurrent.futures logging"
    path = write(tmp_path, plan_data(drills=[{"name": "loss", "lasts_s": 90, "steps": [fail(60, zone="fells-2")]}]))
    code = (
        "import sys; from northgate.cli import main; sys.argv = ['northgate', 'drill', sys.argv[1], '--json']\n"
        "try:\n    main()\nexcept SystemExit:\n    pass\n"
        f"print([name for name in '{needless}'.split() if name in sys.modules])"
    )
    done = subprocess.run([sys.executable, "-c", code, path], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "[]"


def test_the_store_is_checked_copied_and_brought_back(tmp_path):
    data, copy = tmp_path / "data", tmp_path / "copy.sqlite"
    repository = Repository(data / "northgate.sqlite")
    repository.add(base_plan())
    repository.close()
    assert northgate("store", "backup", str(copy), "--data", str(data)).stdout == f"{copy}: plans 1, revisions 1\n"
    again = northgate("store", "backup", str(copy), "--data", str(data))
    assert (again.returncode, again.stderr) == (2, f"{copy} exists already; nothing was written\n")
    below = northgate("store", "backup", str(copy / "deeper" / "x"), "--data", str(data))
    assert (below.returncode, below.stderr.count("\n")) == (2, 1)
    assert "cannot be used" in below.stderr
    back = json.loads(northgate("store", "restore", str(copy), "--data", str(data), "--json").stdout)
    assert (back["plans"], back["revisions"]) == (1, 1)
    assert Path(back["aside"]).parent == data
    with sqlite3.connect(data / "northgate.sqlite") as store:
        store.execute("UPDATE plan SET current = 4")
    store.close()
    looked = northgate("store", "check", "--data", str(data))
    assert looked.returncode == 1
    assert looked.stdout == "not whole: plans 1, revisions 1\nplan small: its current revision 4 is not there\n"
