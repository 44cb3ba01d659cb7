"""How the application is served."""

import logging
import secrets
import socket
import sys
import threading
import time
import webbrowser
from collections.abc import Callable, Iterator
from concurrent.futures import Future
from contextlib import contextmanager
from pathlib import Path
from types import FrameType
from typing import TYPE_CHECKING

import uvicorn
from starlette.applications import Starlette

from northgate.loading import loading
from northgate.store.examples import demo_as_kept, demo_plan_text
from northgate.store.states import Only, begin, look
from northgate.web.door.ahead import Ahead, made_ahead
from northgate.web.door.opening import Opening, Stage, part, prepared, whole

# What reads the store, and what computes, is loaded while the page is served.
if TYPE_CHECKING:
    from northgate.store.repository import Repository
    from northgate.web.computing import Computer

LOOPBACK = "127.0.0.1"
# A connection on which nothing is asked is kept for so long (s): whoever asks again in the very moment in which it is
# closed is not answered, and that moment should come seldom.
KEEPS_S = 75
SWITCH_S = 0.0005
# The processes that compute are started so long after the first question (s), which is answered first; or so long after
# the start (s) where nobody asks.
WARM_AFTER_S, WARM_UNASKED_S = 1.0, 4.0
# The board of a plan of more characters takes too long for all else to wait.
MOST_CHARACTERS = 200_000
# Where nobody asks for more than a board does, the rest is loaded after so long (s).
UNASKED_S = 1.0


def serve(
    serving: "Serving", tell: Callable[[str], None], *, port: int, open_browser: bool, private: bool = False
) -> None:
    """Serves on loopback until interrupted, and tells where; exit status 2 when the port is taken. `private`: only
    those are answered who open the address that is told, which has a token. Raises StoreError where the store cannot
    be opened."""
    token = secrets.token_urlsafe(24) if private else None
    listening = _listen(port)
    address = f"http://{LOOPBACK}:{listening.getsockname()[1]}/"
    tell(address)
    address += f"?token={token}" if token else ""

    def told() -> None:
        print(f"North Gate is at {address}   (Ctrl+C stops it)", flush=True)
        if open_browser:
            threading.Timer(0.5, _open, (address,)).start()

    # Who computes lets others go on sooner: an answer needs the interpreter again and again.
    sys.setswitchinterval(SWITCH_S)
    config = uvicorn.Config(
        Opening(serving.stages, serving.wanted, token), log_level="warning", access_log=False, server_header=False,
        timeout_graceful_shutdown=1, timeout_keep_alive=KEEPS_S,
    )  # fmt: skip
    server = _Server(config, serving, told)
    serving.open(server.give_up, token, bounded=not open_browser)
    server.run(sockets=[listening])
    serving.close()


class Serving:
    """What is served, and how it comes to be there: the store in `file`, into which the demo comes where it is to be
    served (`with_demo`)."""

    def __init__(self, file: Path, *, with_demo: bool = False) -> None:
        self._file, self._with_demo = file, with_demo
        self._token: str | None = None
        self._bounded = True
        self._repository: Future[Repository] = Future()
        self._computer: Computer | None = None
        self.stages = [Future[Stage]() for _ in range(3)]
        self.wanted = threading.Event()

    def open(self, give_up: Callable[[], None], token: str | None = None, *, bounded: bool = True) -> None:
        """Begins to load: what is asked first, the store, what else a board asks, and all; `bounded`: in the memory
        that North Gate allows itself. Raises StoreError where something is to be told of the store; else `give_up` is
        called if it cannot be opened."""
        self._token, self._bounded = token, bounded
        if not look(self._file).usual:
            self._open_store()
        threading.Thread(target=self._load, args=(give_up,), daemon=True).start()

    def _prepare(self) -> None:
        """What is asked first is answered before what else is asked is loaded."""
        with _told(self.stages[0]):
            ahead = made_ahead(demo_plan_text())
            only = self._only(ahead)
            if only is None or len(only.document) > MOST_CHARACTERS:
                raise LookupError("there is no plan that would be answered for sooner than all others")
            answers = ahead.answers_for(only.head, only.document) if ahead else None
            if answers is None:
                with loading():
                    from northgate.web.first import first_answers
                answers = first_answers(only.head, only.document)
            self.stages[0].set_result(prepared(answers, only.head.revision, self._token))

    def _only(self, ahead: Ahead | None) -> Only | None:
        """The only plan in the store, be it the demo that comes into it; the door opens that one."""
        if not self._with_demo:
            return look(self._file).only
        text = demo_plan_text()
        if not self._file.exists():
            begin(self._file, *((ahead.name, ahead.document) if ahead else _demo_as_kept()), text)
        only = look(self._file).only
        # Where the demo has a newer text, another plan comes.
        return only if only is not None and only.source == text else None

    def _load(self, give_up: Callable[[], None]) -> None:
        _, first, last = self.stages
        self._prepare()
        with _told(first, last):
            if not self._repository.done():
                try:
                    self._open_store()
                except BaseException as error:
                    self._repository.set_exception(error)
                    give_up()
                    raise
            first.set_result(part(self._first()))
            # What is there answers sooner while nothing else is loaded.
            self.wanted.wait(UNASKED_S)
            last.set_result(whole(self._all()))

    def _open_store(self) -> None:
        with loading():
            from northgate.store.examples import load_demo
            from northgate.store.repository import Repository
        repository = Repository(self._file)
        if self._with_demo:
            load_demo(repository)
        self._repository.set_result(repository)

    def _first(self) -> Starlette:
        """Loads what answers while a board opens, and has the processes that compute started later."""
        with loading():
            from northgate.web.app import first_app
            from northgate.web.computing import Computer
        if self._bounded:
            _bound()
        self._computer = Computer(self._repository.result())
        threading.Thread(target=_warm, args=(self._computer,), daemon=True).start()
        return first_app(self._computer, self._token)

    def _all(self) -> Starlette:
        with loading():
            from northgate.web.app import app_over
        assert self._computer is not None
        return app_over(self._computer, self._token)

    def stop(self) -> None:
        """What is being computed is given up."""
        if self._computer is not None:
            self._computer.close()

    def close(self) -> None:
        """Lets the store go; raises what kept it from being opened."""
        if self._repository.done():
            self._repository.result().close()


def _demo_as_kept() -> tuple[str, str]:
    with loading():
        import northgate.plan.reading  # noqa: F401
    return demo_as_kept()


@contextmanager
def _told(*stages: Future[Stage]) -> Iterator[None]:
    """Whoever waits for stages that do not come is told why."""
    try:
        yield
    except BaseException as error:
        for stage in stages:
            if not stage.done():
                stage.set_exception(error)


def _warm(computer: "Computer") -> None:
    """Starts the processes that compute, once what was asked first has been answered, or nobody asks."""
    from northgate.web.deciding import tasks
    from northgate.work import warm

    if computer.asked.wait(WARM_UNASKED_S):
        time.sleep(WARM_AFTER_S)
    warm([tasks.__name__])
    computer.warmed.set()


def _bound() -> None:
    """From now on this process has a bound of memory."""
    from northgate.work import bound_memory

    bound_memory()


def _open(address: str) -> None:
    """Opens the browser, which must not be bounded as this process is from then on."""
    webbrowser.open(address)
    _bound()


class _Server(uvicorn.Server):
    """Tells where it is once it answers, and can be stopped. Stops at once when it is told to: what is being computed
    then is given up."""

    def __init__(self, config: uvicorn.Config, serving: Serving, told: Callable[[], None]) -> None:
        super().__init__(config)
        self._serving, self._told = serving, told

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        """Called when the server starts, which from then on takes the signals that stop a process."""
        await super().startup(sockets)
        if not self.should_exit:
            self._told()

    def handle_exit(self, sig: int, frame: FrameType | None) -> None:
        """Called by the signals that stop a process."""
        # Whoever still waits for an answer gets none, which is no error.
        logging.getLogger("uvicorn.error").setLevel(logging.CRITICAL)
        self._serving.stop()
        super().handle_exit(sig, frame)

    def give_up(self) -> None:
        """Stops the server: there is nothing to answer with."""
        self.should_exit = True


def _listen(port: int) -> socket.socket:
    # The protocol is named, for only then does the server send small answers at once (TCP_NODELAY).
    listening = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listening.bind((LOOPBACK, port))
        # Before the address is told: whoever comes at once waits in the queue instead of being refused.
        listening.listen()
    except OSError as error:
        listening.close()
        print(f"port {port} cannot be used: {error.strerror}; try --port 0 for a free one", file=sys.stderr)
        sys.exit(2)
    return listening
