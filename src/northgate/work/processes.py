"""Whole questions, each computed by a process of its own: a server goes on answering meanwhile, whatever becomes of it.

Processes are started when they are first needed (or `warm`ed), and kept. A question that is not wanted any more is
stopped; where it does not stop by itself, its process is. So is one that took more memory than it may, or was killed.
"""

import atexit
import importlib
import os
import pickle
import subprocess
import sys
import time
from collections.abc import Callable, Sequence
from contextlib import ExitStack, suppress
from multiprocessing import Pipe
from multiprocessing.connection import Connection
from typing import Any, TypeVar

from northgate.engine.base import CannotRun, Watch, go_on
from northgate.plan import Problem
from northgate.work.memory import memory_of_machine
from northgate.work.row import Row
from northgate.work.worker import FAILED, STOP, TOLD, received

# Two at the least: a long one does not keep a short one waiting.
COUNT = max(2, os.cpu_count() or 1)
# A question may take so much of the machine's memory, and always so many bytes.
PART_OF_MEMORY, LEAST_BYTES = 0.5, 2**30
# Who asked is looked after so often (s); what is to stop has so long to do so by itself (s).
LOOK_EVERY_S, GRACE_S = 0.05, 2.0

# What a process is started as.
WORKS = """
from northgate.loading import loading
with loading():
    from northgate.work.worker import main
main()
"""

Made = TypeVar("Made")
Given = tuple[Any, ...]
Tell = Callable[..., None]


class WorkerKilled(Exception):
    """A process that computed was ended from outside."""


def most_bytes() -> int:
    """The memory that one question may take."""
    return max(LEAST_BYTES, int(memory_of_machine() * PART_OF_MEMORY))


def nobody(*_facts: Any) -> None:
    """Is told how far it is, and does nothing."""


class Worker:
    """One process and the pipe to it."""

    def __init__(self, nice: int) -> None:
        self._nice = nice
        self._process: subprocess.Popen[bytes] | None = None
        self._pipe: Connection | None = None

    def start(self) -> Connection:
        """The pipe to the process, which is started where there is none."""
        if self._pipe is not None and self._process is not None and self._process.poll() is None:
            return self._pipe
        self.end()
        self._pipe, theirs = Pipe()
        command = [sys.executable, "-P", "-c", WORKS, str(theirs.fileno()), str(most_bytes()), str(self._nice)]
        # In a group of its own: what interrupts this process leaves it to it to end that one.
        self._process = subprocess.Popen(
            [*command, *sys.path], pass_fds=[theirs.fileno()], process_group=0,
            stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL,
        )  # fmt: skip
        theirs.close()
        return self._pipe

    def ask(
        self, function: Callable[..., Made], given: Given, watch: Watch, told: Tell, shared: object = None
    ) -> Made:  # fmt: skip
        """See `alone`; raises WorkerKilled, too."""
        watch()
        try:
            pipe = self.start()
            pipe.send_bytes(pickle.dumps((function, given), pickle.HIGHEST_PROTOCOL))
            kind, value = self._reply(pipe, watch, told, shared)
        except (EOFError, ConnectionError) as error:
            self.end()
            watch()
            raise WorkerKilled from error
        except BaseException:
            self._quieten()
            raise
        if kind != FAILED:
            made: Made = value
            return made
        if isinstance(value, MemoryError):
            self.end()
            most = f"{most_bytes() / 2**30:.1f} GiB of memory, which is what one question may take here"
            raise CannotRun([Problem("", f"it takes more than {most}; ask for less, or on a larger machine")])
        raise value

    def _reply(self, pipe: Connection, watch: Watch, told: Tell, shared: object) -> tuple[str, Any]:
        while True:
            if pipe.poll(LOOK_EVERY_S):
                kind, value = received(pipe.recv_bytes(), shared)
                if kind != TOLD:
                    return kind, value
                told(*value)
            watch()

    def _quieten(self) -> None:
        """Has the process stop what it does, and ends it where it does not."""
        pipe, until = self._pipe, time.monotonic() + GRACE_S
        try:
            if pipe is None:
                return
            pipe.send_bytes(STOP)
            while (left := until - time.monotonic()) > 0 and pipe.poll(left):
                if received(pipe.recv_bytes(), None)[0] != TOLD:
                    return
        except (EOFError, OSError):
            pass
        self.end()

    def kill(self) -> None:
        """Ends the process, from whatever thread."""
        process = self._process
        if process is not None:
            process.kill()
            process.wait()

    def end(self) -> None:
        """Ends the process, whatever it is at: the next question gets another."""
        self.kill()
        if self._pipe is not None:
            self._pipe.close()
        self._process = self._pipe = None


class Workers:
    """So many processes; who asks while all are busy waits in a row."""

    def __init__(self, count: int = COUNT, nice: int = 0) -> None:
        self.row = Row(Worker(nice) for _ in range(count))

    def ask(
        self, function: Callable[..., Made], given: Given, watch: Watch, told: Tell, shared: object = None
    ) -> Made:  # fmt: skip
        """See `alone`; raises WorkerKilled, too."""
        with self.row.taken(watch) as worker:
            return worker.ask(function, given, watch, told, shared)

    def warm(self, modules: Sequence[str]) -> None:
        """Starts the processes, all at once, and has them load what they will need."""
        with ExitStack() as held:
            workers = [held.enter_context(self.row.taken(go_on)) for _ in self.row.all]
            for one in workers:
                one.start()
            for one in workers:
                one.ask(_load, (modules,), go_on, nobody)

    def kill(self) -> None:
        """Ends the processes, whatever they are at; who waits for one of them is told so."""
        for one in self.row.all:
            one.kill()


def _load(modules: Sequence[str], _told: Tell) -> None:
    """Loads what answers are computed by."""
    for name in modules:
        importlib.import_module(name)


# What takes its time leaves the processor to all else; what does not must not wait for that.
_LONG, _SHORT = Workers(nice=5), Workers(2)


def alone(
    function: Callable[..., Made], *given: Any, watch: Watch = go_on, told: Tell = nobody, shared: object = None,
    short: bool = False,
) -> Made:  # fmt: skip
    """What a function makes of plain data, in a process of its own; its last argument is what tells how far it is (and
    raises there what stops it), which comes to `told` here. `watch` is called meanwhile; what it raises stops the work.
    `shared`: what stands here for what the function calls so (`Teller.shared`) and does not send; `short`: it waits for
    nothing that takes its time. Raises what the function raises, and CannotRun where it takes more memory than a
    question may, or is killed."""
    try:
        return (_SHORT if short else _LONG).ask(function, given, watch, told, shared)
    except WorkerKilled as error:
        why = "the process that computed it was ended from outside, as where memory does not suffice"
        raise CannotRun([Problem("", f"{why}; ask for less, or on a larger machine")]) from error


def ask_one(function: Callable[..., Made], *given: Any, watch: Watch) -> Made:
    """As `alone`; raises WorkerKilled where the process was killed."""
    return _LONG.ask(function, given, watch, nobody)


def warm(modules: Sequence[str]) -> None:
    """Starts the processes before they are needed, and has them load these modules."""
    with suppress(WorkerKilled):
        for lane in (_SHORT, _LONG):
            lane.warm(modules)


def stop() -> None:
    """Ends all processes that compute for this one."""
    _LONG.kill()
    _SHORT.kill()


atexit.register(stop)
