"""The house of the engine: eleven rooms, entered through their faces; nothing in it or in the plan is too large.

Their order and that nothing goes round is held by import-linter (`make check`).
"""

import ast
from pathlib import Path

import pytest

import northgate.engine

ENGINE = Path(northgate.engine.__file__).parent
ROOMS = {
    "trace", "reports", "drill", "processes", "solver", "balancing", "truth", "network", "matching", "formulas", "base",
}  # fmt: skip
FILES = sorted(ENGINE.rglob("*.py"))
MEASURED = [*FILES, *sorted((ENGINE.parent / "plan").rglob("*.py"))]
MOST = {"lines of a file": 400, "lines of a class": 200, "lines of a function": 50, "files of a folder": 12}


def name_of(path):
    return str(path.relative_to(ENGINE.parent))


def definitions(tree, kinds):
    return [node for node in ast.walk(tree) if isinstance(node, kinds)]


def test_there_are_eleven_rooms_and_nothing_beside_them():
    assert {path.name for path in ENGINE.iterdir() if path.is_dir() and path.name != "__pycache__"} == ROOMS
    assert [path.name for path in ENGINE.glob("*.py")] == ["__init__.py"]


@pytest.mark.parametrize("path", MEASURED, ids=name_of)
def test_nothing_is_too_large(path):
    text = path.read_text()
    tree = ast.parse(text)
    assert len(text.splitlines()) <= MOST["lines of a file"]
    for node in definitions(tree, ast.ClassDef):
        assert node.end_lineno - node.lineno < MOST["lines of a class"], node.name
    for node in definitions(tree, (ast.FunctionDef, ast.AsyncFunctionDef)):
        assert node.end_lineno - node.lineno < MOST["lines of a function"], node.name


@pytest.mark.parametrize("folder", sorted({path.parent for path in MEASURED}), ids=name_of)
def test_no_folder_holds_too_much(folder):
    assert len([path for path in folder.glob("*.py") if path.name != "__init__.py"]) <= MOST["files of a folder"]


@pytest.mark.parametrize("path", FILES, ids=name_of)
def test_other_rooms_are_entered_through_their_faces(path):
    """Inside a room modules import each other; from elsewhere only what the room's own `__init__` offers."""
    here = path.relative_to(ENGINE).parts[0]
    for node in definitions(ast.parse(path.read_text()), ast.ImportFrom):
        words = (node.module or "").split(".")
        if words[:2] == ["northgate", "engine"]:
            assert words[2] == here or len(words) == 3, f"line {node.lineno} goes past the face of {words[2]}"


@pytest.mark.parametrize("path", FILES, ids=name_of)
def test_docstrings_say_what_they_are_about(path):
    """A docstring that begins with "The same" sends its reader elsewhere."""
    for node in definitions(ast.parse(path.read_text()), (ast.ClassDef, ast.FunctionDef, ast.Module)):
        assert not (ast.get_docstring(node) or "").startswith("The same")
