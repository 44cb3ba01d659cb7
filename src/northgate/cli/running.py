"""The commands that run a plan: its drills, and one request after another."""

import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from northgate.cli.common import FAILED, AsJson, PlanPath, app, print_json, read_runnable, remark, write
from northgate.cli.progress import counting, progress
from northgate.plan.problems import PlanError, Problem, did_you_mean

if TYPE_CHECKING:
    from northgate.engine.network import Network
    from northgate.engine.reports import DrillAnswer
    from northgate.engine.solver import Flow
    from northgate.engine.trace import History
    from northgate.plan import Plan

# What only a question put many times answers.
MANY = ("answers", "counts", "expected", "sequence")


@app.command()
def drill(
    plan_path: PlanPath,
    names: Annotated[list[str] | None, typer.Argument(metavar="[NAME…]", help="Which drills; all by default.")] = None,
    as_json: AsJson = False,
    junit: Annotated[Path | None, typer.Option(metavar="FILE", help="Write a JUnit report.")] = None,
    markdown: Annotated[Path | None, typer.Option(metavar="FILE", help="Write a summary in Markdown.")] = None,
    with_levers: Annotated[bool, typer.Option("--levers", help="Work out which settings would have helped.")] = False,
    anyway: Annotated[
        bool, typer.Option("--anyway", help="However much happens in them, and however long that takes.")
    ] = False,
) -> None:
    """Run the drills of a plan and hold their readings against what is expected."""
    from northgate.engine.drill import run_drill
    from northgate.engine.network import compile_network
    from northgate.engine.reports import drill_answer
    from northgate.handover.terminal import drill_summary, lever_lines

    plan = read_runnable(plan_path)
    known = {one.name: one for one in plan.drills}
    unknown = [name for name in names or [] if name not in known]
    if unknown:
        problems = [Problem("/drills", f"there is no drill {name!r}{did_you_mean(name, known)}") for name in unknown]
        raise PlanError(problems, str(plan_path))
    network = compile_network(plan, checked=True)
    remark(plan, str(plan_path))
    wanted = list(dict.fromkeys(names or known))
    answers = [
        drill_answer(run_drill(network, known[name], reached=progress(name, known[name].lasts_s), anyway=anyway))
        for name in wanted
    ]
    _write_reports(plan.name, answers, junit, markdown)
    helpful: dict[str, Any] = {}
    if with_levers:
        from northgate.engine.reports import levers

        helpful = {name: levers(plan, name, counting(name)) for name in wanted}
    if as_json:
        documents = [answer.model_dump(mode="json") for answer in answers]
        for document in documents if with_levers else ():
            document["levers"] = [one.model_dump(mode="json") for one in helpful[document["name"]]]
        print_json({"drills": documents})
    else:
        texts = [drill_summary(answer) + lever_lines(helpful.get(answer.name)) for answer in answers]
        typer.echo("\n\n".join(texts) if answers else "The plan has no drills.")
    if not all(answer.held for answer in answers):
        raise typer.Exit(FAILED)


def _write_reports(plan: str, answers: "list[DrillAnswer]", junit: Path | None, markdown: Path | None) -> None:
    if junit is not None:
        from northgate.handover.junit import junit_report

        write(junit, junit_report(plan, answers))
    if markdown is not None:
        from northgate.handover.markdown import drills_as_markdown

        write(markdown, drills_as_markdown(plan, answers))


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

    plan = read_runnable(plan_path)
    if session not in ("none", "kept") or vary not in ("connection", "kept", "source", "area"):
        wrong = Problem("--session", "none or kept") if session not in ("none", "kept") else None
        raise PlanError([wrong or Problem("--vary", "connection, kept, source or area")])
    remark(plan, str(plan_path))
    flow, history = _moment(compile_network(plan, checked=True), at)
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
        print_json(document if times > 1 else {key: document[key] for key in document if key not in MANY})
    else:
        typer.echo(trace_summary(answer))


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
