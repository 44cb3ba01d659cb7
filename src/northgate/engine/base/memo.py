"""Things made of an immutable object once."""

from collections.abc import Callable
from functools import wraps
from typing import TypeVar
from weakref import WeakKeyDictionary

Of = TypeVar("Of")


Made = TypeVar("Made")


def kept(make: Callable[[Of], Made]) -> Callable[[Of], Made]:
    """Makes something of an immutable object once, and keeps it for as long as that object lives."""
    made: WeakKeyDictionary[Of, Made] = WeakKeyDictionary()

    @wraps(make)
    def get(of: Of) -> Made:
        if of not in made:
            made[of] = make(of)
        return made[of]

    return get
