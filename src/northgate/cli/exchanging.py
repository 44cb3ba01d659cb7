"""The commands that take a plan out and bring things in: exports, imports, schema, examples, handing to a server."""

import datetime
import json
from pathlib import Path
from typing import Annotated

import typer

from northgate.cli.common import AsJson, PlanPath, app, placed, print_json, replace
from northgate.cli.progress import lines
from northgate.plan.problems import PlanError, Problem, did_you_mean


@app.command()
def export(
    plan: PlanPath,
    kind: Annotated[
        str,
        typer.Option(
            "--as",
            help="dns-zone, checklist, checks, markdown, html, json; or firewall, targets, routes, drills, losses, "
            "cost or findings, each with -csv.",
        ),
    ],
) -> None:
    """Print a plan for those who build it: the whole sheet, or one of its parts."""
    from northgate.engine.base import CannotRun
    from northgate.handover.sheet import EXPORTS
    from northgate.handover.sheet import export as exported
    from northgate.plan.reading import read_with_places

    if kind not in EXPORTS:
        raise PlanError(
            [Problem("--as", f"there is no export {kind!r}{did_you_mean(kind, EXPORTS)}; {', '.join(EXPORTS)}")]
        )
    read, place = read_with_places(plan)
    try:
        typer.echo(exported(read, kind, datetime.date.today()), nl=False)
    except CannotRun as error:
        raise placed(error.problems, plan, place) from error


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
    taken = take_in(file, form, plan, profile=profile, told=lines)
    if not dry_run:
        is_json = text.lstrip().startswith("{")
        replace(into, plan_as_json(taken.plan) if is_json else plan_as_yaml(taken.plan, text))
    if as_json:
        bad = [{"line": line, "text": said} for line, said in taken.bad.first]
        print_json({
            "as": form, "into": str(into), "added": taken.added, "read": taken.read, "notes": taken.notes,
            "bad": {"count": taken.bad.count, "first": bad},
        })  # fmt: skip
    else:
        typer.echo(intake_summary(taken, form))


@app.command()
def push(
    plan_path: PlanPath,
    to: Annotated[str, typer.Option("--to", metavar="URL", help="A running North Gate.")],
    token: Annotated[
        str | None, typer.Option(envvar="NORTHGATE_TOKEN", help="Its token, where it is served with --private.")
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Hand a plan file to a running North Gate: a new plan, or a new revision of the one of its name."""
    from northgate.handover.pushing import push as hand_over
    from northgate.plan.reading import read_plan

    plan = read_plan(plan_path)
    pushed = hand_over(plan, plan_path.read_text(encoding="utf-8-sig"), to, token)
    if as_json:
        print_json(
            {"key": pushed.key, "revision": pushed.revision, "created": pushed.created, "changes": pushed.changes}
        )
        return
    typer.echo(f"{pushed.key}: {'new' if pushed.created else 'updated'}, revision {pushed.revision}")
    for change in pushed.changes:
        typer.echo(f"  {change}")


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
