"""The command line. Exit status: 0 all well, 1 an expectation failed, 2 the input cannot be used."""

import datetime
import itertools
import json
import sys
import time
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from northgate import __version__
from northgate.plan.problems import PlanError, Problem, did_you_mean

if TYPE_CHECKING:
    from collections.abc import Callable

    from northgate.engine.base import Reached, Watch
    from northgate.engine.network import Network
    from northgate.engine.reports import DrillAnswer
    from northgate.engine.solver import Flow
    from northgate.engine.trace import History
    from northgate.plan import Plan

app = typer.Typer(
    no_args_is_help=True, add_completion=False, pretty_exceptions_enable=False, rich_markup_mode=None,
    help="Plan load balancing across zones, and see where traffic goes and how it fails over.",
)  # fmt: skip

PlanPath = Annotated[Path, typer.Argument(metavar="PLAN", help="A plan file: *.plan.yaml, or JSON.")]
AsJson = Annotated[bool, typer.Option("--json", help="Print one JSON document and nothing else.")]
Port = Annotated[int, typer.Option(help="The port to listen on; 0 takes a free one.", min=0, max=65535)]
NoBrowser = Annotated[bool, typer.Option("--no-browser", help="Do not open a browser.")]
DataFolder = Annotated[
    Path | None, typer.Option("--data", help="Where plans are kept; by default ~/.local/share/northgate.")
]

UNUSABLE, FAILED = 2, 1
# Work that takes longer than this shows how far it has come (s).
PATIENCE_S = 0.3
SHOWN_EVERY_S = 0.1


def main() -> None:
    """The entry point: input errors become one message on standard error and exit status 2."""
    from northgate.engine.base import CannotRun
    from northgate.store.errors import StoreError

    try:
        app()
    except PlanError as error:
        _give_up(error.problems, error.source)
    except CannotRun as error:
        _give_up(error.problems, "")
    except BrokenPipeError:
        sys.stderr.close()
        sys.exit(UNUSABLE)
    except StoreError as error:
        _give_up((Problem("", str(error)),), "")
    except OSError as error:
        # A full disk, a folder that may not be written: said as what it is.
        _give_up((Problem("", f"{error.filename or 'the file'} cannot be used: {error.strerror or error}"),), "")


def _version(wanted: bool) -> None:
    if wanted:
        typer.echo(f"northgate {__version__}")
        raise typer.Exit


@app.callback()
def northgate(
    _version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Tell the version, and leave.")
    ] = False,
) -> None:
    """Plan load balancing across zones, and see where traffic goes and how it fails over."""


def _give_up(problems: tuple[Problem, ...], source: str) -> None:
    for problem in problems:
        typer.echo(problem.describe(source), err=True)
    sys.exit(UNUSABLE)


def _remark(plan: "Plan", source: str) -> None:
    """Says on standard error what the plan leaves open that a run needs."""
    from northgate.engine.network import remarks

    for one in remarks(plan):
        typer.echo(f"note: {one.describe(source)}", err=True)


def _print_json(document: Any) -> None:
    typer.echo(json.dumps(document, allow_nan=False, separators=(",", ":")))


@app.command()
def drill(
    plan_path: PlanPath,
    names: Annotated[list[str] | None, typer.Argument(metavar="[NAME…]", help="Which drills; all by default.")] = None,
    as_json: AsJson = False,
    junit: Annotated[Path | None, typer.Option(metavar="FILE", help="Write a JUnit report.")] = None,
    markdown: Annotated[Path | None, typer.Option(metavar="FILE", help="Write a summary in Markdown.")] = None,
    with_levers: Annotated[bool, typer.Option("--levers", help="Work out which settings would have helped.")] = False,
) -> None:
    """Run the drills of a plan and hold their readings against what is expected."""
    from northgate.engine.drill import run_drill
    from northgate.engine.network import compile_network
    from northgate.engine.reports import drill_answer
    from northgate.handover.terminal import drill_summary, lever_lines
    from northgate.plan.reading import read_plan

    plan = read_plan(plan_path)
    known = {one.name: one for one in plan.drills}
    unknown = [name for name in names or [] if name not in known]
    if unknown:
        problems = [Problem("/drills", f"there is no drill {name!r}{did_you_mean(name, known)}") for name in unknown]
        raise PlanError(problems, str(plan_path))
    network = compile_network(plan)
    _remark(plan, str(plan_path))
    wanted = list(dict.fromkeys(names or known))
    answers = [
        drill_answer(run_drill(network, known[name], reached=_progress(name, known[name].lasts_s))) for name in wanted
    ]
    _write_reports(plan.name, answers, junit, markdown)
    helpful: dict[str, Any] = {}
    if with_levers:
        from northgate.engine.reports import levers

        helpful = {name: levers(plan, name, _counting(name)) for name in wanted}
    if as_json:
        documents = [answer.model_dump(mode="json") for answer in answers]
        for document in documents if with_levers else ():
            document["levers"] = [one.model_dump(mode="json") for one in helpful[document["name"]]]
        _print_json({"drills": documents})
    else:
        texts = [drill_summary(answer) + lever_lines(helpful.get(answer.name)) for answer in answers]
        typer.echo("\n\n".join(texts) if answers else "The plan has no drills.")
    if not all(answer.held for answer in answers):
        raise typer.Exit(FAILED)


def _progress(name: str, lasts_s: float) -> "Reached":
    """Shows on a terminal, and only there, how far a drill has been run."""
    from northgate.engine.base import untold

    if not sys.stderr.isatty():
        return untold
    began = shown = time.monotonic()

    def reached(second: float) -> None:
        nonlocal shown
        now = time.monotonic()
        if now - began > PATIENCE_S and now - shown > SHOWN_EVERY_S:
            shown = now
            sys.stderr.write(f"\r{name}: {second / lasts_s:.0%} …\033[K\r")

    return reached


def _counting(name: str) -> "Watch":
    """Shows on a terminal, and only there, how many events have been computed in trying one setting after another."""
    from northgate.engine.base import go_on

    if not sys.stderr.isatty():
        return go_on
    started, events = time.monotonic(), itertools.count(1)

    def watch() -> None:
        count = next(events)
        if count % 50 == 0 and time.monotonic() - started > PATIENCE_S:
            sys.stderr.write(f"\r{name}: what would have helped? {count} events …\033[K\r")

    return watch


def _write_reports(plan: str, answers: "list[DrillAnswer]", junit: Path | None, markdown: Path | None) -> None:
    from northgate.handover.junit import junit_report
    from northgate.handover.markdown import drills_as_markdown

    for path, text in ((junit, junit_report), (markdown, drills_as_markdown)):
        if path is not None:
            _write(path, text(plan, answers))


def _write(path: Path, text: str) -> None:
    try:
        path.write_text(text, encoding="utf-8")
    except OSError as error:
        raise PlanError([Problem(str(path), f"cannot be written: {error.strerror}")]) from error


def _moment(network: "Network", at: str | None) -> "tuple[Flow, History]":
    """The flow now, or at DRILL@SECOND."""
    from northgate.engine.drill import run_drill, undisturbed
    from northgate.engine.trace import History

    if at is None:
        flow = undisturbed(network)
        return flow, History(flow)
    name, _, second = at.rpartition("@")
    known = {one.name: one for one in network.plan.drills}
    if name not in known:
        raise PlanError([Problem("--at", f"there is no drill {name!r}{did_you_mean(name, known)}; write DRILL@SECOND")])
    try:
        when = float(second)
    except ValueError as error:
        raise PlanError([Problem("--at", f"{second!r} is not a second; write DRILL@SECOND")]) from error
    if not 0 <= when <= known[name].lasts_s:
        raise PlanError([Problem("--at", f"the drill lasts from 0 to {known[name].lasts_s:g} s")])
    run = run_drill(network, known[name])
    flow = run.flow_at(when)
    return flow, History(flow, run, when)


@app.command()
def trace(
    plan_path: PlanPath,
    client: Annotated[str | None, typer.Option(help="The client group that asks.")] = None,
    url: Annotated[str | None, typer.Option(help="What it asks; by default the group's first URL.")] = None,
    source: Annotated[str | None, typer.Option(help="A source address instead of the group's first.")] = None,
    area: Annotated[str | None, typer.Option(help="The area from which it asks.")] = None,
    method: Annotated[str, typer.Option(help="The method.")] = "GET",
    header: Annotated[
        list[str] | None, typer.Option(help="A header, as NAME: VALUE; may be given several times.")
    ] = None,
    session: Annotated[str, typer.Option(help="none, or kept: the client returns its session cookie.")] = "none",
    times: Annotated[int, typer.Option(min=1, max=100_000, help="How many times in turn.")] = 1,
    vary: Annotated[str, typer.Option(help="What is new each time: connection, kept, source or area.")] = "connection",
    at: Annotated[str | None, typer.Option(help="A moment of a drill: DRILL@SECOND.")] = None,
    probe: Annotated[str | None, typer.Option(help="Follow the probe of a target instead: GROUP/TARGET.")] = None,
    front: Annotated[str | None, typer.Option(help="The front that probes: BALANCER/ZONE.")] = None,
    as_json: AsJson = False,
) -> None:
    """Follow one request hop by hop, or many in turn: where it goes, and why there."""
    from northgate.engine.network import compile_network
    from northgate.engine.trace import Question, trace_probe
    from northgate.engine.trace import trace as follow
    from northgate.handover.terminal import trace_summary
    from northgate.plan.reading import read_plan

    plan = read_plan(plan_path)
    if session not in ("none", "kept") or vary not in ("connection", "kept", "source", "area"):
        wrong = Problem("--session", "none or kept") if session not in ("none", "kept") else None
        raise PlanError([wrong or Problem("--vary", "connection, kept, source or area")])
    _remark(plan, str(plan_path))
    flow, history = _moment(compile_network(plan), at)
    if probe is not None:
        group, _, target = probe.partition("/")
        answer = trace_probe(flow, group, target, front, history)
    else:
        question = Question(
            url=url or _first_url(plan, client), client=client, source=source, area=area, method=method,
            headers=_headers(header or []), session=session, times=times, vary=vary, today=datetime.date.today(),  # type: ignore[arg-type]
        )  # fmt: skip
        answer = follow(flow, question, history)
    if as_json:
        document = answer.model_dump(mode="json")
        _print_json(document if times > 1 else {key: document[key] for key in document if key not in MANY})
    else:
        typer.echo(trace_summary(answer))


MANY = ("answers", "counts", "expected", "sequence")


def _first_url(plan: "Plan", client: str | None) -> str:
    found = [one.calls[0].url for one in plan.clients if client in (None, one.name)]
    known = [one.name for one in plan.clients]
    if client is not None and client not in known:
        raise PlanError([Problem("/clients", f"there is no client group {client!r}{did_you_mean(client, known)}")])
    if not found:
        raise PlanError([Problem("--url", "a URL is needed, such as https://www.beckwater.example/")])
    return found[0]


def _headers(lines: list[str]) -> dict[str, str]:
    bad = [line for line in lines if ":" not in line]
    if bad:
        raise PlanError([Problem("--header", f"{bad[0]!r} is not a header such as x-canary: 1")])
    return {name.strip(): value.strip() for name, _, value in (line.partition(":") for line in lines)}


@app.command()
def review(
    plan_path: PlanPath,
    as_json: AsJson = False,
    sarif: Annotated[Path | None, typer.Option(metavar="FILE", help="Write SARIF 2.1.0.")] = None,
    markdown: Annotated[Path | None, typer.Option(metavar="FILE", help="Write a table in Markdown.")] = None,
    quick: Annotated[bool, typer.Option("--quick", help="Leave out what losses come to.")] = False,
) -> None:
    """Say what is wrong with a plan, and what would mend it. Exit status 1 when something stops traffic."""
    from northgate.engine.network import OBSTACLES
    from northgate.handover.review import review_as_markdown, review_as_sarif, review_summary
    from northgate.losses import single_losses
    from northgate.plan.reading import read_with_places
    from northgate.review import review as look_over

    plan, place = read_with_places(plan_path)
    runs = not any(problem for obstacle in OBSTACLES.values() for problem in obstacle(plan))
    rows = single_losses(plan, _done("losses")) if runs and not quick else None
    answer = look_over(plan, datetime.date.today(), rows)
    if sarif is not None:
        _write(sarif, json.dumps(review_as_sarif(answer, str(plan_path), place), indent=2))
    if markdown is not None:
        _write(markdown, review_as_markdown(plan.name, answer))
    if as_json:
        document = answer.model_dump(mode="json")
        for one in document["findings"]:
            one["line"], one["column"] = place(one["where"]) or (None, None)
        _print_json(document)
    else:
        typer.echo(review_summary(answer, str(plan_path), place))
    if answer.counts["stops"]:
        raise typer.Exit(FAILED)


@app.command()
def losses(
    plan_path: PlanPath,
    pairs: Annotated[bool, typer.Option("--pairs", help="Every pair of parts, too.")] = False,
    as_json: AsJson = False,
) -> None:
    """Lose every part of a plan in turn, and rank what that costs."""
    from northgate.handover.terminal import losses_summary
    from northgate.losses import loss_table
    from northgate.plan.reading import read_plan

    plan = read_plan(plan_path)
    _remark(plan, str(plan_path))
    answer = loss_table(plan, pairs=pairs, told=_done("losses"))
    if as_json:
        _print_json(answer.model_dump(mode="json"))
    else:
        typer.echo(losses_summary(answer))


@app.command()
def size(
    plan_path: PlanPath,
    survive: Annotated[str, typer.Option(help="What may be lost: zone, region, instance or fault_domain.")] = "zone",
    below: Annotated[
        float | None, typer.Option(min=0.01, max=1, help="The utilisation under which all are to stay, such as 0.85.")
    ] = None,
    failed_below: Annotated[
        float | None, typer.Option(min=0, help="The failed requests that a loss may cost: asks for probes and TTLs.")
    ] = None,
    surge: Annotated[
        float | None, typer.Option(min=1, help="How many times as much all clients ask: sizes autoscaled fleets.")
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Say how much is enough: the fewest instances, the longest probe intervals and TTLs that survive any one loss."""
    from northgate.handover.terminal import sizing_summary
    from northgate.plan.reading import read_plan
    from northgate.sizing import SURVIVED, sizing

    plan = read_plan(plan_path)
    kind = next((one for one in SURVIVED if one == survive), None)
    if kind is None:
        known = ", ".join(SURVIVED)
        raise PlanError([Problem("--survive", f"{survive!r} is none of {known}{did_you_mean(survive, SURVIVED)}")])
    if below is None and failed_below is None and surge is None:
        below = ENOUGH
    answer = sizing(plan, kind, below, failed_below, surge, _done("sizing"))
    if as_json:
        _print_json(answer.model_dump(mode="json"))
    else:
        typer.echo(sizing_summary(answer))


@app.command()
def diff(
    before: Annotated[Path, typer.Argument(metavar="A", help="A plan file.")],
    after: Annotated[Path, typer.Argument(metavar="B", help="Another, or a later state of it.")],
    as_json: AsJson = False,
) -> None:
    """Tell what differs between two plan files, in words. Exit status 1 when anything does."""
    from northgate.plan.difference import difference
    from northgate.plan.reading import read_plan

    changes = difference(read_plan(before), read_plan(after))
    if as_json:
        how = {"replace": "replace"}
        _print_json({"differences": [
            {"where": one.where, "words": f"{one.about}: {one.words}", "how": how.get(one.effect, "in place")}
            for one in changes
        ]})  # fmt: skip
    else:
        for one in changes:
            typer.echo(f"{one.about}: {one.words}" + (" (replaces it)" if one.effect == "replace" else ""))
    if changes:
        raise typer.Exit(FAILED)


@app.command()
def export(
    plan: PlanPath,
    kind: Annotated[
        str,
        typer.Option("--as", help="dns-zone, firewall-csv, targets-csv, checklist, checks, markdown, html or json."),
    ],
) -> None:
    """Print a plan for those who build it: the whole sheet, or one of its parts."""
    from northgate.handover.sheet import EXPORTS
    from northgate.handover.sheet import export as exported
    from northgate.plan.reading import read_plan

    if kind not in EXPORTS:
        raise PlanError(
            [Problem("--as", f"there is no export {kind!r}{did_you_mean(kind, EXPORTS)}; {', '.join(EXPORTS)}")]
        )
    typer.echo(exported(read_plan(plan), kind, datetime.date.today()), nl=False)


@app.command()
def change(
    before: Annotated[Path, typer.Argument(metavar="A", help="The plan file of what runs.")],
    after: Annotated[Path, typer.Argument(metavar="B", help="That of what is to run.")],
    at: Annotated[float, typer.Option(help="The second at which the first step is taken.", min=0)] = 0.0,
    order: Annotated[
        Path | None,
        typer.Option(
            help="A file with the steps as they are to be taken: numbers, or {step: N, at_s: S}, as YAML or JSON."
        ),
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Rehearse the way from one plan to another: its steps, what fails meanwhile, and the way back from each."""
    from northgate.change import rehearse
    from northgate.change.order import read_order
    from northgate.handover.terminal import change_summary
    from northgate.plan.reading import read_plan

    wanted = read_order(order) if order else None
    answer = rehearse(read_plan(before), read_plan(after), wanted, at, _done("steps"))
    if as_json:
        _print_json(answer.model_dump(mode="json"))
    else:
        typer.echo(change_summary(answer))


@app.command()
def compare(
    before: Annotated[Path, typer.Argument(metavar="A", help="A plan file.")],
    after: Annotated[Path, typer.Argument(metavar="B", help="Another, or a later state of it.")],
    drill: Annotated[str | None, typer.Option(help="Only this drill; all of either by default.")] = None,
    as_json: AsJson = False,
) -> None:
    """Hold two plan files side by side: differences, the same drills, cost, findings."""
    from northgate.compare import compare as hold
    from northgate.handover.terminal import compare_summary
    from northgate.plan.reading import read_plan

    a, b = read_plan(before), read_plan(after)
    known = [one.name for plan in (a, b) for one in plan.drills]
    if drill is not None and drill not in known:
        raise PlanError([Problem("--drill", f"there is no drill {drill!r}{did_you_mean(drill, known)}")])
    answer = hold(a, b, datetime.date.today(), drill)
    if as_json:
        _print_json(answer.model_dump(mode="json"))
    else:
        typer.echo(compare_summary(answer))


@app.command()
def cost(plan_path: PlanPath, as_json: AsJson = False) -> None:
    """What a plan costs, by its own unit prices."""
    from northgate.cost import cost as cost_of
    from northgate.handover.terminal import cost_summary
    from northgate.plan.reading import read_plan

    answer = cost_of(read_plan(plan_path))
    if as_json:
        _print_json(answer.model_dump(mode="json"))
    else:
        typer.echo(cost_summary(answer))


@app.command()
def sweep(
    plan_path: PlanPath,
    drill: Annotated[str, typer.Option(help="The drill to run at every value.")],
    settings: Annotated[
        list[str],
        typer.Option("--set", help="PATH=LOW..HIGH/STEP, such as probes/ready/interval_s=2..30/2; one or two."),
    ],
    reading: Annotated[str, typer.Option(help="What to read of the drill.")] = "failed",
    loss: Annotated[
        float, typer.Option(min=0, max=1, help="The share of probes that fail though all is well.")
    ] = 0.001,
    as_json: AsJson = False,
) -> None:
    """Sweep one or two settings: what a drill comes to at each of their values, and at what price in probes."""
    from northgate.handover.terminal import sweep_summary
    from northgate.plan.reading import read_plan
    from northgate.sweep import sweep as over

    answer = over(read_plan(plan_path), drill, settings, reading, loss, _done("sweep"))
    if as_json:
        _print_json(answer.model_dump(mode="json"))
    else:
        typer.echo(sweep_summary(answer))


# By default this much may be used after a loss.
ENOUGH = 0.85


def _done(what: str) -> "Callable[[int, int], None]":
    """Shows on a terminal, and only there, how much of a work is done."""
    shows, began = sys.stderr.isatty(), time.monotonic()

    def told(done: int, of: int) -> None:
        if shows and time.monotonic() - began > PATIENCE_S:
            sys.stderr.write(f"\r{what}: {done} of {of} …\033[K\r")

    return told


@app.command()
def schema(as_json: AsJson = False) -> None:
    """Print the JSON Schema of the plan file."""
    from northgate.plan.models.schema import plan_schema

    typer.echo(json.dumps(plan_schema(), indent=None if as_json else 2))


@app.command("make-example")
def make_example(
    targets: Annotated[int, typer.Option(min=1, max=20_000, help="How many targets in all.")] = 100,
    zones: Annotated[int, typer.Option(min=1, max=60, help="How many zones, three to a region.")] = 3,
    groups: Annotated[int, typer.Option(min=1, max=200, help="How many target groups.")] = 4,
    rules: Annotated[int, typer.Option(min=0, max=2000, help="How many rules over all listeners.")] = 10,
    seed: Annotated[int, typer.Option(help="The same seed gives the same plan.")] = 1,
    as_json: AsJson = False,
) -> None:
    """Print a large made-up plan, for benches and tests."""
    from northgate.plan.generated import generated_plan
    from northgate.plan.writing import plan_as_json, plan_as_yaml

    plan = generated_plan(targets=targets, zones=zones, groups=groups, rules=rules, seed=seed)
    typer.echo(plan_as_json(plan) if as_json else plan_as_yaml(plan), nl=False)


@app.command("import")
def import_(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="An access log, a zone file, or a table of machines.")],
    form: Annotated[str, typer.Option("--as", help="What it becomes: clients, names or machines.")],
    into: Annotated[Path, typer.Option("--into", metavar="PLAN", help="The plan file that takes it in.")],
    profile: Annotated[bool, typer.Option(help="With a log: how the rate changes from minute to minute, too.")] = False,
    dry_run: Annotated[bool, typer.Option(help="Only say what would come in.")] = False,
    as_json: AsJson = False,
) -> None:
    """Take into a plan file what is there: a log becomes clients, a zone file names, a table machines."""
    from northgate.handover.terminal import intake_summary
    from northgate.intake import FORMS, take_in
    from northgate.plan.reading import read_plan
    from northgate.plan.writing import plan_as_json, plan_as_yaml

    if form not in FORMS:
        raise PlanError([Problem("--as", f"there is no {form!r}{did_you_mean(form, FORMS)}; {', '.join(FORMS)}")])
    plan, text = read_plan(into), into.read_text(encoding="utf-8-sig")
    taken = take_in(file, form, plan, profile=profile, told=_lines)
    if not dry_run:
        is_json = text.lstrip().startswith("{")
        _replace(into, plan_as_json(taken.plan) if is_json else plan_as_yaml(taken.plan, text))
    if as_json:
        bad = [{"line": line, "text": said} for line, said in taken.bad.first]
        _print_json({
            "as": form, "into": str(into), "added": taken.added, "read": taken.read, "notes": taken.notes,
            "bad": {"count": taken.bad.count, "first": bad},
        })  # fmt: skip
    else:
        typer.echo(intake_summary(taken, form))


def _replace(path: Path, text: str) -> None:
    """Writes a file whole or not at all."""
    beside = path.with_name(f".{path.name}.new")
    beside.write_text(text, encoding="utf-8")
    beside.replace(path)


def _lines(number: int) -> None:
    """Shows on a terminal, and only there, how many lines have been read."""
    if sys.stderr.isatty():
        sys.stderr.write(f"\r{number:,} lines …\033[K\r")


@app.command()
def push(
    plan_path: PlanPath,
    to: Annotated[str, typer.Option("--to", metavar="URL", help="A running North Gate.")],
    as_json: AsJson = False,
) -> None:
    """Hand a plan file to a running North Gate: a new plan, or a new revision of the one of its name."""
    from northgate.handover.pushing import push as hand_over
    from northgate.plan.reading import read_plan

    plan = read_plan(plan_path)
    pushed = hand_over(plan, plan_path.read_text(encoding="utf-8-sig"), to)
    if as_json:
        _print_json(
            {"key": pushed.key, "revision": pushed.revision, "created": pushed.created, "changes": pushed.changes}
        )
        return
    typer.echo(f"{pushed.key}: {'new' if pushed.created else 'updated'}, revision {pushed.revision}")
    for change in pushed.changes:
        typer.echo(f"  {change}")


@app.command()
def serve(port: Port = 8420, no_browser: NoBrowser = False, data: DataFolder = None) -> None:
    """Serve North Gate to this machine's browser."""
    from northgate.web.server import serve_app

    serve_app(data or _default_data(), port=port, open_browser=not no_browser)


@app.command()
def demo(port: Port = 8420, no_browser: NoBrowser = False, data: DataFolder = None) -> None:
    """Serve North Gate with the demo plan, Beckwater flood watch."""
    from northgate.web.server import serve_app

    serve_app(data or _default_data() / "demo", port=port, open_browser=not no_browser, with_demo=True)


store = typer.Typer(no_args_is_help=True, help="Look after the file in which plans are kept.")
app.add_typer(store, name="store")


@store.command("check")
def store_check(data: DataFolder = None, as_json: AsJson = False) -> None:
    """Look through the store; exit status 1 when it is not whole."""
    from northgate.store.care import check

    health = check(_store_file(data))
    if as_json:
        _print_json({"plans": health.plans, "revisions": health.revisions, "problems": health.problems})
    else:
        said = "whole" if not health.problems else "not whole"
        typer.echo("\n".join([f"{said}: plans {health.plans}, revisions {health.revisions}", *health.problems]))
    if health.problems:
        raise typer.Exit(FAILED)


@store.command("backup")
def store_backup(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="The file to make.")],
    data: DataFolder = None,
    as_json: AsJson = False,
) -> None:
    """Copy the store into a new file; it may be served meanwhile."""
    from northgate.store.care import backup

    health = backup(_store_file(data), file)
    if as_json:
        _print_json({"file": str(file), "plans": health.plans, "revisions": health.revisions})
    else:
        typer.echo(f"{file}: plans {health.plans}, revisions {health.revisions}")


@store.command("restore")
def store_restore(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="A file that `northgate store backup` made.")],
    data: DataFolder = None,
    as_json: AsJson = False,
) -> None:
    """Put a backup in the place of the store, which is set aside; stop what serves it before."""
    from northgate.store.care import restore

    health, aside = restore(_store_file(data), file, datetime.datetime.now())
    if as_json:
        _print_json({"plans": health.plans, "revisions": health.revisions, "aside": aside and str(aside)})
        return
    typer.echo(f"back are: plans {health.plans}, revisions {health.revisions}")
    if aside is not None:
        typer.echo(f"what was there is kept in {aside}")


def _store_file(data: Path | None) -> Path:
    return (data or _default_data()) / "northgate.sqlite"


def _default_data() -> Path:
    return Path.home() / ".local" / "share" / "northgate"
