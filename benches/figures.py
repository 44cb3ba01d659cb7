"""The figures of one run of the benches, and how they are taken."""

import resource
import statistics
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

EXAMPLE = Path(__file__).parents[1] / "examples" / "beckwater.plan.yaml"
# The figures of this run by name, and those that were kept of another.
FIGURES: dict[str, float] = {}
KEPT: dict[str, float] = {}
WORK = "a fixed piece of work"


def median_ms(work: Callable[[], Any], times: int = 5, clock: Callable[[], float] = time.process_time) -> float:
    """The median of several runs in milliseconds (of this process's CPU), after one that does not count."""
    work()
    taken = []
    for _ in range(times):
        start = clock()
        work()
        taken.append((clock() - start) * 1000)
    return statistics.median(taken)


def children_s() -> float:
    """The CPU seconds of all processes that were started and have ended."""
    used = resource.getrusage(resource.RUSAGE_CHILDREN)
    return used.ru_utime + used.ru_stime


def row(what: str, value: float, unit: str = "ms") -> None:
    """Prints one line of the table, and keeps its figure."""
    FIGURES[what] = value
    beside = ""
    if unit == "ms" and KEPT.get(what) and KEPT.get(WORK):
        beside = f"{value / KEPT[what] * KEPT[WORK] / FIGURES[WORK]:>9.2f} of what it was"
    print(f"  {what:<62} {value:>10,.1f} {unit:<5}{beside}", flush=True)


def fixed_work() -> None:
    """Small arrays and plain loops, as the engine works: what other figures are held against."""
    values, total = np.arange(50.0), 0.0
    for _ in range(4000):
        values = np.where(values > 0, values * 1.0000001, 0.0)
        total += sum(number * 0.5 for number in range(20)) + float(values.sum())
