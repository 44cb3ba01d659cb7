"""The command line. Exit status: 0 all well, 1 an expectation failed, 2 the input cannot be used."""

import sys

import typer

from northgate.cli.common import UNUSABLE, app
from northgate.plan.problems import PlanError, Problem

# isort: off
# Each adds its commands to the application, in the order in which the help lists them.
from northgate.cli import running, judging, comparing, exchanging, serving  # noqa: F401

# isort: on

__all__ = ["app", "main"]


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


def _give_up(problems: tuple[Problem, ...], source: str) -> None:
    for problem in problems:
        typer.echo(problem.describe(source), err=True)
    sys.exit(UNUSABLE)
