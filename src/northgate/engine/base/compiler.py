"""Makes machine code of marked functions, with Numba; imported only where there is none yet (see `loops`).

What is made takes NumPy's arrays as Python hands them on, and looks itself where their numbers lie: so a call costs
hardly more than the arithmetic.

Source: the layout of `PyArrayObject_fields` and of the head of `PyArray_Descr`, NumPy's C interface (stable since 2.0);
that of objects and tuples of this version of Python, and how it calls functions of C (`METH_FASTCALL`).
"""

from collections.abc import Callable, Sequence
from functools import cache
from types import FunctionType
from typing import Any

import llvmlite.binding as machine
import numba
import numpy as np
from llvmlite import ir
from numba import extending, types

from northgate.engine.base.arrays import LETTERS

# Where in an array's description stand: its numbers, how many axes it has, how long these are, the kind of its numbers,
# and its flags, of which the first says that its numbers lie in one piece.
_DATA, _AXES, _LENGTHS, _KIND, _FLAGS, _IN_ONE_PIECE = 16, 24, 32, 56, 64, 1
# Where in the description of a kind stands its letter (`dtype.char`).
_LETTER = 25
# Of an object that is a pair the one that was found: it is counted once more, and returned.
_ONE_OF_PAIR = f"""
  %pair = inttoptr i64 %own to ptr
  %items = getelementptr i8, ptr %pair, i64 {tuple.__basicsize__}
  %item = getelementptr i64, ptr %items, i64 %found
  %object = load i64, ptr %item
  %counter = inttoptr i64 %object to ptr
  %before = load i64, ptr %counter
  %after = add i64 %before, 1
  store i64 %after, ptr %counter
  ret i64 %object
"""
# What the C library offers, and so every process has.
KNOWN = {"exp", "expm1", "log", "log1p", "pow", "sqrt", "floor", "ceil", "memset", "memcpy", "memmove"}
# What Numba offers is not all typed.
_numba: Any = numba
_intrinsic: Any = extending.intrinsic
# The widest vectors that the processor has, which the compiler avoids by default: for long loops they pay.
_CPU, _FEATURES = machine.get_host_cpu_name(), f"{machine.get_host_cpu_features().flatten()},-prefer-256-bit"
vars(numba.config)["CPU_NAME"], vars(numba.config)["CPU_FEATURES"] = _CPU, _FEATURES


@_intrinsic  # type: ignore[untyped-decorator]
def _word(_context: Any, address: Any) -> Any:
    """The 8 bytes at an address, as a whole number."""

    def generate(_: Any, builder: Any, __: Any, given: Any) -> Any:
        return builder.load(builder.inttoptr(given[0], ir.IntType(64).as_pointer()))

    return types.int64(address), generate


@_intrinsic  # type: ignore[untyped-decorator]
def _place(_context: Any, address: Any) -> Any:
    """An address as a place in memory."""

    def generate(_: Any, builder: Any, __: Any, given: Any) -> Any:
        return builder.inttoptr(given[0], ir.IntType(8).as_pointer())

    return types.voidptr(address), generate


@_numba.njit(error_model="numpy")  # type: ignore[untyped-decorator]
def _fits(array: int, letter: int, axes: int) -> bool:
    if _word(array + _AXES) & 0xFFFFFFFF != axes or not _word(array + _FLAGS) & _IN_ONE_PIECE:
        return False
    return bool(_word(_word(array + _KIND) + _LETTER) & 0xFF == letter)


def object_of(
    function: Callable[..., None], kinds: Sequence[tuple[str, int]], name: str, *, alone: bool = False
) -> bytes:  # fmt: skip
    """The machine code of a marked function and all that it calls, for this processor; to be called by a name. `kinds`:
    of each argument what the array holds ("f", "i", "u", "b": float64, int64, uint64, bool), and how many axes it
    has.

    It is a function of C that takes an object, where the arrays are, and how many: as Python calls such functions, with
    a pair of which it returns the first, or, of arrays of another kind, the second. Where it works `alone` it touches
    no object, and returns 0 or 1.
    """
    body = _jitted(function)
    entrance = _numba.cfunc(types.int64(types.int64, types.int64), nopython=True)(_entrance(body, kinds))
    # The C face of it has its name, after a prefix of its own.
    door = _door(entrance.native_name.removeprefix("cfunc."), name, alone=alone)
    return _code(entrance.inspect_llvm() + door, name)


@cache
def _jitted(function: Callable[..., Any]) -> Any:
    """A function that is to be called by compiled ones, as its parts are by it."""
    names = dict(function.__globals__)
    for name in function.__code__.co_names:
        if getattr(names.get(name), "is_part", False):
            names[name] = _jitted(names[name])
    return _numba.njit(error_model="numpy")(FunctionType(function.__code__, names, function.__name__))


def _entrance(body: Any, kinds: Sequence[tuple[str, int]]) -> Callable[..., int]:
    """What takes the address of arrays' addresses, and how many there are, and calls the body with the arrays: 0; or 1,
    if one is of another kind."""
    checks = "".join(
        f"    a{place} = word(given + {8 * place})\n"
        f"    if not fits(a{place}, {ord(np.dtype(LETTERS[letter]).char)}, {axes}): return 1\n"
        for place, (letter, axes) in enumerate(kinds)
    )
    arrays = ", ".join(
        f"carray(place(word(a{place} + {_DATA})), ("
        + "".join(f"word(word(a{place} + {_LENGTHS}) + {8 * axis}), " for axis in range(axes))
        + f"), {letter})"
        for place, (letter, axes) in enumerate(kinds)
    )
    text = f"    if count != {len(kinds)}: return 1\n{checks}    body({arrays})\n    return 0\n"
    names: dict[str, Any] = {
        "body": body,
        "fits": _fits,
        "word": _word,
        "place": _place,
        "carray": _numba.carray,
        **LETTERS,
    }
    exec(f"def entrance(given, count):\n{text}", names)
    made: Callable[..., int] = names["entrance"]
    return made


def _code(text: str, name: str) -> bytes:
    """Machine code of one function of a module and all that it needs; what Numba adds to call it from Python is left
    out."""
    machine.initialize_native_target()
    machine.initialize_native_asmprinter()
    # Code that may stand anywhere, so that it may be linked into a library.
    asked = {"opt": 3, "cpu": _CPU, "features": _FEATURES, "reloc": "pic", "codemodel": "small"}
    target = machine.Target.from_default_triple().create_target_machine(**asked)
    module = machine.parse_assembly(text)
    for function in module.functions:
        if not function.is_declaration:
            function.linkage = "external" if function.name == name else "internal"
    passes = machine.create_pass_builder(target, machine.create_pipeline_tuning_options(3))
    passes.getModulePassManager().run(module, passes)
    foreign = sorted(
        {one.name for one in module.functions if one.is_declaration and not one.name.startswith("llvm.")} - KNOWN
    )
    if foreign:
        known = name.partition("-")[0]
        raise ValueError(f"{known} needs {', '.join(foreign)}, which is not there without the compiler")
    return bytes(target.emit_object(module))


def _door(name: str, entrance: str, *, alone: bool) -> str:
    """What calls a function as Numba made it, which puts what it returns, and errors, where it is told."""
    returned = "ret i64 %found" if alone else _ONE_OF_PAIR
    return f"""
define i64 @"{entrance}"(i64 %own, i64 %given, i64 %count) {{
  %made = alloca i64
  %error = alloca ptr
  %status = call i32 @"{name}"(ptr %made, ptr %error, i64 %given, i64 %count)
  %found = load i64, ptr %made
  {returned}
}}
"""
