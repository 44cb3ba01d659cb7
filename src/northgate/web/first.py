"""What is asked first of the one plan that a store keeps, answered by a process of its own before the server has loaded
what it needs: the list, the plan, and its board now. `python -m northgate.web.first [demo]` is that process."""

import pickle
import subprocess
import sys
from contextlib import AbstractContextManager, nullcontext, suppress
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any

from northgate.store.examples import demo_plan_text
from northgate.store.states import Seen

# Both sides begin at once: each loads only what it needs.
if TYPE_CHECKING:
    from northgate.store.head import Head

# A text of more characters takes longer than the server does.
MOST_CHARACTERS = 200_000
# Answers (JSON), by path and query.
Answers = dict[tuple[str, str], bytes]


def ahead_of(file: Path, seen: Seen, *, with_demo: bool) -> "AbstractContextManager[Ahead | None]":
    """A process that answers for the only plan of a store, be it the demo that comes into it; None where there is
    another number of plans, or one that takes so long that the server is no slower."""
    if with_demo and not file.exists():
        return Ahead(reads_demo=True)
    alone = seen.only is not None and len(seen.only.document) <= MOST_CHARACTERS
    # Where the demo has a newer text, another plan comes.
    same = not with_demo or (seen.only is not None and seen.only.source == demo_plan_text())
    return Ahead() if alone and same else nullcontext()


class Ahead:
    """A process that reads plans and computes, while its server opens the store and hands out the page; `reads_demo`:
    it reads the demo plan first."""

    def __init__(self, *, reads_demo: bool = False) -> None:
        command = [sys.executable, "-P", "-m", "northgate.web.first", *(["demo"] if reads_demo else [])]
        self._process = subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, process_group=0
        )
        self.reads_demo = reads_demo

    def demo(self) -> tuple[str, str]:
        """The demo plan as `demo_as_kept` gives it. Raises EOFError where the process has nothing to say."""
        told: tuple[str, str] = self._told()
        return told

    def answers(self, head: "Head", document: str) -> Answers:
        """What will be asked first of a plan. Raises EOFError where the process has nothing to say."""
        assert self._process.stdin is not None
        with suppress(BrokenPipeError):
            pickle.dump((head, document), self._process.stdin)
            self._process.stdin.flush()
        told: Answers = self._told()
        return told

    def _told(self) -> Any:
        assert self._process.stdout is not None
        return pickle.load(self._process.stdout)

    def __enter__(self) -> "Ahead":
        return self

    def __exit__(self, *_: type[BaseException] | BaseException | TracebackType | None) -> None:
        """Nobody asks any more."""
        self._process.kill()
        self._process.wait()
        for pipe in (self._process.stdin, self._process.stdout):
            if pipe is not None:
                with suppress(BrokenPipeError):
                    pipe.close()


class Known:
    """What is known of a plan before it is told where it stands: the plan, and its board now. Raises PlanError, and
    CannotRun."""

    def __init__(self, name: str, document: str) -> None:
        from northgate.engine.drill import undisturbed
        from northgate.engine.network import check_runnable, compile_network
        from northgate.engine.reports import board_state
        from northgate.plan import plan_from_text

        self.document = document
        self.plan = plan_from_text(document, name, is_json=True)
        check_runnable(self.plan)
        self.state = board_state(undisturbed(compile_network(self.plan)))

    def answers(self, head: "Head") -> Answers:
        """What will be asked first of it."""
        from northgate.web.told.plans import told_head, whole_text

        told, path = told_head(self.plan, head), f"/api/plans/{head.key}"
        return {
            ("/api/plans", ""): f"[{told.model_dump_json(by_alias=True)}]".encode(),
            (path, ""): whole_text(told, self.plan).encode(),
            (f"{path}/state", f"revision={head.revision}"): self.state.model_dump_json(by_alias=True).encode(),
        }


def main() -> None:
    """Reads the demo, if it is asked to; then answers for the plan that comes in."""
    from northgate.loading import loading

    with loading():
        import northgate.engine.reports
        import northgate.web.told.plans  # noqa: F401
        from northgate.store.examples import demo_as_kept
    known = None
    if sys.argv[1:]:
        name, document = demo_as_kept()
        _tell((name, document))
        known = Known(name, document)
    head, document = pickle.load(sys.stdin.buffer)
    if known is None or known.document != document:
        known = Known(head.key, document)
    _tell(known.answers(head))


def _tell(what: object) -> None:
    pickle.dump(what, sys.stdout.buffer)
    sys.stdout.buffer.flush()


if __name__ == "__main__":
    main()
