"""How North Gate loads: without looking for garbage where there is none."""

import gc
from collections.abc import Iterator
from contextlib import contextmanager

# What North Gate makes is mostly freed when it is let go; what is not is looked for each time that so many more
# objects are there (Python's own 700 would cost a tenth of the time).
MORE_OBJECTS = 50_000


@contextmanager
def loading() -> Iterator[None]:
    """While modules are loaded, nothing is looked through for garbage (a fifth of their time), nor what was loaded ever
    after."""
    gc.disable()
    try:
        yield
    finally:
        gc.freeze()
        gc.set_threshold(MORE_OBJECTS)
        gc.enable()
