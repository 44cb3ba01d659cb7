"""Loops over small arrays, compiled.

A function that takes arrays of a few numbers and does little with each spends its time in NumPy's calls, not in
arithmetic. Written as plain loops over its arguments and marked with `compiled`, it is machine code: compiled at set-up
(or when it is first called) and kept, so that whoever runs it later needs no compiler. As it is written it also runs as
Python (`Compiled.function`), so that tests can hold the two against each other.

What may stand in such a function is what Numba knows of Python and NumPy; it makes no arrays, but fills those that it
is given. Functions that it calls are marked with `part`.
"""

import ctypes
import threading
from collections.abc import Callable, Sequence
from functools import cached_property
from typing import Annotated, Any, Generic, ParamSpec, TypeVar, get_args

import numpy as np
from numpy.typing import NDArray

from northgate.engine.base.arrays import LETTERS, Bools, Floats, Ints
from northgate.engine.base.kept import in_library, kept_object, link, loaded, name_of

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
# How Python hands over arguments to functions of C: where they are, and how many.
METH_FASTCALL = 0x0080
_methods: list["_Method"] = []
# All loops, by where they stand.
LOOPS: dict[str, "Compiled[Any]"] = {}
_lock = threading.Lock()


class Compiled(Generic[Asked]):
    """A function whose machine code is called in its place."""

    def __init__(self, function: Callable[Asked, None], *, alone: bool = False) -> None:
        self.function, self.__doc__, self._alone = function, function.__doc__, alone
        self.kinds = [get_args(kind)[1:] for kind in _annotations(function).values()]
        self.entrance = f"{function.__module__}.{function.__name__}"
        self._call: Callable[..., object] | None = None
        LOOPS[self.entrance] = self

    def __call__(self, *asked: Asked.args, **_: Asked.kwargs) -> None:
        """Runs it; arrays of another kind raise TypeError."""
        if (self._call or self.load())(*asked):
            self._in_pieces(asked)

    def _in_pieces(self, asked: Sequence[Any]) -> None:
        """Runs it on copies of arrays whose numbers do not lie in one piece."""
        whole = [np.ascontiguousarray(one) for one in asked]
        names = _annotations(self.function)
        for name, (letter, axes), one in zip(names, self.kinds, whole, strict=True):
            if (one.dtype, one.ndim) != (LETTERS[letter], axes):
                raise TypeError(f"{self.entrance}: {name} is no array of kind {letter} with {axes} axes")
        self.load()(*whole)
        for one, copy in zip(asked, whole, strict=True):
            if copy is not one and one.flags.writeable:
                one[...] = copy

    def load(self) -> Callable[..., object]:
        """Its machine code: as it was kept, or compiled now; called with the arrays it says whether one is of another
        kind, and then has done nothing."""
        with _lock:
            if self._call is None:
                address = in_library(self.function, self.name) or loaded(self.machine_code(), self.name)
                self._call = _letting_go(address) if self._alone else _built_in(address)
        return self._call

    @cached_property
    def name(self) -> str:
        """The name of its machine code."""
        return name_of(self.function)

    def machine_code(self) -> bytes:
        """An object file with its machine code."""

        def make() -> bytes:
            from northgate.engine.base.compiler import object_of

            return object_of(self.function, self.kinds, self.name, alone=self._alone)

        return kept_object(self.function, self.name, make)


class _Method(ctypes.Structure):
    """`PyMethodDef`: how Python knows a function of C."""

    _fields_ = (
        ("name", ctypes.c_char_p), ("code", ctypes.c_void_p), ("flags", ctypes.c_int), ("doc", ctypes.c_char_p),
    )  # fmt: skip


def _built_in(address: int) -> Callable[..., object]:
    """Machine code as a function that Python calls with nothing in between: None, or True where it refuses."""
    method = _Method(b"loop", address, METH_FASTCALL, None)
    # Functions are asked for as long as the process lasts.
    _methods.append(method)
    make = ctypes.pythonapi.PyCFunction_NewEx
    make.restype, make.argtypes = ctypes.py_object, [ctypes.c_void_p, ctypes.py_object, ctypes.c_void_p]
    made: Callable[..., object] = make(ctypes.addressof(method), (None, True), None)
    return made


def _letting_go(address: int) -> Callable[..., object]:
    """Machine code as a function that lets go of the interpreter while it works: 0, or 1 where it refuses."""
    code = ctypes.CFUNCTYPE(ctypes.c_int64, ctypes.c_void_p, ctypes.c_void_p, ctypes.c_int64)(address)

    def call(*asked: object) -> object:
        return code(None, (ctypes.c_void_p * len(asked))(*map(id, asked)), len(asked))

    return call


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


def load_all() -> None:
    """Loads, and where needed compiles and links, every loop of the modules that have been imported."""
    loops = LOOPS.values()
    if any(in_library(loop.function, loop.name) is None for loop in loops):
        link((loop.function, loop.machine_code()) for loop in loops)
    for loop in loops:
        loop.load()
