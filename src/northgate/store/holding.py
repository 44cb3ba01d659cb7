"""One at a time: who serves a folder of plans holds it, and says who he is to those who come after him."""

import fcntl
import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from northgate.store.states import StoreError

LOCK = "northgate.lock"


@contextmanager
def held(folder: Path) -> Iterator[Callable[[str], None]]:
    """Holds a folder for this process, as long as it lives at most; what it is given tells others where it serves.
    Raises StoreError, with what its holder has told, where another holds it."""
    folder.mkdir(parents=True, exist_ok=True)
    with (folder / LOCK).open("a+", encoding="utf-8") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            lock.seek(0)
            raise StoreError(f"{folder} is in use by {lock.read().strip() or 'another North Gate'}") from error

        def tell(where: str) -> None:
            lock.truncate(0)
            lock.write(f"process {os.getpid()}{where and f', which serves {where}'}")
            lock.flush()

        tell("")
        yield tell
        lock.truncate(0)
