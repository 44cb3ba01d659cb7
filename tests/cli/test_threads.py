"""Linear algebra runs on one thread, in whatever process: a pool of them costs more than the engine's matrices take."""

import subprocess
import sys

import pytest

# A process that loads all of it, multiplies matrices large enough for any pool, and counts its threads.
COUNTS = """
import os, {first}
import numpy, scipy.linalg
matrix = numpy.ones((600, 600))
scipy.linalg.solve(matrix @ matrix + numpy.eye(600), matrix)
print(len(os.listdir("/proc/self/task")))
"""


@pytest.mark.parametrize("first", ["northgate.cli", "northgate.web.server", "northgate.engine.drill", "tests.conftest"])
def test_linear_algebra_starts_no_threads(first):
    command = [sys.executable, "-c", COUNTS.format(first=first)]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert done.stdout.split() == ["1"], done.stderr
