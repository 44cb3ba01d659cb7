"""The built front end: one page, whatever the path, and what it loads."""

from pathlib import Path

from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import FileResponse
from starlette.routing import BaseRoute, Mount, Route
from starlette.staticfiles import StaticFiles

STATIC = Path(__file__).parents[1] / "static"
API = "/api"


def is_of_page(path: str) -> bool:
    """Whether a path leads to the page, or to what it loads."""
    return not path.startswith(f"{API}/")


def page_routes() -> list[BaseRoute]:
    """The ways to the page: whatever no other way has taken."""
    assets = StaticFiles(directory=STATIC / "assets", check_dir=False)
    return [Mount("/assets", assets, name="assets"), Route("/{path:path}", _page, include_in_schema=False)]


def _page(request: Request) -> FileResponse:
    path = request.url.path
    if not is_of_page(path):
        raise HTTPException(404, f"There is no {path}")
    if not (STATIC / "index.html").exists():
        raise HTTPException(503, "The front end is not built; run `make setup`")
    if path == "/icon.svg":
        # Browsers ask for it whenever the address changes.
        return FileResponse(STATIC / "icon.svg", headers={"cache-control": "max-age=86400"})
    return FileResponse(STATIC / "index.html", headers={"cache-control": "no-cache"})
