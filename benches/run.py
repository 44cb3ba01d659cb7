"""What `make bench` prints: how long things take here, side by side in one run. Nothing is asserted.

`make bench KEEP=FILE` keeps the figures; `make bench COMPARE=FILE` prints how they stand to kept ones, each measured
against the same piece of work of its own run: what a machine does in an hour says little about the next.
"""

import argparse
import datetime
import json
import resource
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import httpx2
from benches.browser import browser
from benches.figures import EXAMPLE, FIGURES, KEPT, WORK, children_s, fixed_work, median_ms, row
from benches.growing import draw, measured
from msgspec.structs import replace

from northgate.engine.drill.run import run_drill, undisturbed
from northgate.engine.network.compile import compile_network
from northgate.engine.reports.drill import drill_answer
from northgate.engine.solver import Solver
from northgate.engine.trace.question import Question
from northgate.engine.trace.trace import trace
from northgate.plan import plan_from_data, read_plan
from northgate.plan.generated import ZONES_IN_REGION, generated_plan
from northgate.store.repository import Repository

SIMULATED = ("lose-fells-2", "tiles-8-crashes", "lose-fells")


def plans(folder: Path) -> None:
    """The command line on every plan file of a folder, whole processes."""
    print(f"Every drill of each plan in {folder}")
    taken: dict[str, float] = {}
    for file in sorted(folder.glob("*.plan.*")):
        before = children_s()
        subprocess.run(
            [sys.executable, "-m", "northgate", "drill", str(file), "--json"], capture_output=True, check=False
        )
        taken[file.name] = (children_s() - before) * 1000
    every = sorted(taken.values())
    row(f"{len(every)} plans: median", statistics.median(every))
    row("nine in ten under", every[int(len(every) * 0.9)])
    row(f"the slowest, {max(taken, key=lambda name: taken[name])}", every[-1])


def command_line() -> None:
    """The command line on the demo, whole processes."""
    print("Command line")
    python = [sys.executable]

    def run(*words: str) -> Callable[[], Any]:
        return lambda: subprocess.run([*python, *words], capture_output=True, check=False)

    bare = median_ms(run("-c", "pass"), clock=children_s)
    drill = median_ms(run("-m", "northgate", "drill", str(EXAMPLE), "--json"), clock=children_s)
    row("interpreter start-up alone", bare)
    row("northgate --version", median_ms(run("-m", "northgate", "--version"), clock=children_s))
    row("northgate drill examples/beckwater.plan.yaml --json", drill)
    row("the same without interpreter start-up", drill - bare)


def engine() -> None:
    """The engine on the demo, in one process."""
    print("Engine on the demo")
    plan = read_plan(EXAMPLE)
    network = compile_network(plan)
    run = run_drill(network, plan.drills[0])
    row("read the YAML file", median_ms(lambda: read_plan(EXAMPLE)))
    row("compile", median_ms(lambda: compile_network(plan)))
    for drill in plan.drills:
        events = len(run_drill(network, drill).keyframes)
        row(f"drill {drill.name} ({events} events)", median_ms(lambda: run_drill(network, drill), 3))  # noqa: B023

    def whole() -> None:
        again = read_plan(EXAMPLE)
        compiled = compile_network(again)
        for drill in again.drills:
            drill_answer(run_drill(compiled, drill)).model_dump_json()

    row("all that `northgate drill --json` does once loaded", median_ms(whole))
    row("its answer as JSON", median_ms(lambda: drill_answer(run).model_dump_json()))


def zone_loss(targets: int, lasts_s: float) -> dict[str, Any]:
    """A plan with so many targets in three zones, and the loss of one."""
    zones = ["fells-1", "fells-2", "fells-3"]
    instance = {"capacity_rps": 100, "service_ms": 10, "serves": [{"port": 8080, "protocol": "http"}]}
    fleet = {"name": "tiles", "zones": dict.fromkeys(zones), "count": targets, "instance": instance}
    listener = {"name": "https", "protocol": "https", "port": 443, "otherwise": {"pool": "web"}}
    call = {"url": "https://www.beckwater.example/"}
    steps = [{"at_s": 10, "fail": {"zone": "fells-2"}}]
    return {
        "northgate": 1,
        "name": "growth",
        "regions": [{"name": "fells", "zones": zones}],
        "fleets": [fleet],
        "probes": [{"name": "ready"}],
        "target_groups": [{"name": "tiles", "port": 8080, "probe": "ready", "targets": [{"fleet": "tiles"}]}],
        "pools": [{"name": "web", "tiers": [{"groups": {"tiles": 1}}]}],
        "balancers": [{"name": "front", "zones": dict.fromkeys(zones), "listeners": [listener]}],
        "names": [{"name": "www.beckwater.example", "answers": [{"balancer": "front"}]}],
        "clients": [{"name": "walkers", "rps": targets * 40, "calls": [call]}],
        "drills": [{"name": "loss", "lasts_s": lasts_s, "phases": "worst", "steps": steps}],
    }


def with_clients(targets: int, groups: int, balance: str, *, own: bool = True) -> dict[str, Any]:
    """So many targets, and client groups of 5,000 sources each: in networks of their own, or all in the same."""
    data = zone_loss(targets, 60)
    data["target_groups"][0]["balance"] = balance
    call = {"url": "https://www.beckwater.example/"}
    data["clients"] = [
        {
            "name": f"clients-{number}", "rps": targets * 20 / groups, "sources": 5000, "calls": [call],
            "cidr": f"10.{number if own else 0}.0.0/16",
        }
        for number in range(groups)
    ]  # fmt: skip
    return data


def sharing() -> None:
    """Shares for many targets and sources, by every method, and how that grows; and a trace on the demo."""
    print("Shares at one moment, three fronts, client groups of 5,000 sources each")
    for balance in ("round-robin", "flow-hash", "least-connections", "two-choices", "source-hash"):
        for targets, groups in ((100, 50), (1000, 50), (10_000, 50)):
            for own in (False, True) if balance == "source-hash" else (True,):
                network = compile_network(plan_from_data(with_clients(targets, groups, balance, own=own)))
                state = undisturbed(network).state

                def shares() -> None:
                    # A solver of its own: nothing is known from before.
                    Solver(network).solve(state)  # noqa: B023

                where = "" if balance != "source-hash" else ", own networks" if own else ", one network"
                heavy = balance == "source-hash" and targets == 10_000
                row(
                    f"{balance}, {targets:,} targets, {groups} client groups{where}",
                    median_ms(shares, 1 if heavy else 3),
                )
    print("A trace on the demo")
    network = compile_network(read_plan(EXAMPLE))
    flow = undisturbed(network)
    question = Question(url="https://www.beckwater.example/tiles/7", client="walkers")
    row("once", median_ms(lambda: trace(flow, question)))
    row("1,000 times", median_ms(lambda: trace(flow, replace(question, times=1000)), 3))


def simulated() -> None:
    """A drill against the simulation of single requests that the tests check it with: the same plan, side by side."""
    sys.path.insert(0, str(Path(__file__).parents[1]))
    from tests.simulation.requests import Simulation

    plan = read_plan(EXAMPLE)
    network = compile_network(plan)
    for drill in plan.drills:
        if drill.name not in SIMULATED:
            continue
        print(f"{drill.name} of the demo, {drill.lasts_s:g} s, against one simulated run of it")
        run = run_drill(network, drill)
        drill_ms = median_ms(lambda: run_drill(network, drill))  # noqa: B023
        started = time.process_time()
        counts = Simulation(plan, drill, 1).run()
        simulation_ms = (time.process_time() - started) * 1000
        row(f"drill ({len(run.keyframes)} events): {run.readings.failed:,.0f} fail", drill_ms)
        row(f"simulation ({counts.requests:,} requests): {sum(counts.causes.values()):,} fail", simulation_ms)
        row("so many times faster", simulation_ms / drill_ms, "times")


def growth() -> None:
    """How the time of a zone loss grows with targets and with the drill's length; spread probes tell of it one by
    one."""
    sizes = ((10, 60), (100, 60), (1000, 60), (1000, 3600), (1000, 86_400))
    for phases, cases in (("worst", (*sizes, (10_000, 60), (100_000, 60))), ("spread", sizes)):
        print(f"Growth of a zone loss ({phases} phases)")
        for targets, lasts_s in cases:
            data = zone_loss(targets, lasts_s)
            data["drills"][0]["phases"] = phases
            plan = plan_from_data(data)
            network = compile_network(plan)
            events = len(run_drill(network, plan.drills[0]).keyframes)
            taken = median_ms(lambda: run_drill(network, plan.drills[0]), 1)  # noqa: B023
            row(f"{phases}: {targets:>6,} targets, {lasts_s:>6,} s, {events} events", taken)
    row("peak memory of this process", resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024, "MB")


def growing() -> None:
    """How the time of a drill with spread probes grows with each size of it; draws the figure of docs/engine.md."""
    print("Growth of a drill, one size at a time")
    draw(measured(row))


def judging() -> None:
    """What is wrong with the demo, what each loss costs and how much is enough; and how that grows. Wall-clock time, as
    processes share the work."""
    from northgate.engine.drill import Losing
    from northgate.engine.reports.losses import alike, loss_row
    from northgate.losses import loss_table
    from northgate.review import review
    from northgate.sizing import sizing

    def taken_ms(work: Callable[[], Any]) -> float:
        started = time.perf_counter()
        work()
        return (time.perf_counter() - started) * 1000

    print("Judging the demo")
    plan, today = read_plan(EXAMPLE), datetime.date(2027, 1, 15)
    row("review without losses", median_ms(lambda: review(plan, today)))
    row("every single loss, with headroom and a year", taken_ms(lambda: loss_table(plan)))
    row("every pair too", taken_ms(lambda: loss_table(plan, pairs=True)))
    row("instances and zones that survive any zone's loss", taken_ms(lambda: sizing(plan, "zone", 0.85, None)))
    print("Growth of the table of losses")
    for targets, zones, groups in ((60, 3, 4), (240, 6, 10), (2000, 12, 40)):
        # In every region a rule for each group: none is without load, and none beyond what it carries.
        large = generated_plan(targets=targets, zones=zones, groups=groups, rules=groups * zones // ZONES_IN_REGION)
        size = f"{targets:,} targets, {zones} zones, {groups} groups"
        losing = Losing(compile_network(large))
        classes = alike(losing.network)
        some = classes[:: max(1, len(classes) // 20)]
        each = median_ms(lambda: [loss_row(losing, [one]) for one in some], 1) / len(some)  # noqa: B023
        row(f"{size}: one of {len(classes)} classes", each)
    row(f"{size}: every single loss, with headroom and a year", taken_ms(lambda: loss_table(large)))


def long_use() -> None:
    """Two thousand edits of the demo: what each takes at first and at last, and what the file has grown to."""
    print("\nLong use: 2,000 edits of the demo, kept one by one")
    plan = read_plan(EXAMPLE)
    with tempfile.TemporaryDirectory() as folder:
        repository, taken = Repository(Path(folder) / "plans.sqlite"), list[float]()
        key = repository.add(plan).key
        for number in range(1, 2001):
            made, start = plan.model_copy(update={"notes": f"edit {number}"}), time.process_time()
            repository.edit(key, number, made)
            taken.append((time.process_time() - start) * 1000)
        row("an edit, median of the first hundred", statistics.median(taken[:100]))
        row("an edit, median of the last hundred", statistics.median(taken[-100:]))
        row("reading the last revision", median_ms(lambda: repository.plan(key, 2001)))
        repository.close()
        row("what is kept", sum(one.stat().st_size for one in Path(folder).iterdir()) / 1e6, "MB")


def busy() -> None:
    """What another plan's list, edits and what-ifs take while fifty drills wait for their turn, as a client sees it."""
    print("\nWhile 50 drills are asked for at once: the list, an edit and a what-if of another plan (wall-clock time)")
    with tempfile.TemporaryDirectory() as folder:
        command = ["demo", "--port", "0", "--no-browser", "--data", folder]
        server = subprocess.Popen([sys.executable, "-m", "northgate", *command], stdout=subprocess.PIPE, text=True)
        assert server.stdout is not None
        with httpx2.Client(base_url=server.stdout.readline().split()[4], timeout=600) as client:
            plan = client.get("api/plans/beckwater").json()["document"]
            keys = []
            for number in range(50):
                plan["clients"][0]["rps"] += 1
                keys.append(client.post("api/plans", json=plan | {"name": f"busy-{number}"}).json()["key"])
            other = client.post("api/plans", json=plan | {"name": "other"}).json()["key"]
            # Who asks what if has looked at his board for some seconds: the processes that compute are there by then.
            assert client.get(f"api/plans/{other}/state").status_code == 200
            time.sleep(3)
            asked = [
                threading.Thread(target=client.get, args=(f"api/plans/{key}/drills/lose-fells",), daemon=True)
                for key in keys
            ]
            for one in asked:
                one.start()
            start = time.perf_counter()
            assert client.get("api/plans").status_code == 200
            row("the list, in the instant in which they come", (time.perf_counter() - start) * 1000)
            while client.get(f"api/plans/{keys[-1]}/drills/lose-fells/progress").json()["waits"] is None:
                time.sleep(0.05)
            taken: dict[str, list[float]] = {"the list": [], "an edit": [], "a what-if": []}
            for number in range(20):
                zone = ("fells-1", "fells-2", "fells-3", "coast-1")[number % 4]
                edit = {
                    "json": [{"op": "replace", "path": "/notes", "value": f"edit {number}"}],
                    "headers": {"if-match": f'"{number + 1}"'},
                }
                for what, method, address, more in (
                    ("the list", "GET", "api/plans", {}),
                    ("an edit", "PATCH", f"api/plans/{other}", edit),
                    ("a what-if", "POST", f"api/plans/{other}/what-if", {"json": {"faults": [{"zone": zone}]}}),
                ):
                    start = time.perf_counter()
                    assert client.request(method, address, **more).status_code == 200
                    taken[what].append((time.perf_counter() - start) * 1000)
            for what, times in taken.items():
                row(f"{what}, median of 20", statistics.median(times))
                row(f"{what}, the slowest", max(times))
            server.terminate()
            server.wait()


PARTS: dict[str, Callable[[], None]] = {
    "command": command_line, "engine": engine, "sharing": sharing, "simulated": simulated, "growth": growth,
    "growing": growing, "judging": judging, "browser": browser, "long": long_use, "busy": busy,
}  # fmt: skip


def main() -> None:
    """Prints the parts that are asked for, or all."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("parts", nargs="*", choices=[*PARTS, []], help="what to measure (default: all)")
    parser.add_argument("--plans", type=Path, help="a folder of plan files to run too")
    parser.add_argument("--keep", type=Path, help="a file to keep the figures in")
    parser.add_argument("--compare", type=Path, help="kept figures to hold these against")
    asked = parser.parse_args()
    if asked.compare:
        KEPT.update(json.loads(asked.compare.read_text()))
    row(WORK, median_ms(fixed_work))
    if asked.plans:
        plans(asked.plans)
    for name in asked.parts or ([] if asked.plans else PARTS):
        PARTS[name]()
    if asked.keep:
        asked.keep.write_text(json.dumps(FIGURES, indent=1) + "\n")


if __name__ == "__main__":
    main()
