"""The first answers of a server of the demo, made when North Gate is set up, as Python's modules are compiled: for what
a page asks first, a new server of the demo needs neither read the plan nor compute. They hold until the demo or any
module changes."""

import asyncio
import json
import os
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import asdict

from northgate.store.head import Head

if TYPE_CHECKING:
    from starlette.types import ASGIApp, Message

OK = 200
PACKAGE = Path(__file__).parents[2]
FILE = PACKAGE / "web" / "ahead.json"

# Answers (JSON), by path and query.
Answers = dict[tuple[str, str], bytes]


class Ahead(Struct, frozen=True):
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
    from tempfile import TemporaryDirectory

    from anyio.from_thread import start_blocking_portal

    from northgate.store.examples import demo_as_kept, demo_plan_text
    from northgate.store.repository import Repository
    from northgate.web.app import app_over
    from northgate.web.computing import Computer

    name, document = demo_as_kept()
    text = demo_plan_text()
    with TemporaryDirectory() as folder:
        repository = Repository(Path(folder) / "demo.sqlite")
        head, computer = repository.keep(name, document, text), Computer(repository)
        with start_blocking_portal() as elsewhere:
            answers = elsewhere.call(_answers_of, app_over(computer), head)
        computer.close()
        repository.close()
    made = {"modules": _modules(), "source": text, "name": name, "document": document, "head": asdict(head)}
    written = [(*asked, answer.decode()) for asked, answer in answers.items()]
    file.write_text(json.dumps(made | {"answers": written}), encoding="utf-8")


async def _answers_of(app: "ASGIApp", head: Head) -> Answers:
    plan = json.loads(await _answer(app, f"/api/plans/{head.key}"))["document"]
    drill = plan["drills"][0]["name"]
    blind = json.loads(await _answer(app, f"/api/plans/{head.key}/drills/{drill}"))["blind"]
    groups = sorted({row["group"] for row in blind})
    return {asked: await _answer(app, *asked) for asked in questions(head, drill, groups)}


def questions(head: Head, drill: str, groups: Iterable[str]) -> list[tuple[str, str]]:
    """What a page asks, by path and query, while the board of a plan opens: the list, the plan, the board now, what
    stands beside it, and at its foot a drill, with the strips of one of these groups."""
    plan, at = f"/api/plans/{head.key}", f"revision={head.revision}"
    asked = [("/api/plans", ""), (plan, ""), (f"{plan}/state", at), ("/api/schema", "")]
    asked += [(f"{plan}/{what}", at) for what in ("consequences", "index", "cost")]
    asked += [(f"{plan}/findings", f"{at}&losses=false"), (f"{plan}/drills/{drill}", f"{at}&utilisation=false")]
    return asked + [(f"{plan}/drills/{drill}/strips", f"group={group}&{at}") for group in groups]


async def _answer(app: "ASGIApp", path: str, query: str = "") -> bytes:
    """What an application answers to a question."""
    scope = {
        "type": "http", "method": "GET", "path": path, "query_string": query.encode(), "scheme": "http",
        "headers": [(b"host", b"127.0.0.1")], "server": ("127.0.0.1", 80), "client": ("127.0.0.1", 0),
        "http_version": "1.1", "root_path": "", "asgi": {"version": "3.0"},
    }  # fmt: skip
    sent: list[Message] = []

    async def receive() -> "Message":
        # Nothing more comes: whoever asks stays until he is answered.
        await asyncio.Event().wait()
        return {}

    async def send(message: "Message") -> None:
        sent.append(message)

    await app(scope, receive, send)
    if sent[0]["status"] != OK:
        raise ValueError(f"{path} answers {sent[0]['status']}")
    return b"".join(message.get("body", b"") for message in sent)


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
