"""The first answers of a server of the demo, made when North Gate is set up, as Python's modules are compiled: a new
server of the demo needs neither read the plan nor compute. They hold until the demo or any module changes."""

import json
import os
from dataclasses import asdict, dataclass
from pathlib import Path

from northgate.store.head import Head

PACKAGE = Path(__file__).parents[2]
FILE = PACKAGE / "web" / "ahead.json"

# Answers (JSON), by path and query.
Answers = dict[tuple[str, str], bytes]


@dataclass(frozen=True)
class Ahead:
    """What was made ahead for the demo's text: its name, the plan as it is kept, where it stands in a new store, and
    what is answered there."""

    source: str
    name: str
    document: str
    head: Head
    answers: Answers

    def answers_for(self, head: Head, document: str) -> Answers | None:
        """The answers, if they are those of a plan, given as it is kept."""
        return self.answers if (head, document) == (self.head, self.document) else None


def made_ahead(source: str, file: Path = FILE) -> Ahead | None:
    """What was made ahead for the demo's text; None where nothing was, or it holds no more."""
    try:
        found = json.loads(file.read_bytes())
        if (found["modules"], found["source"]) != (_modules(), source):
            return None
        answers = {(path, query): answer.encode() for path, query, answer in found["answers"]}
        return Ahead(source, found["name"], found["document"], Head(**found["head"]), answers)
    except (OSError, ValueError, TypeError, KeyError):
        return None


def make(file: Path = FILE) -> None:
    """Makes the demo's first answers."""
    from northgate.store.examples import demo_as_kept, demo_plan_text
    from northgate.web.first import first_answers

    name, document = demo_as_kept()
    head = Head(name, revision=1, agreed=None, can_undo=False, can_redo=False, edits=0)
    answers = [(*asked, answer.decode()) for asked, answer in first_answers(head, document).items()]
    made = {"modules": _modules(), "source": demo_plan_text(), "name": name, "document": document}
    file.write_text(json.dumps(made | {"head": asdict(head), "answers": answers}), encoding="utf-8")


def _modules() -> list[list[str | int]]:
    """What may have changed the answers since: all modules, by date and size, as Python itself tells what is stale."""
    found: list[list[str | int]] = []
    folders = [os.fspath(PACKAGE)]
    while folders:
        with os.scandir(folders.pop()) as entries:
            for entry in entries:
                if entry.name.endswith(".py"):
                    seen = entry.stat()
                    found.append([entry.path, seen.st_mtime_ns, seen.st_size])
                elif "." not in entry.name and entry.name != "__pycache__" and entry.is_dir():
                    folders.append(entry.path)
    return sorted(found, key=str)


if __name__ == "__main__":
    make()
