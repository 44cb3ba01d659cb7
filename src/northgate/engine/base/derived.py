"""What follows from something that never changes."""

from collections.abc import Callable
from typing import Any, Self, TypeVar

Made = TypeVar("Made")


class Derives:
    """Something frozen that keeps what has been worked out of it, however often that is asked for.

    Two threads that ask first at the same time may both work it out; all get the same.
    """

    def derived(self, make: Callable[[Self], Made]) -> Made:
        """What `make` makes of this, made once."""
        known: dict[Callable[[Self], Any], Any] = self.__dict__.setdefault("_derived", {})
        if make not in known:
            known.setdefault(make, make(self))
        made: Made = known[make]
        return made

    def __getstate__(self) -> dict[str, Any]:
        """Another process works out what it needs itself."""
        return {name: value for name, value in self.__dict__.items() if name != "_derived"}
