"""The application and how it is served."""

import secrets
import socket
import sys
import threading
import time
import webbrowser
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from pathlib import Path
from types import FrameType

import uvicorn
from anyio import to_thread
from fastapi import FastAPI
from fastapi.responses import FileResponse
from fastapi.staticfiles import StaticFiles
from starlette.exceptions import HTTPException

from northgate import __version__
from northgate.plan import plan_from_text
from northgate.store.examples import DEMO_PLAN, demo_plan_text
from northgate.store.holding import held
from northgate.store.repository import Repository
from northgate.web import edits, judging, plans, questions, tasks
from northgate.web.computing import Computer
from northgate.web.deciding import handing, log, sweeping, taking, usual, variants
from northgate.web.guards import Guards
from northgate.web.problems import add_problem_handlers
from northgate.work import bound_memory, warm

STATIC = Path(__file__).parent / "static"
LOOPBACK = "127.0.0.1"
THREADS = 400
SWITCH_S = 0.0005
# The processes that compute are started so long after the first question (s), which is answered first; or so long after
# the start (s) where nobody asks.
WARM_AFTER_S, WARM_UNASKED_S = 1.0, 4.0


def make_app(repository: Repository, token: str | None = None) -> FastAPI:
    """The application over a repository; with a token, for those alone who bring it."""
    app = FastAPI(title="North Gate", version=__version__, docs_url=None, redoc_url=None, lifespan=_roomy)
    app.state.computer = Computer(repository)
    app.include_router(plans.schema_router)
    app.include_router(plans.router)
    app.include_router(edits.router)
    app.include_router(questions.router)
    app.include_router(judging.router)
    for deciding in (handing, log, sweeping, taking, usual, variants):
        app.include_router(deciding.router)
    add_problem_handlers(app)
    app.add_middleware(Guards, token=token)
    app.mount("/assets", StaticFiles(directory=STATIC / "assets", check_dir=False), name="assets")

    @app.get("/{path:path}", include_in_schema=False)
    def page(path: str) -> FileResponse:
        if path.startswith("api/"):
            raise HTTPException(404, f"There is no /{path}")
        if not (STATIC / "index.html").exists():
            raise HTTPException(503, "The front end is not built; run `make setup`")
        if path == "icon.svg":
            # Browsers ask for it whenever the address changes.
            return FileResponse(STATIC / path, headers={"cache-control": "max-age=86400"})
        return FileResponse(STATIC / "index.html", headers={"cache-control": "no-cache"})

    return app


@asynccontextmanager
async def _roomy(_: FastAPI) -> AsyncIterator[None]:
    """Room for many who wait for what is computed, so that they keep nobody from being answered."""
    to_thread.current_default_thread_limiter().total_tokens = THREADS
    yield


def load_demo(repository: Repository) -> None:
    """Adds the demo plan, or takes in its newer text, unless it is there already."""
    text = demo_plan_text()
    if all(repository.source(head.key, head.revision) != text for head in repository.list()):
        repository.add(plan_from_text(text, DEMO_PLAN), text)


def serve_app(data: Path, *, port: int, open_browser: bool, with_demo: bool = False, private: bool = False) -> None:
    """Serves on loopback until interrupted; exit status 2 when the port is taken. `private`: only those are answered
    who open the address that is told, which has a token. Raises StoreError where another serves the folder."""
    token = secrets.token_urlsafe(24) if private else None
    with held(data) as tell:
        _serve(data, port, tell, token, open_browser=open_browser, with_demo=with_demo)


def _serve(
    data: Path, port: int, tell: Callable[[str], None], token: str | None, *, open_browser: bool, with_demo: bool
) -> None:
    repository = Repository(data / "northgate.sqlite")
    if with_demo:
        load_demo(repository)
    listening = _listen(port)
    address = f"http://{LOOPBACK}:{listening.getsockname()[1]}/"
    tell(address)
    address += f"?token={token}" if token else ""
    print(f"North Gate is at {address}   (Ctrl+C stops it)", flush=True)
    if open_browser:
        threading.Timer(0.5, _open, (address,)).start()
    else:
        bound_memory()
    # Who computes lets others go on sooner: an answer needs the interpreter again and again.
    sys.setswitchinterval(SWITCH_S)
    made = make_app(repository, token)
    config = uvicorn.Config(
        made, log_level="warning", access_log=False, server_header=False, timeout_graceful_shutdown=1
    )
    threading.Thread(target=_warm, args=(made.state.computer,), daemon=True).start()
    _Server(config, made.state.computer).run(sockets=[listening])
    repository.close()


def _warm(computer: Computer) -> None:
    """Starts the processes that compute, once what was asked first has been answered, or nobody asks."""
    if computer.asked.wait(WARM_UNASKED_S):
        time.sleep(WARM_AFTER_S)
    warm([tasks.__name__])
    computer.warmed.set()


def _open(address: str) -> None:
    """Opens the browser, which must not be bounded as this process is from then on."""
    webbrowser.open(address)
    bound_memory()


class _Server(uvicorn.Server):
    """Stops at once when it is told to: what is being computed then is given up."""

    def __init__(self, config: uvicorn.Config, computer: Computer) -> None:
        super().__init__(config)
        self._computer = computer

    def handle_exit(self, sig: int, frame: FrameType | None) -> None:
        """Called by the signals that stop a process."""
        self._computer.close()
        super().handle_exit(sig, frame)


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
