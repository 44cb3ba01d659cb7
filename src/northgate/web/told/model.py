"""The base of what the API answers by itself."""

from pydantic import BaseModel, ConfigDict


class WebAnswer(BaseModel):
    """What is answered. It is made ready to be written when that is first needed: to do so for all takes a good part of
    the time to start."""

    model_config = ConfigDict(defer_build=True)
