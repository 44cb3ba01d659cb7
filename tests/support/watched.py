"""Which tests are watched for coverage: a few that together pass nearly all that any of them passes.

To be watched doubles the time of a test, and most of them pass what others have passed. `make watched` watches all
tests of plan and engine once, and keeps the names of those that tell the most for their time.
"""

import heapq
import importlib
import os
import pkgutil
import sys
from collections import defaultdict
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import pytest
from coverage import Coverage, CoverageData

import northgate.engine
import northgate.plan

NAMES = Path(__file__).parents[1] / "watched.txt"
# Whether all are watched.
ALL = bool(os.environ.get("NORTHGATE_WATCH"))
# A test is worth its time where it passes so many lines a second that no other has passed; and each takes a little
# of it (s).
WORTH, LEAST_S = 5, 0.005

Line = tuple[str, int]


def names() -> frozenset[str]:
    """The names of the tests that are watched."""
    return frozenset(NAMES.read_text().splitlines())


def measuring(config: pytest.Config) -> Any:
    """Who measures coverage; None where nobody does."""
    plugin = config.pluginmanager.getplugin("_cov")
    return plugin and plugin.cov_controller


def load() -> None:
    """Loads all that is measured: what a module does as it is loaded, it does once."""
    for package in (northgate.plan, northgate.engine):
        for module in pkgutil.walk_packages(package.__path__, f"{package.__name__}."):
            importlib.import_module(module.name)


def stop_all() -> None:
    """Stops all who measure: a process that runs tests for another has two, of which the second alone reports."""
    while measuring := Coverage.current():
        measuring.stop()


def passed(data: CoverageData) -> dict[str, set[Line]]:
    """What each test passes; under no name, what is passed as modules are loaded."""
    found = defaultdict(set)
    for file in data.measured_files():
        for line, contexts in data.contexts_by_lineno(file).items():
            for context in contexts:
                found[context.rpartition("|")[0]].add((file, line))
    return found


def seconds(report: Path) -> dict[str, float]:
    """How long each test took, by pytest's own report."""
    cases = ElementTree.parse(report).iter("testcase")
    return {f"{one.get('classname').replace('.', '/')}.py::{one.get('name')}": float(one.get("time")) for one in cases}


def worth_it(passes: Mapping[str, set[Line]], took: Mapping[str, float]) -> Iterator[str]:
    """Test after test, each the one that passes most for its time of what none before it has passed."""
    left = set().union(*passes.values()) - passes.get("", set())

    def worth(name: str) -> float:
        return len(passes[name] & left) / (took.get(name, 0.0) + LEAST_S)

    row = [(-worth(name), name) for name in passes if name]
    heapq.heapify(row)
    while row:
        _, name = heapq.heappop(row)
        again = worth(name)
        if row and again < -row[0][0]:
            # What it passes has been passed by others meanwhile.
            heapq.heappush(row, (-again, name))
            continue
        if again < WORTH:
            return
        left -= passes[name]
        yield name


if __name__ == "__main__":
    measured, report = (Path(one) for one in sys.argv[1:])
    data = CoverageData(str(measured))
    data.read()
    NAMES.write_text("\n".join(sorted(worth_it(passed(data), seconds(report)))) + "\n")
