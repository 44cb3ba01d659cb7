"""What the commands share: the application, its usual arguments, and how they print, remark and write."""

import json
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from northgate import __version__
from northgate.plan.problems import PlanError, Problem

if TYPE_CHECKING:
    from collections.abc import Iterable

    from northgate.plan import Plan
    from northgate.plan.reading import PlaceOf

app = typer.Typer(
    no_args_is_help=True, add_completion=False, pretty_exceptions_enable=False, rich_markup_mode=None,
    help="Plan load balancing across zones, and see where traffic goes and how it fails over.",
)  # fmt: skip

PlanPath = Annotated[Path, typer.Argument(metavar="PLAN", help="A plan file: *.plan.yaml, or JSON.")]
AsJson = Annotated[bool, typer.Option("--json", help="Print one JSON document and nothing else.")]
Port = Annotated[int, typer.Option(help="The port to listen on; 0 takes a free one.", min=0, max=65535)]
Private = Annotated[
    bool, typer.Option("--private", help="Answer only who opens the address that is told: it has a token.")
]
NoBrowser = Annotated[bool, typer.Option("--no-browser", help="Do not open a browser.")]
DataFolder = Annotated[
    Path | None, typer.Option("--data", help="Where plans are kept; by default ~/.local/share/northgate.")
]

UNUSABLE, FAILED = 2, 1


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


def read_runnable(path: Path) -> "Plan":
    """A plan file that can be run; raises PlanError with the place in its text of all that stands in the way."""
    from northgate.engine.network import obstacles
    from northgate.plan.reading import read_with_places

    plan, place = read_with_places(path)
    found = obstacles(plan)
    if found:
        raise placed(found, path, place)
    return plan


def placed(problems: "Iterable[Problem]", path: Path, place: "PlaceOf") -> PlanError:
    """Problems of a plan file with their places in its text."""
    found = [(one, place(one.where)) for one in problems]
    return PlanError([one.at(*at) if at else one for one, at in found], str(path))


def remark(plan: "Plan", source: str) -> None:
    """Says on standard error what the plan leaves open that a run needs."""
    from northgate.engine.network import remarks

    for one in remarks(plan):
        typer.echo(f"note: {one.describe(source)}", err=True)


def print_json(document: Any) -> None:
    """Prints one JSON document, on one line."""
    typer.echo(json.dumps(document, allow_nan=False, separators=(",", ":")))


def write(path: Path, text: str) -> None:
    """Writes a file that was asked for; raises `PlanError`, with its place, where that cannot be done."""
    try:
        path.write_text(text, encoding="utf-8")
    except OSError as error:
        raise PlanError([Problem(str(path), f"cannot be written: {error.strerror}")]) from error


def replace(path: Path, text: str) -> None:
    """Writes a file whole or not at all."""
    beside = path.with_name(f".{path.name}.new")
    beside.write_text(text, encoding="utf-8")
    beside.replace(path)


def default_data() -> Path:
    """The folder in which plans are kept where none is named."""
    return Path.home() / ".local" / "share" / "northgate"
