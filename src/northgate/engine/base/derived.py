"""What follows from something that never changes."""

from collections.abc import Callable
from typing import Any, Generic, Self, TypeVar, overload

Made = TypeVar("Made")


class cached(Generic[Made]):  # noqa: N801
    """A property that is worked out when it is first asked for, and kept. As `functools.cached_property`, without the
    lock that it has in this version of Python, which takes longer than most of what is worked out.

    Two threads that ask first at the same time may both work it out.
    """

    def __init__(self, make: Callable[[Any], Made]) -> None:
        self._make, self._name, self.__doc__ = make, make.__name__, make.__doc__

    @overload
    def __get__(self, one: None, owner: type) -> Self: ...

    @overload
    def __get__(self, one: object, owner: type) -> Made: ...

    def __get__(self, one: object | None, owner: type) -> "Made | Self":
        if one is None:
            return self
        # From now on it is found there, before this is asked.
        made = one.__dict__[self._name] = self._make(one)
        return made


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
