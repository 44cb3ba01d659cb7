"""Machine code as it is kept: an object file for each loop, and, where there is a linker, all of a package in one
library, which is loaded in a moment and needs nothing else."""

import ctypes
import hashlib
import os
import platform
import subprocess
from collections.abc import Callable, Iterable
from contextlib import suppress
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np

# What makes a library of objects.
LINKER = "cc"
# How loops are compiled.
COMPILER = os.path.join(os.path.dirname(__file__), "compiler.py")


def name_of(function: Callable[..., Any]) -> str:
    """The name of a function's machine code, another one when it has to be made anew: when the sources of it or its
    parts have changed, the numbers in it that stand elsewhere, how it is compiled, or the processor."""
    files, numbers = {COMPILER}, set[str]()
    left: set[Callable[..., Any]] = {function}
    while left:
        one = left.pop()
        files.add(one.__code__.co_filename)
        for name in one.__code__.co_names:
            value: Any = one.__globals__.get(name)
            if getattr(value, "is_part", False):
                left.add(value)
            elif isinstance(value, int | float | tuple | np.generic):
                numbers.add(f"{name} {value}")
    told = [*map(_digest_of, sorted(files)), *sorted(numbers), np.__version__, _processor()]
    return f"{function.__module__}.{function.__name__}-{_digest(*told)}"


def kept_object(function: Callable[..., Any], name: str, make: Callable[[], bytes]) -> bytes:
    """A function's machine code: as it was kept, or made now."""
    source = Path(function.__code__.co_filename)
    places = _places(source.parent, f"{source.stem}.{name.removeprefix(function.__module__ + '.')}.o")
    for place in places:
        with suppress(OSError):
            return place.read_bytes()
    made = make()
    _keep(places, made)
    return made


def in_library(function: Callable[..., Any], name: str) -> int | None:
    """Where the library of its package has a function's machine code; None: it has not."""
    library = _library(_package(function))
    if library is None:
        return None
    try:
        return ctypes.cast(library[name], ctypes.c_void_p).value
    except AttributeError:
        return None


def loaded(code: bytes, name: str) -> int:
    """Where the machine code of an object is, once it is loaded."""
    import llvmlite.binding as machine

    engine = _engine()
    engine.add_object_file(machine.ObjectFileRef.from_data(code))
    engine.finalize_object()
    return int(engine.get_function_address(name))


def link(objects: Iterable[tuple[Callable[..., Any], bytes]]) -> None:
    """Makes libraries, one for each package, of functions' machine code; nothing where there is no linker."""
    packages: dict[Path, list[bytes]] = {}
    for function, code in objects:
        packages.setdefault(_package(function), []).append(code)
    for package, codes in packages.items():
        with suppress(OSError, subprocess.CalledProcessError):
            _keep(_library_places(package), _linked(codes))


def _linked(codes: Iterable[bytes]) -> bytes:
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        files = [Path(folder) / f"{number}.o" for number, _ in enumerate(codes)]
        for file, code in zip(files, codes, strict=True):
            file.write_bytes(code)
        made = Path(folder) / "made.so"
        # What it needs of the C library every process has.
        command = [LINKER, "-shared", "-nostdlib", "-o", str(made), *map(str, files)]
        subprocess.run(command, check=True, stdin=subprocess.DEVNULL, capture_output=True)
        return made.read_bytes()


@cache
def _library(package: Path) -> ctypes.CDLL | None:
    for place in _library_places(package):
        with suppress(OSError):
            return ctypes.CDLL(str(place))
    return None


def _library_places(package: Path) -> tuple[Path, Path]:
    return _places(package, f"{package.name}-{_digest(_processor())}.so")


def _package(function: Callable[..., Any]) -> Path:
    """The folder of the package in which a function stands; of its module, where that stands alone."""
    deep = max(function.__module__.count("."), 1)
    return Path(function.__code__.co_filename).parents[deep - 1]


def _places(folder: Path, name: str) -> tuple[Path, Path]:
    """Where something is kept: beside its source, or, where nobody may write there, among the user's caches."""
    # Not `Path.home()`: where nobody knows of a home, that raises.
    caches = Path(os.environ.get("XDG_CACHE_HOME") or os.path.expanduser("~/.cache"))
    return folder / "__pycache__" / name, caches / "northgate" / name


def _keep(places: Iterable[Path], made: bytes) -> None:
    """Keeps machine code where it can be kept, in place of what was made of an older source."""
    import tempfile

    for place in places:
        with suppress(OSError):
            place.parent.mkdir(parents=True, exist_ok=True)
            with tempfile.NamedTemporaryFile(dir=place.parent, delete=False) as file:
                file.write(made)
            # Whoever may read the source may read this.
            os.chmod(file.name, 0o644)
            os.replace(file.name, place)
            for old in place.parent.glob(f"{place.name.rpartition('-')[0]}-*{place.suffix}"):
                if old != place:
                    old.unlink(missing_ok=True)
            return


def _digest(*told: str) -> str:
    return hashlib.sha256("\0".join(told).encode()).hexdigest()[:16]


@cache
def _digest_of(file: str) -> str:
    with open(file, encoding="utf-8") as source:
        return _digest(source.read())


@cache
def _processor() -> str:
    """The processor and what it can do, as the system names them."""
    lines = [platform.machine()]
    with suppress(OSError), open("/proc/cpuinfo", encoding="utf-8") as told:
        # The first processor; of it what does not change from one moment to the next.
        for line in told:
            if line == "\n":
                break
            if line.startswith(("vendor_id", "cpu family", "model", "flags", "CPU ", "Features", "isa")):
                lines.append(line)
    return "".join(lines)


@cache
def _engine() -> Any:
    """What objects are loaded into; it lasts as long as the process."""
    import llvmlite.binding as machine

    machine.initialize_native_target()
    machine.initialize_native_asmprinter()
    target = machine.Target.from_default_triple().create_target_machine()
    return machine.create_mcjit_compiler(machine.parse_assembly(""), target)
