"""What single attempts of cases come to, and their calls by the last of them; what becomes of connects of held classes:
as loops, compiled."""

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
    Bools1,
    Floats1,
    Floats2,
    Floats3,
    Ints1,
    Ints2,
    compiled,
    part,
)
from northgate.engine.formulas import find_ways, repeated, tried_after, waits_of
from northgate.engine.solver.retries.kinds import add_trip, cap


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


@compiled
def add_once(rows: Ints2, share: Floats1, kind: Ints1, weights: Floats1, made: Floats1) -> None:
    """Adds to each row of the book how often calls connect there that take one of their addresses: cases with these
    shares, of classes with these weights."""
    for case in range(rows.shape[0]):
        weight = share[case] * weights[kind[case]] / rows.shape[1]
        for address in range(rows.shape[1]):
            made[rows[case, address]] += weight


@compiled
def find_held(
    kinds: Ints1, values: Floats2, share: Floats1, cell_of_pair: Ints1, cells: Ints1, pins: Ints2, drawn: Floats2,
    made: Floats3,
) -> None:  # fmt: skip
    """What becomes of one attempt of each class at cells (cells, classes, kinds): that of the pair or lump at which it
    is held, else that of all that are drawn. `values` (kinds that may occur, pairs and lumps); `drawn` (cells, kinds
    that may occur) is for work."""
    drawn[:] = 0.0
    for place in range(len(cells)):
        for pair in range(len(cell_of_pair)):
            if cell_of_pair[pair] == cells[place]:
                for number in range(len(kinds)):
                    drawn[place, number] += values[number, pair] * share[pair]
        for held in range(pins.shape[1]):
            pin = pins[place, held]
            for number in range(len(kinds)):
                made[place, held, kinds[number]] = values[number, pin] if pin >= 0 else drawn[place, number]


@compiled
def add_routed(
    chosen: Floats2, at_cells: Floats3, part_of_entry: Floats2, refused: Floats1, at_4: Bools1, trip_s: Floats1,
    excess: Floats1, met: Floats1, made: Floats3,
) -> None:  # fmt: skip
    """Adds what becomes of connects of each class (entries, classes, kinds) at arrivals that lead to a pool: `chosen`
    (arrivals, cells) is what each sends to cells, `part_of_entry` (entries, arrivals) what it gets. `met` (kinds,) is
    for work."""
    for arrival in range(chosen.shape[0]):
        for held in range(at_cells.shape[1]):
            met[:] = 0.0
            for cell in range(chosen.shape[1]):
                if chosen[arrival, cell] > 0:
                    for kind in range(KINDS):
                        met[kind] += chosen[arrival, cell] * at_cells[cell, held, kind]
            met[NONE_HEALTHY] += refused[arrival]
            met[UNMET + NONE_HEALTHY] += refused[arrival] if at_4[arrival] else 0.0
            add_trip(met, trip_s[arrival])
            cap(met, excess[arrival])
            for entry in range(part_of_entry.shape[0]):
                if part_of_entry[entry, arrival] > 0:
                    for kind in range(KINDS):
                        made[entry, held, kind] += part_of_entry[entry, arrival] * met[kind]


@compiled
def find_alike(drawn: Floats1, takes: Bools1, silent: Bools1, firsts: Ints1, made: Ints1) -> None:
    """Per target, and for one past the last, the first from which calls go on in the same way: those that take no
    connect, fail alike, and are drawn with the same share. `firsts` is for work."""
    known = 0
    for place in range(len(made)):
        made[place] = place
        if place == len(drawn) or takes[place] or drawn[place] <= 0:
            continue
        for number in range(known):
            first = firsts[number]
            if drawn[first] == drawn[place] and silent[first] == silent[place]:
                made[place] = first
                break
        if made[place] == place:
            firsts[known] = place
            known += 1


@compiled
def find_ends(
    weight: Floats1, taken: Ints1, quiet: Ints1, place: Ints1, lost: Ints1, lost_at: Ints1, begin: Ints1, start: Ints1,
    alike: Ints1, waited: Floats2, share: Floats1, on: Floats1,
) -> None:  # fmt: skip
    """Adds up where attempts of classes with these weights end (see `Placed`): `waited` of those that are taken, by
    silent targets before, `share` of these and of those that are taken nowhere, and `on` of the others, by the target
    from which they go on."""
    for number in range(len(taken)):
        waited[quiet[number], place[number]] += weight[taken[number]]
    for pair in range(len(share)):
        for silent in range(waited.shape[0]):
            share[pair] += waited[silent, pair]
    for number in range(len(lost)):
        share[lost_at[number]] += weight[lost[number]]
    for number in range(len(begin)):
        on[alike[start[number]]] += weight[begin[number]]
