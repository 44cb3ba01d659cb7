"""What single attempts of cases come to, and their calls by the last of them: as loops, compiled."""

from northgate.engine.base import (
    BLOCKED,
    DEAD_FRONT,
    KINDS,
    NONE_HEALTHY,
    REFUSED,
    SERVED,
    SPENT,
    TIMED_OUT,
    UNMET,
    WORK,
    Floats1,
    Floats2,
    Floats3,
    Ints2,
    compiled,
    part,
)
from northgate.engine.formulas import find_ways, repeated, tried_after, waits_of


@part
def _turned_away(met: Floats1) -> float:
    """The chance that a connect is turned away at once."""
    return float(met[UNMET + REFUSED] + met[UNMET + NONE_HEALTHY])


@part
def _quiet(met: Floats1) -> float:
    """The chance that a connect takes its time-out."""
    return float(met[UNMET + TIMED_OUT] + met[UNMET + BLOCKED] + met[UNMET + DEAD_FRONT])


@part
def _add_end(met: Floats1, tried: float, last: float, quiet_last: float, before_s: float, wait_s: float,
             patience_s: float, ends: Floats1) -> None:  # fmt: skip
    """Adds what ends with connects that are tried so often, after time-outs of so many seconds: all but failed ones
    after which another address is tried."""
    fails = 0.0
    for cause in range(SERVED):
        taken = met[cause] - met[UNMET + cause]
        fails += taken
        ends[cause] += taken * tried
    for kind in range(SERVED, UNMET):
        if kind != SPENT:
            ends[kind] += met[kind] * tried
    ends[WORK] += met[SERVED] * before_s * tried
    spent_s = min(met[SPENT] + fails * before_s, fails * patience_s) * tried
    for cause in (TIMED_OUT, BLOCKED, DEAD_FRONT):
        ends[cause] += met[UNMET + cause] * quiet_last
        spent_s += met[UNMET + cause] * quiet_last * min(before_s + wait_s, patience_s)
    for cause in (REFUSED, NONE_HEALTHY):
        ends[cause] += met[UNMET + cause] * last
        spent_s += met[UNMET + cause] * last * min(before_s, patience_s)
    ends[SPENT] += spent_s


@compiled
def find_attempts(
    rows: Ints2, most_waits: Floats1, goes_on: Floats1, wait_s: Floats1, timeout_s: Floats1, books: Floats3,
    chances: Floats2, ways: Floats2, connects: Floats2, fails: Floats1, ends: Floats3,
) -> None:  # fmt: skip
    """What one attempt of each case comes to. `rows` (cases, n) of the book; `most_waits` connects may begin and take
    their time-out, `goes_on` is 0 where no further address is taken; `books` (waits, rows, kinds): what becomes of a
    connect after 0, 1, ... others that took their time-out, the last one for all further ones. `chances` (2, n) and
    `ways` (n, n) are for work. Fills the connects by case and address, how often an attempt fails, and what ends
    (cases, n, kinds)."""
    count = rows.shape[1]
    for case in range(rows.shape[0]):
        served, moves, waits = 0.0, goes_on[case] > 0, waits_of(count, most_waits[case])
        for address in range(count):
            met = books[0, rows[case, address]]
            chances[0, address], chances[1, address] = _turned_away(met), _quiet(met)
        for address in range(count):
            find_ways(chances[0], chances[1], address, waits, ways)
            connects[case, address] = 0.0
            ends[case, address] = 0.0
            for waited in range(waits):
                tried, last = tried_after(ways, count, waited, moves)
                if tried == 0.0:
                    continue
                met = books[min(waited, books.shape[0] - 1), rows[case, address]]
                connects[case, address] += tried
                served += met[SERVED] * tried
                # The time-out that uses up what is left is the last, whatever addresses there are.
                quiet_last = tried if moves and waited + 1 >= most_waits[case] else last
                _add_end(
                    met, tried, last, quiet_last, waited * wait_s[case], wait_s[case], timeout_s[case],
                    ends[case, address],
                )  # fmt: skip
        fails[case] = min(max(1 - served, 0.0), 1.0)


@compiled
def add_connects(
    rows: Ints2, connects: Floats2, fails: Floats1, repeats: Floats1, weight: Floats1, made: Floats1
) -> None:  # fmt: skip
    """Adds to each row of the book how often calls connect there that are repeated so often at most."""
    for case in range(rows.shape[0]):
        tries = repeated(fails[case], repeats[case])[0] * weight[case]
        for address in range(rows.shape[1]):
            made[rows[case, address]] += connects[case, address] * tries


@compiled
def add_ends(
    rows: Ints2, ends: Floats3, fails: Floats1, repeats: Floats1, weight: Floats1, made: Floats2
) -> None:  # fmt: skip
    """Adds to each row of the book what of calls ends there that are repeated so often at most, counted by the last
    attempt."""
    for case in range(rows.shape[0]):
        tries, before, left = repeated(fails[case], repeats[case])
        spent_s = 0.0
        for address in range(rows.shape[1]):
            spent_s += ends[case, address, SPENT]
        for address in range(rows.shape[1]):
            end, row = ends[case, address], made[rows[case, address]]
            for kind in range(KINDS):
                if kind == SERVED:
                    row[kind] += end[SERVED] * tries * weight[case]
                elif kind == WORK:
                    row[kind] += (end[WORK] * tries + end[SERVED] * spent_s * before) * weight[case]
                else:
                    row[kind] += end[kind] * left * weight[case]
