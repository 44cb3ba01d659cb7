"""The command line. Exit status: 0 all well, 1 an expectation failed, 2 the input cannot be used."""

import sys

import typer

from northgate.cli.common import UNUSABLE, app

# isort: off
# Each adds its commands to the application, in the order in which the help lists them.
from northgate.cli import running, judging, comparing, exchanging, serving  # noqa: F401

# isort: on

__all__ = ["app", "main"]


def main() -> None:
    """The entry point: input errors become one message on standard error and exit status 2."""
    try:
        app()
    except BrokenPipeError:
        sys.stderr.close()
        sys.exit(UNUSABLE)
    except Exception as error:
        told = _told(error)
        if told is None:
            raise
        for line in told:
            typer.echo(line, err=True)
        sys.exit(UNUSABLE)


def _told(error: Exception) -> list[str] | None:
    """What is said of an error of the input, in lines; None where it is one of North Gate's own. What knows errors is
    loaded when there is one."""
    from northgate.engine.base import CannotRun
    from northgate.plan.problems import PlanError
    from northgate.store.states import StoreError

    if isinstance(error, PlanError):
        return [problem.describe(error.source) for problem in error.problems]
    if isinstance(error, CannotRun):
        return [problem.describe("") for problem in error.problems]
    if isinstance(error, StoreError):
        return [str(error)]
    if isinstance(error, OSError):
        # A full disk, a folder that may not be written: said as what it is.
        return [f"{error.filename or 'the file'} cannot be used: {error.strerror or error}"]
    return None
