"""Long work that tells how far it is, and stops when nobody waits for it any more."""

from collections.abc import Callable, Hashable
from typing import Any, TypeVar

from northgate.web.computing import Computer

Answer = TypeVar("Answer")


def told_meanwhile(
    computer: Computer, question: Hashable, work: Callable[[Callable[[int, int], None]], Answer]
) -> Answer:
    """The kept answer to a question, or a new one, of which is told how far it is; it stops when nobody waits."""
    watch = computer.watch(question)

    def told(done: int, of: int) -> None:
        watch()
        computer.done[question] = (done, of)

    def answer() -> Answer:
        try:
            return work(told)
        finally:
            computer.done.pop(question, None)

    return computer.once(question, answer)


def alone_meanwhile(computer: Computer, question: Hashable, task: Callable[..., Answer], *given: Any) -> Answer:
    """As `told_meanwhile`, of a task for another process."""

    def told(done: int, of: int) -> None:
        computer.done[question] = (done, of)

    try:
        return computer.alone(question, task, *given, told=told)
    finally:
        computer.done.pop(question, None)
