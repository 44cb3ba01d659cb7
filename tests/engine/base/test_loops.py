"""Compiled loops: machine code does what is written, takes no array for another, and is kept."""

import os
import shutil
import subprocess
import sys

import numpy as np
import pytest

from northgate.engine.base import Bools1, Floats1, Floats2, Ints1, compiled, compiled_alone, part
from northgate.engine.base.kept import LINKER


@part
def _half(value: float) -> float:
    return value / 2


@part
def _quarter(value: float) -> float:
    return _half(_half(value))


@compiled
def add_quarters(index: Ints1, values: Floats2, counted: Bools1, made: Floats1) -> None:
    """Adds a quarter of each counted row's values to the place of its index."""
    for row in range(len(index)):
        if counted[row]:
            for column in range(values.shape[1]):
                made[index[row]] += _quarter(values[row, column])


def asked(rows=4, columns=3):
    values = np.arange(rows * columns, dtype=np.float64).reshape(rows, columns)
    return np.arange(rows) % 2, values, np.arange(rows) != 1, np.zeros(2)


def test_machine_code_does_what_is_written():
    by_machine, as_written = asked(), asked()
    add_quarters(*by_machine)
    add_quarters.function(*as_written)
    index, values, counted, made = by_machine
    assert made.tolist() == as_written[3].tolist()
    assert made.tolist() == [values[counted & (index == place)].sum() / 4 for place in (0, 1)]


@pytest.mark.parametrize(
    ("place", "wrong"),
    [
        (0, np.zeros(4)), (1, np.zeros((4, 3), dtype=np.int64)), (1, np.zeros((4, 3), dtype=np.float32)),
        (1, np.zeros(4)), (2, np.zeros(4, dtype=np.int64)), (3, np.zeros((2, 2))),
    ],
)  # fmt: skip
def test_an_array_of_another_kind_is_refused_by_its_name(place, wrong):
    given = [*asked()]
    given[place] = wrong
    name = ("index", "values", "counted", "made")[place]
    with pytest.raises(TypeError, match=f"add_quarters: {name} is no array of kind"):
        add_quarters(*given)
    assert not np.any(given[3])


def test_what_is_returned_is_counted():
    """Machine code returns an object of everybody's; one that is not counted would be thrown away in the end."""
    given, before = asked(), sys.getrefcount(None)
    for _ in range(100_000):
        add_quarters(*given)
    assert abs(sys.getrefcount(None) - before) < 50_000


def test_more_or_fewer_arrays_than_it_takes_are_refused():
    for given in ((), asked()[:3], (*asked(), np.zeros(2))):
        with pytest.raises(ValueError, match="zip"):
            add_quarters(*given)


@compiled_alone
def add_alone(values: Floats1, made: Floats1) -> None:
    for place in range(len(values)):
        made[place] += values[place]


def test_what_works_alone_does_and_refuses_as_others():
    values, made = np.arange(3.0), np.ones(3)
    add_alone(values, made)
    assert made.tolist() == [1.0, 2.0, 3.0]
    with pytest.raises(TypeError, match="add_alone: made is no array of kind f"):
        add_alone(values, np.ones(3, dtype=np.int64))


def test_arrays_that_lie_in_pieces_are_read_and_filled_all_the_same():
    whole, pieces = [*asked()], [*asked()]
    pieces[1] = np.asfortranarray(pieces[1])
    pieces[3] = np.zeros(4)[::2]
    pieces[0] = np.broadcast_to(np.array([1]), 4)
    whole[0] = np.ones(4, dtype=np.int64)
    add_quarters(*whole)
    add_quarters(*pieces)
    assert pieces[3].tolist() == whole[3].tolist()
    assert whole[3][1] > 0


def test_arrays_of_nothing_are_arrays():
    given = np.zeros(0, dtype=np.int64), np.zeros((0, 3)), np.zeros(0, dtype=bool), np.zeros(1)
    add_quarters(*given)
    assert given[3].tolist() == [0.0]


SOURCE = """
import sys
import numpy as np
from northgate.engine.base import Floats1, compiled, load_all

@compiled
def fill(made: Floats1) -> None:
    for place in range(len(made)):
        made[place] = VALUE

if "all" in sys.argv:
    load_all()
made = np.zeros(2)
fill(made)
print(made.tolist(), *(name for name in ("numba", "llvmlite") if name in sys.modules))
"""


def run(path, value, *words, **environment):
    """What is printed: the numbers, and what was loaded to have the machine code."""
    path.write_text(SOURCE.replace("VALUE", value))
    caches = os.environ | {"XDG_CACHE_HOME": str(path.parent / "caches")} | environment
    command = [sys.executable, str(path), *words]
    return subprocess.run(command, capture_output=True, text=True, check=True, env=caches).stdout.strip()


def test_machine_code_is_kept_and_made_anew_when_its_source_changes(tmp_path):
    """Each loop by itself, where there is no linker."""
    path = tmp_path / "filling.py"
    assert run(path, "1.5", "all", PATH="") == "[1.5, 1.5] numba llvmlite"
    assert run(path, "1.5") == "[1.5, 1.5] llvmlite"
    assert run(path, "2.5") == "[2.5, 2.5] numba llvmlite"
    (kept,) = tmp_path.glob("__pycache__/filling.fill-*.o")
    assert kept.stat().st_mode & 0o777 == 0o644, "whoever may read the source may read this"


@pytest.mark.skipif(not shutil.which(LINKER), reason="no linker here: loops are loaded one by one")
def test_linked_into_one_library_it_needs_nothing_else(tmp_path):
    path = tmp_path / "filling.py"
    run(path, "1.5", "all")
    assert run(path, "1.5") == "[1.5, 1.5]"
    assert run(path, "2.5") == "[2.5, 2.5] numba llvmlite", "what was linked is of another source"
    run(path, "2.5", "all")
    assert run(path, "2.5") == "[2.5, 2.5]"
    (library,) = tmp_path.glob("__pycache__/*.so")
    library.write_text("no library")
    assert run(path, "2.5") == "[2.5, 2.5] llvmlite"


def test_there_are_no_loops_in_what_whoever_has_loops_imports():
    """All that have been imported are linked into the library of their package, in place of the last one: with a loop
    of its own here, a script with one loop would leave all of the engine's out."""
    told = "import northgate.engine.base as base; print(len(base.loops.LOOPS))"
    assert subprocess.run([sys.executable, "-c", told], capture_output=True, text=True, check=True).stdout == "0\n"


def test_what_cannot_be_kept_beside_its_source_is_kept_among_the_users_caches(tmp_path):
    (tmp_path / "__pycache__").write_text("no folder")
    assert run(tmp_path / "filling.py", "3.5") == "[3.5, 3.5] numba llvmlite"
    assert run(tmp_path / "filling.py", "3.5") == "[3.5, 3.5] llvmlite"
    assert len([*tmp_path.glob("caches/northgate/filling.fill-*.o")]) == 1


def test_where_nothing_can_be_kept_it_is_compiled_all_the_same(tmp_path):
    for name in ("__pycache__", "caches"):
        (tmp_path / name).write_text("no folder")
    assert run(tmp_path / "filling.py", "3.5") == "[3.5, 3.5] numba llvmlite"


@compiled
def add_what_fits(values: Floats1, made: Floats1) -> None:
    made[: len(values)] = values


def test_what_would_need_the_compiler_later_is_refused_when_it_is_compiled():
    """Numba's own error, where lengths differ, is made by what is only there while Numba is."""
    with pytest.raises(ValueError, match=r"add_what_fits needs .*NRT_Allocate"):
        add_what_fits(np.zeros(2), np.zeros(3))
