"""The base of everything that the engine answers."""

from pydantic import BaseModel, ConfigDict


class AnswerModel(BaseModel):
    """Base of every answer: immutable, nothing optional left out."""

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)
