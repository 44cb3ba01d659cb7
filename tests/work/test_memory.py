"""Processes are refused the memory that there is not."""

import subprocess
import sys

from northgate.work import memory

GREEDY = """
import resource
import numpy as np
from northgate.work.memory import bound_memory
bound = bound_memory()
assert resource.getrlimit(resource.RLIMIT_AS)[0] == bound
try:
    np.zeros(2 * bound, dtype=np.uint8)
except MemoryError:
    print("refused")
print(int(np.ones(1000).sum()))
"""


def test_a_process_is_refused_what_the_machine_does_not_have():
    done = subprocess.run([sys.executable, "-c", GREEDY], capture_output=True, text=True, check=True)
    assert done.stdout.split() == ["refused", "1000"]


def test_the_bound_is_that_of_the_control_group_where_there_is_one(tmp_path, monkeypatch):
    own = memory.memory_of_machine()
    given, unbounded = tmp_path / "memory.max", tmp_path / "other"
    given.write_text(f"{own // 2}\n")
    unbounded.write_text("max\n")
    monkeypatch.setattr(memory, "GROUPS", (tmp_path / "nothing", unbounded))
    assert memory.memory_of_machine() >= own
    monkeypatch.setattr(memory, "GROUPS", (given, unbounded))
    assert memory.memory_of_machine() == own // 2
