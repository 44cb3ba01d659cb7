"""The commands that judge a plan: what is wrong with it, what losses cost, how much is enough."""

import datetime
import json
from pathlib import Path
from typing import Annotated

import typer

from northgate.cli.common import FAILED, AsJson, PlanPath, app, print_json, read_runnable, remark, write
from northgate.cli.progress import done
from northgate.plan.problems import PlanError, Problem, did_you_mean

# By default this much may be used after a loss.
ENOUGH = 0.85


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
    rows = single_losses(plan, done("losses")) if runs and not quick else None
    answer = look_over(plan, datetime.date.today(), rows)
    if sarif is not None:
        write(sarif, json.dumps(review_as_sarif(answer, str(plan_path), place), indent=2))
    if markdown is not None:
        write(markdown, review_as_markdown(plan.name, answer))
    if as_json:
        document = answer.model_dump(mode="json")
        for one in document["findings"]:
            one["line"], one["column"] = place(one["where"]) or (None, None)
        print_json(document)
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

    plan = read_runnable(plan_path)
    remark(plan, str(plan_path))
    answer = loss_table(plan, pairs=pairs, told=done("losses"))
    if as_json:
        print_json(answer.model_dump(mode="json"))
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
    from northgate.sizing import SURVIVED, sizing

    plan = read_runnable(plan_path)
    kind = next((one for one in SURVIVED if one == survive), None)
    if kind is None:
        known = ", ".join(SURVIVED)
        raise PlanError([Problem("--survive", f"{survive!r} is none of {known}{did_you_mean(survive, SURVIVED)}")])
    if below is None and failed_below is None and surge is None:
        below = ENOUGH
    answer = sizing(plan, kind, below, failed_below, surge, done("sizing"))
    if as_json:
        print_json(answer.model_dump(mode="json"))
    else:
        typer.echo(sizing_summary(answer))


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
    from northgate.sweep import sweep as over

    answer = over(read_runnable(plan_path), drill, settings, reading, loss, done("sweep"))
    if as_json:
        print_json(answer.model_dump(mode="json"))
    else:
        typer.echo(sweep_summary(answer))
