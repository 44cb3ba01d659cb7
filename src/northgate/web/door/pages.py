"""The built front end: one page, whatever the path, and what it loads."""

from pathlib import Path

from starlette.applications import Starlette
from starlette.datastructures import Headers
from starlette.requests import Request
from starlette.responses import FileResponse, Response
from starlette.routing import Mount, Route
from starlette.staticfiles import NotModifiedResponse, StaticFiles
from starlette.types import Scope

STATIC = Path(__file__).parents[1] / "static"
API = "/api"
# A file whose name says what it holds (Vite adds a digest) never changes.
FOR_EVER = "public, max-age=31536000, immutable"


def is_of_page(path: str) -> bool:
    """Whether a path leads to the page, or to what it loads."""
    return not path.startswith(f"{API}/")


def pages() -> Starlette:
    """The application that hands out the page and what it loads."""
    assets = Kept(directory=STATIC / "assets", check_dir=False)
    return Starlette(routes=[Mount("/assets", assets), Route("/{path:path}", _page)])


class Kept(StaticFiles):
    """Files that never change: they are read once, since each read on the way to a page waits for a thread. All of them
    together take little more than a megabyte."""

    def __init__(self, *, directory: Path, check_dir: bool) -> None:
        super().__init__(directory=directory, check_dir=check_dir)
        self._kept: dict[str, Response] = {}

    async def get_response(self, path: str, scope: Scope) -> Response:
        """The answer to a request for a file; raises HTTPException."""
        kept = self._kept.get(path) if scope["method"] in ("GET", "HEAD") else None
        if kept is not None:
            asked = Headers(scope=scope)
            return NotModifiedResponse(kept.headers) if self.is_not_modified(kept.headers, asked) else kept
        found = await super().get_response(path, scope)
        if isinstance(found, FileResponse) and found.status_code == 200:
            headers = {"cache-control": FOR_EVER, "etag": found.headers["etag"]}
            self._kept[path] = Response(Path(found.path).read_bytes(), headers=headers, media_type=found.media_type)
            return self._kept[path]
        return found


async def _page(request: Request) -> Response:
    try:
        if request.url.path == "/icon.svg":
            # Browsers ask for it whenever the address changes.
            return _read("icon.svg", "image/svg+xml", "max-age=86400")
        return _read("index.html", "text/html", "no-cache")
    except FileNotFoundError:
        from northgate.web.told.details import problem_response

        return problem_response(503, "There is no page yet", "The front end is not built; run `make setup`")


def _read(name: str, media_type: str, kept: str) -> Response:
    return Response((STATIC / name).read_bytes(), headers={"cache-control": kept}, media_type=media_type)
