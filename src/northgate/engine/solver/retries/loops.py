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
    Bools2,
    Floats1,
    Floats2,
    Floats3,
    Ints1,
    Ints2,
    compiled,
    part,
)
from northgate.engine.formulas import find_lumps, find_stops, find_ways, go_on, repeated, tried_after, waits_of


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
    begin: Ints1, rows: Ints1, most_waits: Floats1, goes_on: Floats1, wait_s: Floats1, timeout_s: Floats1,
    books: Floats3, chances: Floats2, ways: Floats2, connects: Floats1, fails: Floats1, ends: Floats2,
) -> None:  # fmt: skip
    """What one attempt of each case comes to (see `Cases`). `books` (waits, rows, kinds): what becomes of a connect
    after 0, 1, ... others that took their time-out, the last one for all further ones. `chances` (2, n) and `ways` (n,
    n) are for work. Fills the connects by address, how often an attempt fails by case, and what ends (addresses,
    kinds)."""
    for case in range(len(fails)):
        first, count = begin[case], begin[case + 1] - begin[case]
        served, moves, waits = 0.0, goes_on[case] > 0, waits_of(count, most_waits[case])
        away, quiet, of_others = chances[0, :count], chances[1, :count], ways[:count, :count]
        for address in range(count):
            met = books[0, rows[first + address]]
            away[address], quiet[address] = _turned_away(met), _quiet(met)
        for address in range(count):
            place = first + address
            find_ways(away, quiet, address, waits, of_others)
            connects[place] = 0.0
            ends[place] = 0.0
            for waited in range(waits):
                tried, last = tried_after(of_others, count, waited, moves)
                if tried == 0.0:
                    continue
                met = books[min(waited, books.shape[0] - 1), rows[place]]
                connects[place] += tried
                served += met[SERVED] * tried
                # The time-out that uses up what is left is the last, whatever addresses there are.
                quiet_last = tried if moves and waited + 1 >= most_waits[case] else last
                before_s = waited * wait_s[case]
                _add_end(met, tried, last, quiet_last, before_s, wait_s[case], timeout_s[case], ends[place])
        fails[case] = min(max(1 - served, 0.0), 1.0)


@compiled
def add_connects(
    begin: Ints1, rows: Ints1, share: Floats1, kind: Ints1, repeats: Floats1, connects: Floats1, fails: Floats1,
    weights: Floats1, spent: Ints1, made: Floats1,
) -> None:  # fmt: skip
    """Adds to each row of the book how often calls connect there, of classes with these weights, that have so many
    attempts behind them (see `Cases`, and `find_attempts`)."""
    for case in range(len(fails)):
        tries = repeated(fails[case], max(repeats[case] - spent[0], 0.0))[0] * share[case] * weights[kind[case]]
        for place in range(begin[case], begin[case + 1]):
            made[rows[place]] += connects[place] * tries


@compiled
def add_ends(
    begin: Ints1, rows: Ints1, share: Floats1, kind: Ints1, repeats: Floats1, ends: Floats2, fails: Floats1,
    weights: Floats1, spent: Ints1, made: Floats2,
) -> None:  # fmt: skip
    """Adds to each row of the book what of calls ends there, as `add_connects`, counted by the last attempt."""
    for case in range(len(fails)):
        tries, before, left = repeated(fails[case], max(repeats[case] - spent[0], 0.0))
        weight, spent_s = share[case] * weights[kind[case]], 0.0
        for place in range(begin[case], begin[case + 1]):
            spent_s += ends[place, SPENT]
        for place in range(begin[case], begin[case + 1]):
            end, row = ends[place], made[rows[place]]
            for one in range(KINDS):
                if one == SERVED:
                    row[one] += end[SERVED] * tries * weight
                elif one == WORK:
                    row[one] += (end[WORK] * tries + end[SERVED] * spent_s * before) * weight
                else:
                    row[one] += end[one] * left * weight


@compiled
def add_once(begin: Ints1, rows: Ints1, share: Floats1, kind: Ints1, weights: Floats1, made: Floats1) -> None:
    """Adds to each row of the book how often calls connect there that take one of their addresses (see `Cases`), of
    classes with these weights."""
    for case in range(len(share)):
        weight = share[case] * weights[kind[case]] / (begin[case + 1] - begin[case])
        for place in range(begin[case], begin[case + 1]):
            made[rows[place]] += weight


@compiled
def find_held(
    kinds: Ints1, values: Floats3, fate: Ints1, share: Floats2, cell_of_pair: Ints1, cells: Ints1, pins: Ints2,
    drawn: Floats2, made: Floats3,
) -> None:  # fmt: skip
    """What becomes of one attempt of each class at cells (cells, classes, kinds): that of the pair or lump at which it
    is held, else that of all that are drawn. `values` (kinds that may occur, fates, pairs and lumps), of which those of
    one `fate` count; `share` (fates or 1, pairs); `drawn` (cells, kinds that may occur) is for work."""
    drawn[:] = 0.0
    of_fate, own = fate[0], share[min(fate[0], share.shape[0] - 1)]
    for place in range(len(cells)):
        for pair in range(len(cell_of_pair)):
            if cell_of_pair[pair] == cells[place]:
                for number in range(len(kinds)):
                    drawn[place, number] += values[number, of_fate, pair] * own[pair]
        for held in range(pins.shape[1]):
            pin = pins[place, held]
            for number in range(len(kinds)):
                made[place, held, kinds[number]] = values[number, of_fate, pin] if pin >= 0 else drawn[place, number]


@compiled
def find_weights(
    some: Ints1, class_from: Ints1, row_from: Ints1, rows: Ints1, book: Ints1, row_part: Floats1, connects: Floats1,
    fallback: Floats1, made: Floats1,
) -> None:  # fmt: skip
    """The shares of classes among the connects that come by some courses (see `Courses`), of so many by row of the
    book; where none comes, `fallback`. Sums to 1 over a course's classes."""
    for number in range(len(some)):
        course, whole = some[number], 0.0
        first, end = class_from[course], class_from[course + 1]
        for way in range(row_from[course], row_from[course + 1]):
            for held in range(end - first):
                made[first + held] += row_part[rows[way]] * connects[book[way] + held]
        for held in range(first, end):
            whole += made[held]
        if whole <= 0:
            for held in range(first, end):
                made[held] = fallback[held]
                whole += fallback[held]
        for held in range(first, end):
            made[held] /= whole


@compiled
def find_weights_of_free(
    some: Ints1, class_from: Ints1, row_from: Ints1, book: Ints1, part_of: Floats1, entry: Ints1, connects: Floats1,
    dns_share: Floats1, weights: Floats1, of_free: Floats1, made: Floats1,
) -> None:  # fmt: skip
    """Adds up how often one source of each class of a call connects by some courses, of those that no session holds:
    of so many connects by row of the book. Of classes that nobody is in: as if they connected once."""
    for number in range(len(some)):
        course = some[number]
        first = class_from[course]
        for way in range(row_from[course], row_from[course + 1]):
            for held in range(len(weights)):
                often = connects[book[way] + held] / weights[held] if weights[held] > 0 else dns_share[entry[way]]
                made[first + held] += part_of[way] * often * of_free[held]


@part
def _look(course: int, fate: Ints1, target_from: Ints1, pairs: Ints1, takes: Bools2, silent: Bools2, drawn: Floats2,
          own: Floats1, bad: Bools2) -> int:  # fmt: skip
    """The targets of a course: how each is drawn, whether it takes no connect, and says so only after the time-out; how
    many there are."""
    count, of_fate = int(target_from[course + 1] - target_from[course]), fate[course]
    for target in range(count):
        pair = pairs[target_from[course] + target]
        own[target] = drawn[min(of_fate, drawn.shape[0] - 1), pair]
        bad[0, target], bad[1, target] = not takes[of_fate, pair], silent[of_fate, pair]
    return count


@part
def _begin(weight: float, at: int, own: Floats1, first: Floats1) -> None:
    """Adds so much to what is first sent to a target, or, past the last, to all as they are drawn."""
    if at < len(own):
        first[at] += weight
    else:
        for target in range(len(own)):
            first[target] += weight * own[target]


@part
def _add_stop(weight: float, at: int, begin: int, quiet: int, bad: Bools1, share: Floats1, waited: Floats2) -> None:
    """Adds so much to what ends at a target, of a course whose targets begin there, after so many silent ones."""
    share[begin + at] += weight
    if not bad[at]:
        waited[quiet, begin + at] += weight


@compiled
def find_ends(
    some: Ints1, fate: Ints1, tries: Ints1, target_from: Ints1, pairs: Ints1, class_from: Ints1, quiet: Ints1,
    place: Ints1, lump_from: Ints1, lump_place: Ints1, lump_share: Floats1, takes: Bools2, silent: Bools2,
    weight: Floats1, drawn: Floats2, values: Floats2, counts: Ints2, table: Floats1, at_work: Floats2, bad: Bools2,
    waits: Floats2, share: Floats1, waited: Floats2,
) -> None:  # fmt: skip
    """Adds up where attempts of some courses end (see `Courses`), whose classes have these weights: the share of each
    target, and what of it comes to those that take it after so many silent ones (silent ones, targets). `drawn` (fates
    or 1, pairs); `values`, `counts` and `table` are of `Trying`, and with what follows them for work."""
    first, own, ended, then = at_work[0], at_work[1], at_work[2], at_work[3]
    for number in range(len(some)):
        course, anybody = some[number], False
        begin = target_from[course]
        count = _look(course, fate, target_from, pairs, takes, silent, drawn, own, bad)
        first[:count] = 0.0
        for held in range(class_from[course], class_from[course + 1]):
            at = place[held]
            if quiet[held] < 0:
                anybody = anybody or weight[held] > 0
                _begin(weight[held], at, own[:count], first)
            elif at < count:
                _add_stop(weight[held], at, begin, quiet[held], bad[0], share, waited)
            else:
                for member in range(lump_from[at - count - 1], lump_from[at - count]):
                    of_member = weight[held] * lump_share[member]
                    _add_stop(of_member, lump_place[member], begin, quiet[held], bad[0], share, waited)
        if not anybody:
            continue
        find_stops(
            first[:count], own[:count], bad[0, :count], bad[1, :count], tries[course], values, counts, table, then,
            ended, waits,
        )  # fmt: skip
        for target in range(count):
            share[begin + target] += ended[target]
            for silent_ones in range(tries[course] + 1):
                waited[silent_ones, begin + target] += waits[silent_ones, target]


@part
def _find_begins(quiet: Ints1, place: Ints1, first: Floats1) -> None:
    """Marks the targets at which any class begins to go on."""
    first[:] = 0.0
    for held in range(len(quiet)):
        if quiet[held] < 0 and place[held] < len(first):
            first[place[held]] = 1.0


@part
def _find_good(own: Floats1, bad: Bools1, tries: int, begin: int, after: Floats3, good: Floats2) -> None:
    """What becomes of connects at those who take them, after so many silent ones, by how they are drawn."""
    good[: tries + 1] = 0.0
    for target in range(len(own)):
        if not bad[target]:
            for silent_ones in range(tries + 1):
                for kind in range(KINDS):
                    good[silent_ones, kind] += own[target] * after[silent_ones, begin + target, kind]


@compiled
def find_after_classes(
    some: Ints1, cells: Ints1, fate: Ints1, tries: Ints1, target_from: Ints1, pairs: Ints1, class_from: Ints1,
    quiet: Ints1, place: Ints1, lump_from: Ints1, lump_place: Ints1, lump_share: Floats1, takes: Bools2,
    silent: Bools2, drawn: Floats2, after: Floats3, values: Floats2, counts: Ints2, table: Floats1, at_work: Floats2,
    bad: Bools2, known: Floats2, is_known: Bools1, good: Floats2, made: Floats3,
) -> None:  # fmt: skip
    """What becomes of one connect of each class of some courses, whose calls go on to others: by the target at which
    it ends, or by those that are drawn (the place of each course among `cells`, classes, kinds). `after` (silent ones,
    targets of all courses, kinds) is what becomes of connects after so many silent targets; arguments between it and
    `made` are for work."""
    first, own, then = at_work[0], at_work[1], at_work[3]
    for number in range(len(some)):
        course, cell = some[number], cells[number]
        begin, first_class = target_from[course], class_from[course]
        count = _look(course, fate, target_from, pairs, takes, silent, drawn, own, bad)
        _find_begins(quiet[first_class : class_from[course + 1]], place[first_class:], first[:count])
        lumps = find_lumps(first[:count], own[:count], bad[0, :count], bad[1, :count], values, counts)
        is_known[: lumps + 1] = False
        _find_good(own[:count], bad[0], tries[course], begin, after, good)
        for held in range(first_class, class_from[course + 1]):
            at, met = place[held], made[cell, held - first_class]
            met[:] = 0.0
            if quiet[held] >= 0 and at < count:
                _add(1.0, after[quiet[held], begin + at], met)
            elif quiet[held] >= 0:
                for member in range(lump_from[at - count - 1], lump_from[at - count]):
                    _add(lump_share[member], after[quiet[held], begin + lump_place[member]], met)
            elif at < count and not bad[0, at]:
                _add(1.0, after[0, begin + at], met)
            else:
                start = counts[0, at] if at < count else lumps
                if not is_known[start]:
                    is_known[start] = True
                    _go_on_from(start, lumps, own[:count], tries[course], values, counts, table, then, good,
                                after[0, begin : begin + count], known[start])  # fmt: skip
                _add(1.0, known[start], met)


@part
def _add(weight: float, met: Floats1, into: Floats1) -> None:
    for kind in range(KINDS):
        into[kind] += weight * met[kind]


@part
def _go_on_from(
    start: int, lumps: int, own: Floats1, tries: int, values: Floats2, counts: Ints2, table: Floats1, then: Floats1,
    good: Floats2, at_once: Floats2, known: Floats1,
) -> None:  # fmt: skip
    """What becomes of connects that begin at a lump, or past the last: as all are drawn. `good` (silent ones, kinds) is
    what becomes at those who take connects, by how they are drawn, `at_once` at all targets."""
    for lump in range(lumps):
        values[2, lump] = values[0, lump] * values[1, lump] if start == lumps else 0.0
    if start < lumps:
        values[2, start] = 1.0
    go_on(lumps, own, tries, values, counts, table, then)
    for kind in range(KINDS):
        known[kind] = good[0, kind] if start == lumps else 0.0
        for silent_ones in range(tries + 1):
            known[kind] += then[silent_ones] * good[silent_ones, kind]
        for target in range(len(own)):
            if counts[0, target] >= 0:
                lump = counts[0, target]
                known[kind] += values[3, lump] / values[1, lump] * at_once[target, kind]
