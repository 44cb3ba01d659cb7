"""A question that takes more memory than there is fails, and the server goes on."""

import subprocess
import sys

import pytest

from northgate.engine.base import CannotRun
from northgate.web.computing import Computer
from northgate.web.waiting import memory

GREEDY = """
import resource
import numpy as np
from northgate.web.waiting.memory import bound_memory
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


def test_what_takes_too_much_memory_is_told_and_asked_anew_later(repository):
    computer = Computer(repository)
    answers = iter([MemoryError(), "there"])

    def answer():
        one = next(answers)
        if isinstance(one, Exception):
            raise one
        return one

    with pytest.raises(CannotRun, match="more memory than there is"):
        computer.once("question", answer)
    assert computer.once("question", answer) == "there"
