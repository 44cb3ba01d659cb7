"""The commands that hold one plan against another, and say what a plan costs."""

import datetime
from pathlib import Path
from typing import Annotated

import typer

from northgate.cli.common import FAILED, AsJson, PlanPath, app, print_json
from northgate.cli.progress import done
from northgate.plan.problems import PlanError, Problem, did_you_mean


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
        print_json(answer.model_dump(mode="json"))
    else:
        typer.echo(compare_summary(answer))


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
    answer = rehearse(read_plan(before), read_plan(after), wanted, at, done("steps"))
    if as_json:
        print_json(answer.model_dump(mode="json"))
    else:
        typer.echo(change_summary(answer))


@app.command()
def cost(plan_path: PlanPath, as_json: AsJson = False) -> None:
    """What a plan costs, by its own unit prices."""
    from northgate.cost import cost as cost_of
    from northgate.handover.terminal import cost_summary
    from northgate.plan.reading import read_plan

    answer = cost_of(read_plan(plan_path))
    if as_json:
        print_json(answer.model_dump(mode="json"))
    else:
        typer.echo(cost_summary(answer))
