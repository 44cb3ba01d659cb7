"""What is added up of a state that is solved: as loops, compiled."""

from northgate.engine.base import (
    KINDS,
    SERVED,
    WORK,
    Bools1,
    Bools2,
    Floats1,
    Floats2,
    Ints1,
    compiled,
)


@compiled
def add_becomes(
    entry: Ints1, call: Ints1, ends: Floats2, then: Floats2, call_rps: Floats1, free: Floats1, anew: Floats1,
    spent_s: Floats1, of_client: Bools1, at_entry: Floats2, entry_rps: Floats1, made: Floats2,
) -> None:  # fmt: skip
    """Adds up by entry and kind what becomes of the calls/s that go no way that is open already. By row of the book:
    what calls end as (`ends`), and those that begin `anew`, with one attempt and so many seconds behind them (`then`).
    What targets pass on to an entry becomes what attempts there do."""
    for row in range(len(entry)):
        place, mine = entry[row], call[row]
        if not of_client[place]:
            continue
        rps, more = call_rps[mine] * free[mine], call_rps[mine] * anew[mine]
        for kind in range(KINDS):
            made[place, kind] += ends[row, kind] * rps
        if more > 0:
            for kind in range(KINDS):
                made[place, kind] += then[row, kind] * more
            made[place, WORK] += then[row, SERVED] * spent_s[mine] * more
    for place in range(len(of_client)):
        if not of_client[place]:
            for kind in range(KINDS):
                made[place, kind] = at_entry[place, kind] * entry_rps[place]


@compiled
def add_rows(index: Ints1, rows: Floats2, counts: Bools1, made: Floats2) -> None:
    """Adds the rows that count to those of their index."""
    for row in range(len(index)):
        if counts[row]:
            for column in range(rows.shape[1]):
                made[index[row], column] += rows[row, column]


@compiled
def find_ratios(at_entry: Floats2, entry_rps: Floats1, becomes: Floats2, made: Floats1) -> None:
    """Per entry what is served in the end, against what of first connects is; 1 where nothing is."""
    for place in range(len(entry_rps)):
        at_once = at_entry[place, SERVED] * entry_rps[place]
        made[place] = becomes[place, SERVED] / at_once if at_once > 0 else 1.0


@compiled
def find_in_time(
    entry: Ints1, front: Ints1, routed: Bools1, row: Floats2, row_rps: Floats1, of_entry: Floats1, rows: Floats1,
    whole: Floats1, fronts: Floats1,
) -> None:  # fmt: skip
    """Ratios `of_entry` by row of `Network.arrivals`, and their mean by front, of what its pools serve; `whole`
    (fronts,) is for work."""
    whole[:] = 0.0
    fronts[:] = 0.0
    for place in range(len(entry)):
        rows[place] = of_entry[entry[place]]
        if routed[place]:
            served = row[place, SERVED] * row_rps[place]
            whole[front[place]] += served
            fronts[front[place]] += served * rows[place]
    for one in range(len(whole)):
        fronts[one] = fronts[one] / whole[one] if whole[one] > 0 else 1.0


@compiled
def find_pair_served(
    cell_rps: Floats2, cell: Ints1, share: Floats2, served: Floats2, front: Ints1, over: Floats1, in_time: Floats1,
    over_open: Floats2, made: Floats1,
) -> None:  # fmt: skip
    """Per pair what is served, of requests that come to its cell and `over_open` connections (kinds, pairs)."""
    for pair in range(len(cell)):
        made[pair] = 0.0
        for fate in range(cell_rps.shape[0]):
            of_fate = share[min(fate, share.shape[0] - 1), pair] * served[fate, pair]
            made[pair] += cell_rps[fate, cell[pair]] * of_fate
        made[pair] *= (1 - over[front[pair]]) * in_time[front[pair]]
        for kind in range(over_open.shape[0]):
            made[pair] += over_open[kind, pair]


@compiled
def add_to_zones(
    row_served: Floats1, routed: Bools1, front: Ints1, front_zone: Ints1, pair_served: Floats1, leads_on: Bools1,
    machine: Ints1, machine_zone: Ints1, made: Floats1,
) -> None:  # fmt: skip
    """Adds up by zone what is served there: by a front itself, by row of `Network.arrivals`, or at its machines."""
    for row in range(len(front)):
        if not routed[row]:
            made[front_zone[front[row]]] += row_served[row]
    for pair in range(len(machine)):
        if not leads_on[pair]:
            made[machine_zone[machine[pair]]] += pair_served[pair]


@compiled
def find_opened(
    entries: Ints1, kind: Ints1, arriving: Floats2, often: Floats1, cell_of_pair: Ints1, share: Floats2, fate: Ints1,
    served: Floats2, by_cell: Floats2, made: Floats2,
) -> None:  # fmt: skip
    """Per kind of connection and pair the share of calls that would open one there: so `often` calls connect at
    `entries`, of a `kind` each, and come from there to cells (cells, entries); `by_cell` (kinds, cells) is for work."""
    by_cell[:] = 0.0
    for cell in range(arriving.shape[0]):
        for one in range(len(entries)):
            by_cell[kind[one], cell] += arriving[cell, one] * often[entries[one]]
    for one in range(len(fate)):
        for pair in range(len(cell_of_pair)):
            made[one, pair] = by_cell[one, cell_of_pair[pair]] * share[one, pair] * served[fate[one], pair]


@compiled
def find_reset_part(reset: Floats2, free: Floats1, calls: Ints1, made: Floats1) -> None:
    """`Opening.reset_part`."""
    for kind in range(len(calls)):
        whole = 0.0
        for pair in range(reset.shape[1]):
            whole += reset[kind, pair]
        there = whole + free[calls[kind]]
        made[kind] = whole / there if there > 0 else 0.0


@compiled
def find_served_there(
    front: Ints1, front_dead: Bools1, blocked: Bools2, fate: Ints1, served: Floats2, retries: Floats1,
    reset_part: Floats1, made: Floats2,
) -> None:  # fmt: skip
    """`Opening.served_there`."""
    for kind in range(len(fate)):
        for pair in range(len(front)):
            met = 0.0 if front_dead[front[pair]] or blocked[kind, pair] else served[fate[kind], pair]
            fails, part_of_it = 1 - met, reset_part[kind]
            again = fails ** retries[kind]
            made[kind, pair] = 1 - (1 - part_of_it) * again * fails - part_of_it * again
