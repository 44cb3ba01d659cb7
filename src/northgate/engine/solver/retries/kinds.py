"""Outcomes by kind: round trips, bandwidth; and what becomes of connects of each class by the arrivals that they take:
as loops, compiled."""

from northgate.engine.base import (
    KINDS,
    NONE_HEALTHY,
    OVERLOADED,
    SERVED,
    SPENT,
    UNMET,
    WORK,
    Bools1,
    Floats1,
    Floats2,
    Floats3,
    Ints1,
    compiled,
    part,
)


@part
def add_trip(met: Floats1, trip_s: float) -> None:
    """Counts one round trip to the time of what is answered; `met` by kind."""
    fails = 0.0
    for cause in range(SERVED):
        fails += met[cause] - met[UNMET + cause]
    met[WORK] += met[SERVED] * trip_s
    met[SPENT] += max(fails, 0.0) * trip_s


@part
def cap(met: Floats1, excess: float) -> None:
    """Takes from what is served the excess that the balancer's bandwidth does not let through; `met` by kind."""
    met[OVERLOADED] += met[SERVED] * excess
    met[SPENT] += met[WORK] * excess
    met[SERVED] *= 1 - excess
    met[WORK] *= 1 - excess


@compiled
def find_alike(
    part_alike: Floats2, alike: Ints1, row: Floats2, elsewhere: Bools1, entries: Ints1, entry: Floats2, made: Floats3
) -> None:
    """What becomes of connects of all classes alike (entries, classes, kinds): at arrivals that lead to no pool, of
    which each entry takes a part (entries, arrivals), or, outside or without any front in the address, elsewhere."""
    for one in range(made.shape[0]):
        for held in range(made.shape[1]):
            met = made[one, held]
            for kind in range(KINDS):
                met[kind] = entry[entries[one], kind] if elsewhere[one] else 0.0
            for arrival in range(0 if elsewhere[one] else len(alike)):
                for kind in range(KINDS):
                    met[kind] += part_alike[one, arrival] * row[alike[arrival], kind]


@compiled
def add_routed(
    chosen: Floats2, at_cells: Floats3, part_of_entry: Floats2, refused: Floats1, at_4: Bools1, trip_s: Floats1,
    excess: Floats1, front: Ints1, met: Floats1, made: Floats3,
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
            cap(met, excess[front[arrival]])
            for entry in range(part_of_entry.shape[0]):
                if part_of_entry[entry, arrival] > 0:
                    for kind in range(KINDS):
                        made[entry, held, kind] += part_of_entry[entry, arrival] * met[kind]
