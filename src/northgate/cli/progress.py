"""How far long work has come: shown on a terminal, and only there."""

import itertools
import sys
import time
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Callable

    from northgate.engine.base import Reached, Watch

# Work that takes longer than this shows how far it has come (s).
PATIENCE_S = 0.3
SHOWN_EVERY_S = 0.1


def progress(name: str, lasts_s: float) -> "Reached":
    """Shows on a terminal, and only there, how far a drill has been run."""
    from northgate.engine.base import untold

    if not sys.stderr.isatty():
        return untold
    began = shown = time.monotonic()

    def reached(second: float) -> None:
        nonlocal shown
        now = time.monotonic()
        if now - began > PATIENCE_S and now - shown > SHOWN_EVERY_S:
            shown = now
            sys.stderr.write(f"\r{name}: {second / lasts_s:.0%} …\033[K\r")

    return reached


def counting(name: str) -> "Watch":
    """Shows on a terminal, and only there, how many events have been computed in trying one setting after another."""
    from northgate.engine.base import go_on

    if not sys.stderr.isatty():
        return go_on
    started, events = time.monotonic(), itertools.count(1)

    def watch() -> None:
        count = next(events)
        if count % 50 == 0 and time.monotonic() - started > PATIENCE_S:
            sys.stderr.write(f"\r{name}: what would have helped? {count} events …\033[K\r")

    return watch


def done(what: str) -> "Callable[[int, int], None]":
    """Shows on a terminal, and only there, how much of a work is done."""
    shows, began = sys.stderr.isatty(), time.monotonic()

    def told(done: int, of: int) -> None:
        if shows and time.monotonic() - began > PATIENCE_S:
            sys.stderr.write(f"\r{what}: {done} of {of} …\033[K\r")

    return told


def lines(number: int) -> None:
    """Shows on a terminal, and only there, how many lines have been read."""
    if sys.stderr.isatty():
        sys.stderr.write(f"\r{number:,} lines …\033[K\r")
