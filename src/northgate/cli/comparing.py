"""The commands that hold one plan against another, and say what a plan costs."""

import datetime
from pathlib import Path
from typing import Annotated

import typer

from northgate.cli.common import FAILED, AsJson, PlanPath, app, print_json, read_runnable
from northgate.cli.progress import done
from northgate.plan.problems import PlanError, Problem, did_you_mean

# No step is taken later than this (s).
LATEST_S = 1e7


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
        print_json({"differences": [
            {"where": one.where, "words": f"{one.about}: {one.words}", "how": how.get(one.effect, "in place")}
            for one in changes
        ]})  # fmt: skip
    else:
        for one in changes:
            typer.echo(f"{one.about}: {one.words}" + (" (replaces it)" if one.effect == "replace" else ""))
    if changes:
        raise typer.Exit(FAILED)


@app.command()
def compare(
    plans: Annotated[
        list[Path], typer.Argument(metavar="A B [C …]", help="Plan files; each is held against the first.")
    ],
    drill: Annotated[str | None, typer.Option(help="Only this drill; all of any by default.")] = None,
    losses: Annotated[bool, typer.Option("--losses", help="Also what each loss costs before and after.")] = False,
    as_json: AsJson = False,
) -> None:
    """Hold plan files side by side: differences, the same drills, cost, findings, and losses where asked for."""
    from northgate.compare import compare_with_first, losses_moved
    from northgate.handover.compared import compare_summary, losses_moved_summary, matrix_summary
    from northgate.losses import single_losses
    from northgate.plan.reading import read_plan

    if len(plans) < 2:
        raise PlanError([Problem("", f"{plans[0]} is to be compared with another plan file: name two or more")])
    read = [read_plan(one) for one in plans]
    known = [one.name for plan in read for one in plan.drills]
    if drill is not None and drill not in known:
        raise PlanError([Problem("--drill", f"there is no drill {drill!r}{did_you_mean(drill, known)}")])
    answers = compare_with_first(read, datetime.date.today(), drill)
    rows = [single_losses(one, done("losses")) for one in read] if losses else []
    moved = [losses_moved(rows[0], others) for others in rows[1:]]
    if as_json:
        documents = [answer.model_dump(mode="json") for answer in answers]
        for document, one in zip(documents, moved, strict=False):
            document["losses"] = one.model_dump(mode="json")
        two = len(plans) == 2
        print_json(documents[0] if two else {"plans": [str(one) for one in plans], "with_first": documents})
        return
    if len(answers) > 1:
        typer.echo(matrix_summary([str(one) for one in plans], answers))
    for place, answer in enumerate(answers):
        if len(answers) > 1:
            typer.echo(f"\n{plans[0]} → {plans[place + 1]}")
        typer.echo(compare_summary(answer))
        if losses:
            typer.echo(losses_moved_summary(moved[place]))


@app.command()
def change(
    before: Annotated[Path, typer.Argument(metavar="A", help="The plan file of what runs.")],
    after: Annotated[Path, typer.Argument(metavar="B", help="That of what is to run.")],
    at: Annotated[float, typer.Option(help="The second at which the first step is taken.", min=0, max=LATEST_S)] = 0.0,
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

    wanted = read_order(order) if order else None
    answer = rehearse(read_runnable(before), read_runnable(after), wanted, at, done("steps"))
    if as_json:
        print_json(answer.model_dump(mode="json"))
    else:
        typer.echo(change_summary(answer))


@app.command()
def usual(
    plan_path: PlanPath,
    code: Annotated[
        str | None, typer.Argument(help="Which change; without it, those are listed that can be made.")
    ] = None,
    said: Annotated[list[str] | None, typer.Argument(metavar="[NAME=VALUE …]", help="What it asks for.")] = None,
    as_json: AsJson = False,
) -> None:
    """Rehearse a usual change, ready-made: a share moved, a port changed, a zone emptied, all restarted in batches."""
    from northgate.change import offered
    from northgate.change import usual as rehearse_usual
    from northgate.handover.terminal import change_summary, usual_summary

    plan = read_runnable(plan_path)
    if code is None:
        found = offered(plan)
        if as_json:
            print_json({"changes": [one.model_dump(mode="json") for one in found]})
        else:
            typer.echo(usual_summary(found))
        return
    given = dict(one.partition("=")[::2] for one in said or [])
    answer = rehearse_usual(plan, code, given, done("steps")).answer
    if as_json:
        print_json(answer.model_dump(mode="json"))
    else:
        typer.echo(change_summary(answer.rehearsal))


@app.command()
def cost(plan_path: PlanPath, as_json: AsJson = False) -> None:
    """What a plan costs, by its own unit prices."""
    from northgate.cost import cost as cost_of
    from northgate.handover.terminal import cost_summary

    answer = cost_of(read_runnable(plan_path))
    if as_json:
        print_json(answer.model_dump(mode="json"))
    else:
        typer.echo(cost_summary(answer))
