"""How often calls set out for entries, by row of the book: as loops, compiled."""

from northgate.engine.base import Bools1, Floats1, Ints1, compiled, part


@compiled
def add_by_entry(entry: Ints1, book: Floats1, made: Floats1) -> None:
    """Adds up a value per row of the book by entry."""
    for row in range(len(entry)):
        made[entry[row]] += book[row]


@compiled
def find_coming(
    call: Ints1, once: Floats1, mult: Floats1, after_one: Floats1, free: Floats1, anew: Floats1, made: Floats1
) -> None:
    """Per row of the book how often a call connects there: of those `free` to begin, `mult` against `once` each, and of
    those who begin `anew` with one attempt behind them."""
    for row in range(len(call)):
        made[row] = _comes(row, call, once, mult, after_one, free, anew)


@part
def _comes(
    row: int, call: Ints1, once: Floats1, mult: Floats1, after_one: Floats1, free: Floats1, anew: Floats1
) -> float:  # fmt: skip
    """`find_coming`, of one row."""
    return float(free[call[row]] * once[row] * mult[row] + anew[call[row]] * after_one[row])


@compiled
def find_set_out(
    entry: Ints1, call: Ints1, once: Floats1, mult: Floats1, after_one: Floats1, free: Floats1, anew: Floats1,
    call_rps: Floats1, of_client: Bools1, made: Floats1,
) -> None:  # fmt: skip
    """Adds up by entry the connects per second of clients' calls there, by row of the book as `find_coming`."""
    for row in range(len(entry)):
        if of_client[entry[row]]:
            made[entry[row]] += call_rps[call[row]] * _comes(row, call, once, mult, after_one, free, anew)


@compiled
def find_against_once(connected: Floats1, once: Floats1, made: Floats1) -> None:
    """So many connects against once each; 1 where nobody connects."""
    for row in range(len(once)):
        made[row] = connected[row] / once[row] if once[row] > 0 else 1.0
