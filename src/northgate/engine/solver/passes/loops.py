"""Requests on their way to machines, what becomes of them there, and on the way back: as loops, compiled.

Kinds are those of `engine.base`; values at pairs are of shape (kinds that may occur, fates, pairs), `kinds` says which
of them is which.
"""

import math

from northgate.engine.base import (
    BAD_STATUS,
    KINDS,
    LATE,
    OVERLOADED,
    SERVED,
    SPENT,
    TIMED_OUT,
    WORK,
    Bools1,
    Bools2,
    Floats1,
    Floats2,
    Floats3,
    Ints1,
    compiled,
    part,
)
from northgate.engine.formulas import excess_of, is_too_late
from northgate.engine.solver.retries.kinds import add_trip, cap


@compiled
def find_sent(
    rps: Floats1, entry: Ints1, row_part: Floats1, asks_pool: Bools1, route: Ints1, fate: Ints1,
    route_of_weighted: Ints1, cell_of_weighted: Ints1, weighted_share: Floats1, row: Floats1, by_route: Floats2,
    by_weighted: Floats2, cell: Floats2,
) -> None:  # fmt: skip
    """Fills rates (requests/s) by row of `Network.arrivals`, and, where they ask a pool, by fate and route, weighted
    group, and cell, from those of entries."""
    by_route[:] = 0.0
    cell[:] = 0.0
    for one in range(len(entry)):
        row[one] = rps[entry[one]] * row_part[one]
        if asks_pool[one]:
            by_route[fate[one], route[one]] += row[one]
    for of_fate in range(cell.shape[0]):
        for weighted in range(len(route_of_weighted)):
            sent = by_route[of_fate, route_of_weighted[weighted]] * weighted_share[weighted]
            by_weighted[of_fate, weighted] = sent
            cell[of_fate, cell_of_weighted[weighted]] += sent


@compiled
def find_offered(
    cell: Floats2, share: Floats2, answers: Bools2, cell_of_pair: Ints1, machine: Ints1, leads_on: Bools1,
    coming: Floats2, fate_of_coming: Ints1, offered: Floats1,
) -> None:  # fmt: skip
    """Adds up what is offered to machines that answer: of requests that come to cells, and over open connections
    (`coming`, by kind of connection and pair)."""
    for pair in range(len(machine)):
        if leads_on[pair]:
            continue
        arrives = 0.0
        for fate in range(cell.shape[0]):
            if answers[fate, pair]:
                arrives += cell[fate, cell_of_pair[pair]] * share[min(fate, share.shape[0] - 1), pair]
        for kind in range(len(fate_of_coming)):
            if answers[fate_of_coming[kind], pair]:
                arrives += coming[kind, pair]
        offered[machine[pair]] += arrives


@compiled
def find_late(
    machine: Ints1, latency_s: Floats1, slope: Floats1, budget_s: Floats2, connect_s: Floats1, response_s: Floats1,
    waits: Ints1, late: Bools2,
) -> None:  # fmt: skip
    """Per fate and pair: whether an answer comes too late after so many connects that took their time-out (as
    `Encounter.patience_s` says)."""
    for fate in range(late.shape[0]):
        for pair in range(late.shape[1]):
            bound_s = min(budget_s[fate, pair] - waits[0] * connect_s[fate], response_s[pair])
            late[fate, pair] = is_too_late(latency_s[machine[pair]], slope[machine[pair]], bound_s)


@compiled
def find_met(
    place: Ints1, machine: Ints1, latency_s: Floats1, excess: Floats1, answers: Bools2, late: Bools2, bad_page: Bools2,
    budget_s: Floats2, connect_s: Floats1, response_s: Floats1, waits: Ints1, values: Floats3,
) -> None:  # fmt: skip
    """Adds what becomes of requests that are answered: `place` is that of each kind among the values."""
    for fate in range(answers.shape[0]):
        for pair in range(answers.shape[1]):
            if not answers[fate, pair]:
                continue
            here_s, over = latency_s[machine[pair]], excess[machine[pair]]
            taken = 1 - over
            values[place[OVERLOADED], fate, pair] = over
            if late[fate, pair]:
                # How long an answer is waited for that comes too late; nothing where that is not known.
                wait_s = min(max(min(budget_s[fate, pair] - waits[0] * connect_s[fate], response_s[pair]), 0.0),
                             response_s[pair])  # fmt: skip
                values[place[LATE], fate, pair] = taken
                values[place[TIMED_OUT], fate, pair] += taken
                values[place[SPENT], fate, pair] += taken * (wait_s if wait_s < math.inf else 0.0)
            elif bad_page[fate, pair]:
                values[place[BAD_STATUS], fate, pair] = taken
                values[place[SPENT], fate, pair] += taken * here_s
            else:
                values[place[SERVED], fate, pair] = taken
                values[place[WORK], fate, pair] = taken * here_s


@compiled
def find_late_after(
    fate: Ints1, mine: Ints1, machine: Ints1, latency_s: Floats1, slope: Floats1, budget_s: Floats2, connect_s: Floats1,
    response_s: Floats1, timeout_s: Floats1, waits: Ints1, late: Bools2,
) -> None:  # fmt: skip
    """Per number of silent targets met before (`timeout_s` at each) and place: whether answers to requests of a fate at
    a pair come too late."""
    for silent in range(late.shape[0]):
        for place in range(len(mine)):
            of_fate, pair = fate[place], mine[place]
            wait_s = silent * timeout_s[pair]
            bound_s = min(budget_s[of_fate, pair] - waits[0] * connect_s[of_fate], response_s[pair] + wait_s)
            of_machine = machine[pair]
            late[silent, place] = is_too_late(latency_s[of_machine] + wait_s, slope[of_machine], bound_s)


@compiled
def find_after_others(
    place: Ints1, fate: Ints1, mine: Ints1, share: Floats1, waited: Floats2, machine: Ints1, latency_s: Floats1,
    excess: Floats1, late: Bools2, bad_page: Bools2, timeout_s: Floats1, values: Floats3,
) -> None:  # fmt: skip
    """Puts among the values what becomes of requests that end at some pairs after others (see `Stop`)."""
    for one in range(len(mine)):
        of_fate, pair = fate[one], mine[one]
        taken, in_time, worked, too_late = 1 - excess[machine[pair]], 0.0, 0.0, 0.0
        for silent in range(waited.shape[0]):
            if late[silent, one]:
                too_late += waited[silent, one]
            else:
                in_time += waited[silent, one]
                worked += waited[silent, one] * (latency_s[machine[pair]] + silent * timeout_s[pair])
        disliked = bad_page[of_fate, pair]
        values[place[SERVED], of_fate, pair] = 0.0 if disliked else in_time * taken / share[one]
        values[place[WORK], of_fate, pair] = 0.0 if disliked else worked * taken / share[one]
        values[place[TIMED_OUT], of_fate, pair] = taken * too_late / share[one]
        values[place[BAD_STATUS], of_fate, pair] = in_time * taken / share[one] if disliked else 0.0
        values[place[LATE], of_fate, pair] = taken if late[0, one] else 0.0


@compiled
def find_followed(
    kinds: Ints1, values: Floats3, fate: Ints1, mine: Ints1, machine: Ints1, latency_s: Floats1, excess: Floats1,
    late: Bools2, takes: Bools2, leads_on: Bools1, bad_page: Bools2, budget_s: Floats2, connect_s: Floats1,
    timeout_s: Floats1, waits: Ints1, made: Floats3,
) -> None:  # fmt: skip
    """What becomes of requests of some fates at some pairs, after so many silent targets: (silent ones, places,
    kinds)."""
    for silent in range(made.shape[0]):
        for place in range(len(mine)):
            of_fate, pair, met = fate[place], mine[place], made[silent, place]
            met[:] = 0.0
            for number in range(len(kinds)):
                met[kinds[number]] = values[number, of_fate, pair]
            takes_here, wait_s = takes[of_fate, pair] and not leads_on[pair], silent * timeout_s[pair]
            if takes_here:
                taken = 1 - excess[machine[pair]]
                too_late, disliked = late[silent, place], bad_page[of_fate, pair]
                met[SERVED] = 0.0 if too_late or disliked else taken
                met[WORK] = met[SERVED] * (latency_s[machine[pair]] + wait_s)
                met[TIMED_OUT] = taken if too_late else 0.0
                # Too late for having waited for others only is no overload.
                met[LATE] = taken if late[0, place] else 0.0
                met[BAD_STATUS] = taken if disliked and not too_late else 0.0
            fails = 0.0
            for cause in range(SERVED):
                fails += met[cause]
            most_s = max(budget_s[of_fate, pair] - waits[0] * connect_s[of_fate], 0.0) * fails
            met[SPENT] = min(met[SPENT] + (fails * wait_s if takes_here else 0.0), most_s)


@compiled
def find_rows(
    kinds: Ints1, values: Floats3, share: Floats2, cell_of_pair: Ints1, cell_of_weighted: Ints1,
    route_of_weighted: Ints1, weighted_share: Floats1, asks_pool: Bools1, route: Ints1, fate: Ints1, trip_s: Floats1,
    by_route: Floats3, cell: Floats3, row: Floats2,
) -> None:  # fmt: skip
    """Adds up what becomes of requests from pairs to cells (kinds, fates, cells), and to the rows of
    `Network.arrivals`, at which they ask a pool; and counts a round trip there for what is answered. `by_route`
    (routes, fates, kinds that may occur) is for work."""
    _add_to_cells(kinds, values, share, cell_of_pair, cell)
    by_route[:] = 0.0
    for weighted in range(len(route_of_weighted)):
        of_route, of_cell = route_of_weighted[weighted], cell_of_weighted[weighted]
        for of_fate in range(values.shape[1]):
            for number in range(len(kinds)):
                by_route[of_route, of_fate, number] += cell[kinds[number], of_fate, of_cell] * weighted_share[weighted]
    for one in range(len(asks_pool)):
        if asks_pool[one]:
            for number in range(len(kinds)):
                row[one, kinds[number]] += by_route[route[one], fate[one], number]
        add_trip(row[one], trip_s[one])


@part
def _add_to_cells(kinds: Ints1, values: Floats3, share: Floats2, cell_of_pair: Ints1, cell: Floats3) -> None:
    for number in range(len(kinds)):
        for fate in range(values.shape[1]):
            drawn = share[min(fate, share.shape[0] - 1)]
            for pair in range(values.shape[2]):
                cell[kinds[number], fate, cell_of_pair[pair]] += values[number, fate, pair] * drawn[pair]


@compiled
def find_entries(
    entry: Ints1, front: Ints1, row_part: Floats1, over: Floats1, row: Floats2, made: Floats2
) -> None:  # fmt: skip
    """Takes from what is served at each row what its balancer's bandwidth does not let through, and
    adds up what becomes of an entry's requests at its fronts."""
    for one in range(len(entry)):
        cap(row[one], over[front[one]])
        for kind in range(KINDS):
            made[entry[one], kind] += row[one, kind] * row_part[one]


@compiled
def find_excess(
    row: Floats2, row_rps: Floats1, over_open: Floats1, megabits: Floats1, call: Ints1, front: Ints1, balancer: Ints1,
    limit_mbps: Floats1, used: Floats1, over: Floats1,
) -> None:  # fmt: skip
    """Per balancer what would be answered, of requests by row and what is served `over_open` connections there, as a
    part of its bandwidth; and per front the share 1 - 1/u of that which is beyond it (see `formulas.overload`)."""
    for one in range(len(call)):
        served = row[one, SERVED] * row_rps[one] + over_open[one]
        used[balancer[front[one]]] += served * megabits[call[one]]
    for one in range(len(limit_mbps)):
        used[one] /= limit_mbps[one]
    for one in range(len(balancer)):
        over[one] = excess_of(used[balancer[one]])


@compiled
def find_holds(
    answers: Bools1, silent: Bools1, machine: Ints1, latency_s: Floats1, timeout_s: Floats1, cell_rps: Floats2,
    hold_s: Floats1, rps: Floats1,
) -> None:  # fmt: skip
    """Per pair how long a request occupies its place there; and what comes to cells (requests/s) of all fates."""
    for pair in range(len(machine)):
        hold_s[pair] = timeout_s[pair] if silent[pair] else latency_s[machine[pair]] if answers[pair] else 0.0
    for fate in range(cell_rps.shape[0]):
        for cell in range(len(rps)):
            rps[cell] += cell_rps[fate, cell]


@compiled
def put_busy(busy: Bools1, of_busy: Floats1, share: Floats2, made: Floats2) -> None:
    """The shares of fates (fates, pairs), those of busy pairs being these."""
    for fate in range(share.shape[0]):
        for pair in range(share.shape[1]):
            made[fate, pair] = of_busy[pair] if busy[pair] else share[fate, pair]


@compiled
def mix_bound(
    fate: Ints1, bound: Floats2, keeps: Bools2, cell_of_pair: Ints1, member: Ints1, leads: Bools1, whole: Floats1,
    made: Floats2,
) -> None:  # fmt: skip
    """Puts into the shares of fates (fates, pairs), one sort of session of one `fate` after the other, those whom it
    has `bound` to members, at the cells that it `keeps` them and where it `leads` them there; the others go on as they
    would. `whole` (cells,) is for work."""
    for sort in range(len(fate)):
        whole[:] = 0.0
        for pair in range(len(member)):
            if keeps[sort, cell_of_pair[pair]] and leads[pair]:
                whole[cell_of_pair[pair]] += bound[sort, member[pair]]
        for pair in range(len(member)):
            if keeps[sort, cell_of_pair[pair]]:
                made[fate[sort], pair] *= max(1 - whole[cell_of_pair[pair]], 0.0)
                made[fate[sort], pair] += bound[sort, member[pair]] if leads[pair] else 0.0


@compiled
def add_opened(
    fates: Ints1, keeps: Bools1, cell_of_pair: Ints1, member: Ints1, cell_rps: Floats2, opens: Floats2, served: Floats2,
    sources: Floats1, made: Floats1,
) -> None:  # fmt: skip
    """Adds by member how often a second a source of some fates opens a session there, at the cells that keep them."""
    for number in range(len(fates)):
        fate = fates[number]
        sent = opens[min(fate, opens.shape[0] - 1)]
        for pair in range(len(member)):
            if keeps[cell_of_pair[pair]]:
                rate = cell_rps[fate, cell_of_pair[pair]] * sent[pair] * served[fate, pair]
                made[member[pair]] += rate / sources[0]
