"""A plan file, handed to a North Gate that is running: a new plan there, or a new revision of the one of its name."""

import json
import urllib.error
import urllib.request
from typing import Any
from urllib.parse import urlsplit

from msgspec import Struct

from northgate.plan import Plan, PlanError, Problem

TIMEOUT_S = 30


class Pushed(Struct, frozen=True):
    """Where a plan has come to: its key there, its revision, whether it is new, and what has changed, in words."""

    key: str
    revision: int
    created: bool
    changes: list[str]


def push(plan: Plan, text: str, server: str, token: str | None = None) -> Pushed:
    """Hands a plan's text to the server at a URL, with its token where it is private. Raises PlanError when it does not
    take it, or is not there."""
    base, bearer = _base_of(server), {"authorization": f"Bearer {token}"} if token else {}
    heads = {head["key"]: head for head in _ask("GET", f"{base}/api/plans", headers=bearer)}
    if plan.name not in heads:
        head = _ask("POST", f"{base}/api/plans", text, bearer)
        return Pushed(head["key"], head["revision"], created=True, changes=[])
    headers = bearer | {"if-match": f'"{heads[plan.name]["revision"]}"'}
    whole = _ask("PUT", f"{base}/api/plans/{plan.name}/file", text, headers)
    changes = [f"{change['about']}: {change['words']}" for change in whole["changes"]]
    return Pushed(whole["head"]["key"], whole["head"]["revision"], created=False, changes=changes)


def _base_of(server: str) -> str:
    parts = urlsplit(server)
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise PlanError([Problem("--to", f"{server!r} is not the URL of a server, such as http://127.0.0.1:8420")])
    return f"{parts.scheme}://{parts.netloc}"


def _ask(method: str, url: str, text: str | None = None, headers: dict[str, str] | None = None) -> Any:
    body = None if text is None else text.encode()
    kind = {} if body is None else {"content-type": "text/plain"}
    # The scheme is http or https: the URL has been looked at.
    request = urllib.request.Request(url, body, {**kind, **(headers or {})}, method=method)
    try:
        with urllib.request.urlopen(request, timeout=TIMEOUT_S) as answer:
            return json.loads(answer.read())
    except urllib.error.HTTPError as error:
        raise PlanError(_problems(error)) from error
    except (OSError, ValueError) as error:
        raise PlanError([Problem("--to", f"nothing answers as North Gate at {url}: {error}")]) from error


def _problems(error: urllib.error.HTTPError) -> list[Problem]:
    """What the server says is wrong, with its places."""
    try:
        told = json.loads(error.read())
        found = [Problem(one["where"], one["message"], one["line"], one["column"]) for one in told["problems"]]
        return found or [Problem("", f"{told['title']}: {told['detail']}")]
    except (ValueError, KeyError, TypeError):
        return [Problem("--to", f"the server answers {error.code}")]
