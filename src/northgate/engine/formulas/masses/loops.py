"""How masses change, place by place: the arithmetic of `occupancy.py`, compiled."""

import math

import numpy as np

from northgate.engine.base import (
    Bools1,
    Bools2,
    Floats1,
    Floats2,
    Floats3,
    Ints1,
    compiled,
    part,
)
from northgate.engine.formulas.masses.decays import after_each, after_two, driven_at
from northgate.engine.formulas.masses.led import drive_led, missed, move_led, pace_led
from northgate.engine.formulas.masses.rows import AGAIN, BOUND, OPENS, SERVED, pace, waits

# With so many calls expected within an idle time-out no gap is as long: fewer than one in 10^17 would be.
NEVER_IDLE = 40.0

# A parabola over either half of the way, and over all of it, of its values at the beginning, half-way and then: its
# mean, and what it is at the beginning of that, half-way and at the end.
ALONG = np.array([
    [[5 / 12, 8 / 12, -1 / 12], [1, 0, 0], [3 / 8, 6 / 8, -1 / 8], [0, 1, 0]],
    [[-1 / 12, 8 / 12, 5 / 12], [0, 1, 0], [-1 / 8, 6 / 8, 3 / 8], [0, 0, 1]],
    [[1 / 6, 4 / 6, 1 / 6], [1, 0, 0], [0, 1, 0], [0, 0, 1]],
])  # fmt: skip


@compiled
def find_masses(
    held: Floats2, ways: Floats3, rate: Floats1, ends: Floats2, silent: Bools2, target: Ints1, asked: Floats1,
    work: Floats2, sums: Floats2, made: Floats2,
) -> None:  # fmt: skip
    """`Occupancy._moved`; `asked` are the seconds, and whether the integral is."""
    for kind in range(held.shape[0]):
        mine = ways[:, kind]
        if len(target) and _leads(mine):
            by_itself = ends[0, kind] + idle_ends(rate[kind], ends[0, kind], ends[1, kind])
            move_led(
                held[kind], mine, rate[kind], by_itself, silent[kind], target, asked[0], asked[1] != 0.0, work, sums,
                made[kind],
            )  # fmt: skip
        else:
            move(held[kind], mine, rate[kind], ends[:, kind], silent[kind], asked[0], asked[1], work, made[kind])


@part
def move(
    held: Floats1, ways: Floats2, rate: float, ends_by: Floats1, silent: Bools1, seconds: float, summed: float,
    work: Floats2, made: Floats1,
) -> None:  # fmt: skip
    """The masses of one kind later, or their integral until then."""
    ends = ends_by[0] + idle_ends(rate, ends_by[0], ends_by[1])
    if _leads(ways):
        for place in range(len(held)):
            speed, drift = _own(held[place], ways[:, place], rate, ends, silent[place])
            spent = -math.expm1(-speed * seconds) / speed if speed * seconds > 1e-12 else seconds
            if summed:
                grown = (seconds - spent) / speed if speed * seconds > 1e-9 else seconds * seconds / 2
                made[place] = held[place] * spent + drift * grown
            else:
                made[place] = held[place] * math.exp(-speed * seconds) + drift * spent
        return
    fast, rest, opening, reopening = 0.0, 0.0, 0.0, 0.0
    for place in range(len(held)):
        if silent[place]:
            fast += held[place]
        else:
            rest += held[place]
        opening += rate * ways[OPENS, place]
        reopening += rate * _again(ways, place)
    asked = summed != 0.0
    free = _free(work, rate, ends, seconds, asked, fast, rest, opening, reopening)
    lost = fast * after_two(work, ends + rate, ends, seconds, asked) if fast else 0.0
    slow, faster = math.exp(-ends * seconds), math.exp(-(ends + rate) * seconds)
    if asked:
        slow, faster = after_two(work, 0.0, ends, seconds, False), after_two(work, 0.0, ends + rate, seconds, False)
    for place in range(len(held)):
        if silent[place]:
            made[place] = max(held[place] * faster, 0.0)
        else:
            opened = ways[OPENS, place] * free + _again(ways, place) * lost
            made[place] = max(held[place] * slow + rate * opened, 0.0)


@part
def _again(ways: Floats2, place: int) -> float:
    """q, where anybody repeats."""
    return ways[AGAIN, place] if ways.shape[0] > AGAIN else 0.0


@part
def _leads(ways: Floats2) -> bool:
    """Whether sessions say where connections lead."""
    leads = bool(ways.shape[0] > BOUND)
    for place in range(ways.shape[1] if leads else 0):
        leads = leads and not math.isnan(ways[BOUND, place])
    return leads


@part
def _own(held: float, ways: Floats1, rate: float, ends: float, silent: bool) -> tuple[float, float]:
    """Of a place that sessions lead to: how fast it comes to rest (1/s), and how fast it grows from nothing (1/s)."""
    pulls = rate * ways[SERVED] if waits(held, ways[BOUND]) else 0.0
    return ends + (rate if silent else 0.0) + pulls, pulls * ways[BOUND] + rate * ways[OPENS]


@part
def _after_three(work: Floats2, first: float, second: float, third: float, seconds: float, summed: bool) -> float:
    """What passes through decays of three rates, or its integral."""
    work[0, 0], work[0, 1], work[0, 2], work[0, 3] = first, second, third, 0.0
    return after_each(work, 4 if summed else 3, seconds)


@part
def _free(
    work: Floats2, rate: float, ends: float, seconds: float, summed: bool, fast: float, rest: float, opening: float,
    reopening: float,
) -> float:  # fmt: skip
    """I(t), or its integral.

    With f = λ P, g = λ Q, κ = f + δ and φ = δ + λ the fast ones are F = F(0) e^(-φ t), and of the slow ones G' = f - κ
    G + (g - f) F; so I is a sum of decays after each other, and its integral that of one more, of rate 0.
    """
    pulled = opening + ends
    made = after_two(work, 0.0, ends, seconds, summed)
    made -= opening * _after_three(work, 0.0, pulled, ends, seconds, summed)
    if rest:
        made -= rest * after_two(work, pulled, ends, seconds, summed)
    if fast:
        parted = after_two(work, ends + rate, ends, seconds, summed)
        pulled_on = _after_three(work, ends + rate, pulled, ends, seconds, summed)
        made -= fast * (parted + (reopening - opening) * pulled_on)
    return made


@compiled
def lead_on(
    held: Floats2, first: Floats3, middle: Floats3, last: Floats3, rates: Floats2, ends: Floats2, silent: Bools2,
    target: Ints1, along: Floats3, seconds: Floats1, work: Floats2, sums: Floats2, mixed: Floats2, gone: Floats2,
    made: Floats2, off: Floats1,
) -> None:  # fmt: skip
    """`Occupancy.led_on`; `rates` (3, kinds) are those now, half-way and then. `work`, `sums`, `mixed` (as many rows as
    `ways`, places) and `gone` (3, places) are for work: that half-way, in two halves, and in one go."""
    for kind in range(held.shape[0]):
        led = _leads(first[:, kind]) and _leads(middle[:, kind]) and _leads(last[:, kind])
        for part_of in range(3):
            means, rate = along[part_of, 0], 0.0
            for time in range(3):
                rate += means[time] * rates[time, kind]
            begin = gone[0] if part_of == 1 else held[kind]
            lasts = seconds[0] if part_of == 2 else seconds[0] / 2
            if led:
                by_itself = ends[0, kind] + idle_ends(max(rate, 0.0), ends[0, kind], ends[1, kind])
                _lead_part(
                    held[kind], begin, first[:, kind], middle[:, kind], last[:, kind], rates[:, kind], by_itself,
                    silent[kind], target, along[part_of], lasts, sums, gone[part_of],
                )  # fmt: skip
                continue
            for way in range(first.shape[0]):
                for place in range(held.shape[1]):
                    value = means[0] * first[way, kind, place] + means[1] * middle[way, kind, place]
                    value += means[2] * last[way, kind, place]
                    # What is not a number stays so.
                    mixed[way, place] = 0.0 if value < 0.0 else value
            move(begin, mixed, max(rate, 0.0), ends[:, kind], silent[kind], lasts, 0.0, work, gone[part_of])
        otherwise = 0.0
        for place in range(held.shape[1]):
            in_halves = gone[1, place]
            otherwise += abs(in_halves - gone[2, place])
            made[kind, place] = max(in_halves + (in_halves - gone[2, place]) / 3, 0.0)
        if led:
            # Somebody bound may have none by then.
            otherwise += missed(held[kind], first[BOUND, kind], last[BOUND, kind], made[kind], target, sums)
        off[0] = max(off[0], otherwise)


@part
def _lead_part(
    held: Floats1, begin: Floats1, first: Floats2, middle: Floats2, last: Floats2, rates: Floats1, ends: float,
    silent: Bools1, target: Ints1, along: Floats2, seconds: float, sums: Floats2, made: Floats1,
) -> None:  # fmt: skip
    """What places that sessions lead to, or targets, come to along a part of the way."""
    if len(target):
        drive_led(held, begin, first, middle, last, rates, ends, silent, target, along, seconds, sums, made)
        return
    for place in range(len(held)):
        leads = waits(held[place], first[BOUND, place])
        made[place] = _drive(
            begin[place], first[:, place], middle[:, place], last[:, place], rates, ends, silent[place], leads, along,
            seconds,
        )  # fmt: skip


@part
def _drive(
    held: float, first: Floats1, middle: Floats1, last: Floats1, rates: Floats1, ends: float, silent: bool,
    leads: bool, along: Floats2, seconds: float,
) -> float:  # fmt: skip
    """What a place that sessions lead to comes to along a part of the way, as it comes to rest, and grows, along
    parabolas."""
    speed, push, half_way, then = ends, 0.0, 0.0, 0.0
    faster, faster_half, faster_then = 0.0, 0.0, 0.0
    for time in range(3):
        ways = first if time == 0 else middle if time == 1 else last
        pulls = rates[time] * ways[SERVED] if leads else 0.0
        drift, faster_by = pulls * ways[BOUND] + rates[time] * ways[OPENS], pulls + (rates[time] if silent else 0.0)
        speed += along[0, time] * faster_by
        push, faster = push + along[1, time] * drift, faster + along[1, time] * faster_by
        half_way, faster_half = half_way + along[2, time] * drift, faster_half + along[2, time] * faster_by
        then, faster_then = then + along[3, time] * drift, faster_then + along[3, time] * faster_by
    speed, mean = max(speed, 0.0), speed - ends
    less, less_half, less_then = mean - faster, mean - faster_half, mean - faster_then
    return max(driven_at(held, speed, push, half_way, then, less, less_half, less_then, seconds), 0.0)


@compiled
def find_paces(
    held: Floats2, ways: Floats3, rate: Floats1, ends: Floats2, silent: Bools2, target: Ints1, limits: Floats1,
    sums: Floats2, made: Floats1,
) -> None:  # fmt: skip
    """`Occupancy.step_s` and `drawn_s`, the least of all kinds; `limits` are STEP, SLOW, SMALL, STILL, RELAXED and
    SEEN."""
    for kind in range(held.shape[0]):
        by_itself = ends[0, kind] + idle_ends(rate[kind], ends[0, kind], ends[1, kind])
        if _leads(ways[:, kind]) and len(target):
            pace_led(held[kind], ways[:, kind], rate[kind], by_itself, silent[kind], target, limits, sums, made)
        elif _leads(ways[:, kind]):
            _pace_each(held[kind], ways[:, kind], rate[kind], by_itself, silent[kind], limits, made)
        else:
            _pace_all(held[kind], ways[OPENS, kind], rate[kind], by_itself, silent[kind], limits, made)


@part
def _pace_each(
    held: Floats1, ways: Floats2, rate: float, ends: float, silent: Bools1, limits: Floats1, made: Floats1
) -> None:  # fmt: skip
    """Where sessions say where connections lead: each place comes to rest by itself."""
    for place in range(len(held)):
        speed, drift = _own(held[place], ways[:, place], rate, ends, silent[place])
        off = abs(held[place] - drift / speed) if speed > 0 else 0.0
        pace(off, off, speed, math.inf, limits, made)


@part
def _pace_all(
    held: Floats1, opens: Floats1, rate: float, ends: float, silent: Bools1, limits: Floats1, made: Floats1
) -> None:  # fmt: skip
    """Where all change together: how many hold anything, which of them end faster, and who holds where."""
    step, slow, still, relaxed, seen = limits[0], limits[1], limits[3], limits[4], limits[5]
    fast, rest, chance, unlike, longest = 0.0, 0.0, 0.0, 0.0, math.inf
    for place in range(len(held)):
        if silent[place]:
            fast += held[place]
        else:
            rest += held[place]
        chance += opens[place]
    opening, pulled = rate * chance, rate * chance + ends
    for place in range(len(held)):
        if not silent[place] and opening > 0:
            unlike = max(unlike, abs(held[place] - opening / pulled * opens[place] / chance))
    if ends > 0 and unlike > still:
        # Who is held where changes as slowly as masses end; what is quick and small beside it needs no steps.
        made[0], longest = min(made[0], slow / ends), relaxed / pulled
    if ends > 0 and unlike > seen:
        made[1] = min(made[1], step / ends)
    off = abs(opening * (1 - fast - rest) - rest * ends) / pulled if pulled > 0 else 0.0
    away = abs(fast + rest - opening / pulled) if opening > 0 else 0.0
    pace(fast, fast, ends + rate, longest, limits, made)
    pace(off, away, pulled, longest, limits, made)


@part
def idle_ends(rate: float, ends: float, idle_s: float) -> float:
    """How often a second an open connection is closed for having been idle for `idle_s`, its source making `rate` calls
    a second, and `ends` a second ending by themselves, on the mean: with s = λ + δ, s / (e^(s T) - 1).

    Each call begins a gap: the connection is closed after it with the chance e^(-s T), and stands (1 - e^(-s T)) / s of
    it on the mean; so one that ends by itself after a while is rarely idle for long before. Without δ, 1 / that rate is
    the mean time until the first gap longer than T in a Poisson process, (e^(λ T) - 1) / λ (W. Feller, "An introduction
    to probability theory and its applications" II, XI.7); without any call T itself. In balance the share λ / (λ + δ +
    that rate) of sources has one open: the renewal theorem, for times open of a mean that follows from gaps.
    """
    gone = rate + ends
    if gone * idle_s > NEVER_IDLE:
        return 0.0
    return gone / math.expm1(gone * idle_s) if gone * idle_s > 1e-12 else 1 / idle_s
