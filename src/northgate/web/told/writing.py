"""How answers are written that the framework need not check."""

from collections.abc import Mapping

from pydantic import BaseModel
from starlette.responses import Response


def written(answer: BaseModel, headers: Mapping[str, str] | None = None) -> Response:
    """An answer as it is: large ones are written much sooner than the framework checks and writes them."""
    return Response(answer.model_dump_json(by_alias=True), media_type="application/json", headers=headers)
