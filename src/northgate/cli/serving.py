"""The commands that serve North Gate, and look after the file in which it keeps plans."""

import datetime
from pathlib import Path
from typing import Annotated

import typer

from northgate.cli.common import (
    FAILED,
    AsJson,
    DataFolder,
    NoBrowser,
    Port,
    Private,
    app,
    default_data,
    print_json,
)
from northgate.loading import loading

store = typer.Typer(no_args_is_help=True, help="Look after the file in which plans are kept.")
app.add_typer(store, name="store")


@app.command()
def serve(port: Port = 8420, no_browser: NoBrowser = False, data: DataFolder = None, private: Private = False) -> None:
    """Serve North Gate to this machine's browser."""
    _serve(data or default_data(), port, no_browser, private, with_demo=False)


@app.command()
def demo(port: Port = 8420, no_browser: NoBrowser = False, data: DataFolder = None, private: Private = False) -> None:
    """Serve North Gate with the demo plan, Beckwater flood watch."""
    _serve(data or default_data() / "demo", port, no_browser, private, with_demo=True)


def _serve(folder: Path, port: int, no_browser: bool, private: bool, with_demo: bool) -> None:
    from northgate.store.holding import held

    with held(folder) as tell:
        with loading():
            from northgate.web.server import Serving, serve
        serving = Serving(folder / "northgate.sqlite", with_demo=with_demo)
        serve(serving, tell, port=port, open_browser=not no_browser, private=private)


@store.command("check")
def store_check(data: DataFolder = None, as_json: AsJson = False) -> None:
    """Look through the store; exit status 1 when it is not whole."""
    from northgate.store.care import check

    health = check(_store_file(data))
    if as_json:
        print_json({"plans": health.plans, "revisions": health.revisions, "problems": health.problems})
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
        print_json({"file": str(file), "plans": health.plans, "revisions": health.revisions})
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
        print_json({"plans": health.plans, "revisions": health.revisions, "aside": aside and str(aside)})
        return
    typer.echo(f"back are: plans {health.plans}, revisions {health.revisions}")
    if aside is not None:
        typer.echo(f"what was there is kept in {aside}")


def _store_file(data: Path | None) -> Path:
    return (data or default_data()) / "northgate.sqlite"
