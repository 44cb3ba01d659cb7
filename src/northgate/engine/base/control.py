"""How long work is watched and stopped, and how it tells how far it has come."""

from collections.abc import Callable

# What long work calls at every step, so that whoever asked for it can stop it by raising an error.
Watch = Callable[[], None]
# What is told how far long work has come: here, the second of a drill that has been reached.
Reached = Callable[[float], None]


def go_on() -> None:
    """Watches nothing: the work goes on to its end."""


def untold(_second: float) -> None:
    """Tells nobody how far the work has come."""
