"""The order in which somebody wants steps to be taken, from a file."""

from pathlib import Path
from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter, ValidationError
from ruamel.yaml import YAML
from ruamel.yaml.error import YAMLError

from northgate.plan import PlanError, Problem
from northgate.plan.problems import pointer

MOST_BYTES = 1_000_000


class _At(BaseModel):
    """One step and its second."""

    model_config = ConfigDict(extra="forbid", strict=True)

    step: Annotated[int, Field(ge=0)]
    at_s: Annotated[float, Field(ge=0, le=1e7, strict=False)] | None = None


_ORDER: TypeAdapter[list[int | _At]] = TypeAdapter(list[Annotated[int, Field(ge=0)] | _At])


def read_order(path: Path) -> list[tuple[int, float | None]]:
    """Step numbers, each with its second where one is given; raises PlanError for what is no such list."""
    try:
        with path.open("rb") as file:
            text = file.read(MOST_BYTES)
        found = _ORDER.validate_python(YAML(typ="safe", pure=True).load(text))
    except ValidationError as error:
        first = error.errors()[0]
        raise PlanError(
            [Problem(pointer(first["loc"]), f"{path}: {first['msg']}; steps are numbers, or {{step, at_s}}")]
        ) from error
    except (YAMLError, OSError, UnicodeDecodeError) as error:
        raise PlanError([Problem("", f"{path}: {error}")]) from error
    return [(one, None) if isinstance(one, int) else (one.step, one.at_s) for one in found]
