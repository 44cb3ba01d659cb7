"""The base of what the API answers by itself."""

from collections.abc import Mapping

from pydantic import BaseModel, ConfigDict
from starlette.responses import Response


class WebAnswer(BaseModel):
    """What is answered. It is made ready to be written when that is first needed: to do so for all takes a good part of
    the time to start."""

    model_config = ConfigDict(defer_build=True)


def written(answer: BaseModel, headers: Mapping[str, str] | None = None) -> Response:
    """An answer as it is: large ones are written much sooner than the framework checks and writes them."""
    return Response(answer.model_dump_json(by_alias=True), media_type="application/json", headers=headers)
