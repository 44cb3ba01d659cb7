"""What a process does that computes for a server: one question after the other, each until answered or stopped."""

import contextlib
import io
import os
import pickle
import signal
import sys
import threading
import time
import traceback
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from northgate.engine.base import Watch
from northgate.work.memory import bound_data

# Workers look so often whether their server is still there (s), and tell at most so often how far they are (s).
LOOK_EVERY_S, TELL_EVERY_S = 1.0, 0.1
# They are the first to go where the machine has no memory left.
FIRST_TO_GO = "500"
# What is sent to a worker that is to stop.
STOP = b"stop"
TOLD, MADE, FAILED, SHARED = "told", "made", "failed", "shared"

# Is set in those processes that are workers.
_worker = threading.Event()


class Stopped(Exception):
    """Nobody waits any more for what a worker does."""


def is_worker() -> bool:
    """Whether this process computes for another."""
    return _worker.is_set()


def serve(pipe: Connection, most_bytes: int, nice: int) -> None:
    """Answers what comes through a pipe until it closes; `most_bytes`: the memory that a question may take, `nice`: how
    much this process leaves the processor to others."""
    _worker.set()
    _attend(nice)
    bound_data(most_bytes)
    # Where the server is gone there is nobody to be told.
    with contextlib.suppress(EOFError, ConnectionError):
        while True:
            asked = pipe.recv_bytes()
            # What is to stop may have ended before it is told so.
            if asked != STOP:
                pipe.send_bytes(_answer(asked, Teller(pipe)))


def _answer(asked: bytes, told: "Teller") -> bytes:
    try:
        function, given = pickle.loads(asked)
        return sent((MADE, function(*given, told)), told.shared)
    except BaseException as error:
        return _failed(error)


def sent(answer: Any, shared: object) -> bytes:
    """What goes through a pipe, without what there is at its other end (`shared`)."""
    made = io.BytesIO()
    pickler = pickle.Pickler(made, pickle.HIGHEST_PROTOCOL)
    pickler.persistent_id = lambda one: SHARED if one is shared and one is not None else None  # type: ignore[method-assign]
    pickler.dump(answer)
    return made.getvalue()


def received(came: bytes, shared: object) -> Any:
    """What came through a pipe, with what is here already."""
    unpickler = pickle.Unpickler(io.BytesIO(came))
    unpickler.persistent_load = lambda _: shared  # type: ignore[method-assign]
    return unpickler.load()


def _failed(error: BaseException) -> bytes:
    """An error as it can be sent, with where it arose."""
    error.add_note("".join(traceback.format_tb(error.__traceback__)))
    try:
        told = pickle.dumps((FAILED, error))
        pickle.loads(told)
    except Exception:
        told = pickle.dumps((FAILED, RuntimeError(f"{type(error).__name__}: {error}")))
    return told


class Teller:
    """Tells how far a question is; raises Stopped once its answer is not wanted any more. `shared`: what of the answer
    who asks has himself, so that it is not sent."""

    def __init__(self, pipe: Connection) -> None:
        self._pipe, self._next_s = pipe, 0.0
        self.shared: object = None

    def __call__(self, *facts: Any) -> None:
        """Facts for who asked: the last are told, not all."""
        self.watch()
        now = time.monotonic()
        if now >= self._next_s:
            self._next_s = now + TELL_EVERY_S
            self._pipe.send_bytes(pickle.dumps((TOLD, facts)))

    def watch(self) -> None:
        """Raises Stopped where that is due."""
        if self._pipe.poll():
            raise Stopped


class Here(Teller):
    """As a teller, where who asks computes himself: nobody is told, and what `watch` raises stops it."""

    def __init__(self, watch: Watch) -> None:
        self._watch = watch
        self.shared = None

    def __call__(self, *_facts: Any) -> None:
        """Raises what stops it."""
        self._watch()

    def watch(self) -> None:
        """Raises what stops it."""
        self._watch()


def _attend(nice: int) -> None:
    """A worker leaves it to its server to be interrupted, and goes when that is gone, however it went."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    os.nice(nice)
    _tell_kernel()
    parent = os.getppid()

    def look() -> None:
        while os.getppid() == parent:
            time.sleep(LOOK_EVERY_S)
        os._exit(0)

    threading.Thread(target=look, daemon=True).start()


def _tell_kernel() -> None:
    own = Path("/proc/self/oom_score_adj")
    if own.exists():
        own.write_text(FIRST_TO_GO)


def main() -> None:
    """A process that is started with the number of its pipe, `most_bytes` and `nice`, and where modules lie."""
    # What is asked is known by its name: it is looked for where who asks has found it.
    sys.path[:] = sys.argv[4:]
    serve(Connection(int(sys.argv[1])), *map(int, sys.argv[2:4]))
