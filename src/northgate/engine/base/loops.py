"""Loops over small arrays, compiled.

A function that takes arrays of a few numbers and does little with each spends its time in NumPy's calls, not in
arithmetic. Written as plain loops over its arguments and marked with `compiled`, it is machine code: compiled at set-up
(or when it is first called) and kept, so that whoever runs it later needs no compiler. As it is written it also runs as
Python (`Compiled.function`), so that tests can hold the two against each other.

What may stand in such a function is what Numba knows of Python and NumPy; it makes no arrays, but fills those that it
is given. Functions that it calls are marked with `part`.
"""

import ctypes
import hashlib
import os
import threading
from collections.abc import Callable, Sequence
from contextlib import suppress
from functools import cache
from pathlib import Path
from typing import Annotated, Any, Generic, ParamSpec, TypeVar, get_args

import numpy as np
from numpy.typing import NDArray

from northgate.engine.base.arrays import Bools, Floats, Ints

# Arrays by what they hold and how many axes they have; their numbers lie one after the other.
Floats1 = Annotated[Floats, "f", 1]
Floats2 = Annotated[Floats, "f", 2]
Floats3 = Annotated[Floats, "f", 3]
Words1 = Annotated[NDArray[np.uint64], "u", 1]
Ints1 = Annotated[Ints, "i", 1]
Ints2 = Annotated[Ints, "i", 2]
Bools1 = Annotated[Bools, "b", 1]
Bools2 = Annotated[Bools, "b", 2]

Asked = ParamSpec("Asked")
Function = TypeVar("Function", bound=Callable[..., Any])
# All loops, by the name of their machine code.
LOOPS: dict[str, "Compiled[Any]"] = {}
_lock = threading.Lock()


class Compiled(Generic[Asked]):
    """A function whose machine code is called in its place."""

    def __init__(self, function: Callable[Asked, None], *, alone: bool = False) -> None:
        self.function, self.__doc__, self._alone = function, function.__doc__, alone
        self.kinds = [get_args(kind)[1:] for kind in _annotations(function).values()]
        # The name of its machine code.
        self.entrance = f"{function.__module__}.{function.__name__}"
        self._call: Callable[..., int] | None = None
        LOOPS[self.entrance] = self

    def __call__(self, *asked: Asked.args, **_: Asked.kwargs) -> None:
        """Runs it; arrays of another kind raise TypeError."""
        # What is handed on is where each array begins to be described; machine code looks there itself.
        if (self._call or self.load())(*map(id, asked)):
            self._in_pieces(asked)

    def _in_pieces(self, asked: Sequence[Any]) -> None:
        """Runs it on copies of arrays whose numbers do not lie in one piece."""
        whole = [np.ascontiguousarray(one) for one in asked]
        wrong = self.load()(*map(id, whole))
        if wrong:
            name, (letter, axes) = list(_annotations(self.function))[wrong - 1], self.kinds[wrong - 1]
            raise TypeError(f"{self.entrance}: {name} is no array of kind {letter} with {axes} axes")
        for one, copy in zip(asked, whole, strict=True):
            if copy is not one and one.flags.writeable:
                one[...] = copy

    def load(self) -> Callable[..., int]:
        """Its machine code: as it was kept, or compiled now."""
        with _lock:
            if self._call is None:
                self._call = _callable(self._object(), self.entrance, len(self.kinds), alone=self._alone)
        return self._call

    def _object(self) -> bytes:
        places = _places(self.function)
        for place in places:
            with suppress(OSError):
                return place.read_bytes()
        from northgate.engine.base.compiler import object_of

        made = object_of(self.function, self.kinds, self.entrance)
        for place in places:
            if _keep(place, made):
                break
        return made


def _places(function: Callable[..., Any]) -> tuple[Path, Path]:
    """Where its machine code is kept: beside its source, or, where nobody may write there, among the user's caches."""
    source = Path(function.__code__.co_filename)
    name = f"{source.stem}.{function.__name__}-{_digest(function)}.o"
    # Not `Path.home()`: where nobody knows of a home, that raises.
    caches = Path(os.environ.get("XDG_CACHE_HOME") or os.path.expanduser("~/.cache"))
    return source.parent / "__pycache__" / name, caches / "northgate" / name


def compiled(function: Callable[Asked, None]) -> Compiled[Asked]:
    """Marks a function whose arguments are annotated as above: from now on its machine code is called."""
    return Compiled(function)


def compiled_alone(function: Callable[Asked, None]) -> Compiled[Asked]:
    """As `compiled`, of what takes long: other threads go on meanwhile. Nobody may change the arrays."""
    return Compiled(function, alone=True)


def part(function: Function) -> Function:
    """Marks a function that compiled ones may call."""
    vars(function)["is_part"] = True
    return function


def _annotations(function: Callable[..., Any]) -> dict[str, Any]:
    return {name: kind for name, kind in function.__annotations__.items() if name != "return"}


def _digest(function: Callable[..., Any]) -> str:
    """What its machine code depends on: the sources of it and its parts, the numbers that stand elsewhere, how it is
    compiled, and the processor."""
    import llvmlite

    files, numbers = {Path(__file__), Path(__file__).with_name("compiler.py")}, set[str]()
    left: set[Callable[..., Any]] = {function}
    while left:
        one = left.pop()
        files.add(Path(one.__code__.co_filename))
        for name in one.__code__.co_names:
            value: Any = one.__globals__.get(name)
            if getattr(value, "is_part", False):
                left.add(value)
            elif isinstance(value, int | float | tuple | np.generic):
                numbers.add(f"{name} {value}")
    told = [*map(_read, sorted(files)), *(number.encode() for number in sorted(numbers))]
    told.append(f"{llvmlite.__version__} {np.__version__} {processor()}".encode())
    return hashlib.sha256(b"\0".join(told)).hexdigest()[:16]


@cache
def _read(file: Path) -> bytes:
    return file.read_bytes()


@cache
def processor() -> str:
    """The processor and what it can do, as the compiler names them."""
    import llvmlite.binding as machine

    return f"{machine.get_host_cpu_name()} {machine.get_host_cpu_features().flatten()}"


def _keep(place: Path, made: bytes) -> bool:
    """Keeps machine code in place of what was compiled of an older source; whether that could be done."""
    import tempfile

    try:
        place.parent.mkdir(parents=True, exist_ok=True)
        with tempfile.NamedTemporaryFile(dir=place.parent, delete=False) as file:
            file.write(made)
        # Whoever may read the source may read this.
        os.chmod(file.name, 0o644)
        os.replace(file.name, place)
        for old in place.parent.glob(f"{place.name.rpartition('-')[0]}-*.o"):
            if old != place:
                old.unlink(missing_ok=True)
    except OSError:
        return False
    return True


@cache
def _engine() -> Any:
    """What machine code is loaded into; it lasts as long as the process."""
    import llvmlite.binding as machine

    machine.initialize_native_target()
    machine.initialize_native_asmprinter()
    target = machine.Target.from_default_triple().create_target_machine()
    return machine.create_mcjit_compiler(machine.parse_assembly(""), target)


def _callable(code: bytes, name: str, arguments: int, *, alone: bool) -> Callable[..., int]:
    import llvmlite.binding as machine

    engine = _engine()
    engine.add_object_file(machine.ObjectFileRef.from_data(code))
    engine.finalize_object()
    # The one sort of function lets go of the interpreter while it works, the other does not.
    signature = ctypes.CFUNCTYPE if alone else ctypes.PYFUNCTYPE
    made = signature(ctypes.c_int32, *[ctypes.c_void_p] * arguments)
    return made(engine.get_function_address(name))


def load_all() -> None:
    """Loads, and where needed compiles, every loop of the modules that have been imported."""
    for loop in LOOPS.values():
        loop.load()
