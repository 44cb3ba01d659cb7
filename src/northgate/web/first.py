"""What is asked first of the one plan that a store keeps, answered by a process of its own while the server loads: the
list, the plan, and its board now. `python -m northgate.web.first` is that process."""

import pickle
import subprocess
import sys
from types import TracebackType
from typing import TYPE_CHECKING

# Both sides begin at once: each loads only what it needs.
if TYPE_CHECKING:
    from northgate.store.head import Head

# A text of more characters takes longer than the server does.
MOST_CHARACTERS = 200_000
# Answers (JSON), by path and query.
Answers = dict[tuple[str, str], bytes]


class Ahead:
    """A process that answers for one plan. It loads while its server does, from when it is made."""

    def __init__(self) -> None:
        self._process = subprocess.Popen(
            [sys.executable, "-P", "-m", "northgate.web.first"],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, process_group=0,
        )  # fmt: skip

    def ask(self, head: "Head", document: str) -> Answers:
        """What will be asked first of a plan. Raises EOFError where the process has nothing to say."""
        told, _ = self._process.communicate(pickle.dumps((head, document)))
        answers: Answers = pickle.loads(told)
        return answers

    def __enter__(self) -> "Ahead":
        return self

    def __exit__(self, *_: type[BaseException] | BaseException | TracebackType | None) -> None:
        """Nobody asks any more."""
        self._process.kill()
        self._process.wait()
        for pipe in (self._process.stdin, self._process.stdout):
            if pipe is not None:
                pipe.close()


def answers_for(head: "Head", document: str) -> Answers:
    """See `Ahead.ask`. Raises PlanError, and CannotRun."""
    from northgate.engine.drill import undisturbed
    from northgate.engine.network import check_runnable, compile_network
    from northgate.engine.reports import board_state
    from northgate.plan import plan_from_text
    from northgate.web.told.plans import PlanWhole, told_head

    plan = plan_from_text(document, head.key, is_json=True)
    check_runnable(plan)
    told = told_head(plan, head)
    state = board_state(undisturbed(compile_network(plan)))
    path = f"/api/plans/{head.key}"
    return {
        ("/api/plans", ""): f"[{told.model_dump_json(by_alias=True)}]".encode(),
        (path, ""): PlanWhole(head=told, document=plan).model_dump_json(by_alias=True).encode(),
        (f"{path}/state", f"revision={head.revision}"): state.model_dump_json(by_alias=True).encode(),
    }


def main() -> None:
    """Answers for the plan that comes in."""
    from northgate.loading import loading

    with loading():
        import northgate.engine.reports
        import northgate.web.told.plans  # noqa: F401
    head, document = pickle.load(sys.stdin.buffer)
    sys.stdout.buffer.write(pickle.dumps(answers_for(head, document)))


if __name__ == "__main__":
    main()
