"""How North Gate loads: without looking for garbage where there is none."""

import gc
from collections.abc import Iterator
from contextlib import contextmanager

# Most of what North Gate makes is freed when it is let go. The rest, such as a drill that has run, is looked for each
# time that so many more objects are there: Python's own 700 would cost a tenth of the time, and many thousands keep too
# many drills of large plans.
MORE_OBJECTS = 2_000


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
