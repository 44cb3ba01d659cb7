"""Connections that sessions lead to targets, through any of several fronts: all of one target's change together.

Of the share b of sources that is bound to a target, or has been when it was connected there, those without a connection
draw a front with each call. With m_p what is held through front p, of which a part f_p is drawn, and s_p the chance of
being served through it, σ_p = s_p f_p:

    dm_p/dt = λ σ_p (b - Σ m) + λ p_p - d_p m_p,   d_p = δ, or δ + λ at silent ones, where σ_p and p_p are 0

What silent ones hold, F, decays by itself; with S = Σ σ_p that of the others, G = Σ m_p, has the equation

    G' = λ S (b - F - G) + λ P - δ G

and each has its part of what is opened meanwhile: m_p(t) = m_p(0) e^(-δ t) + λ p_p I(t) + σ_p / S · (G(t) - G(0) e^(-δ
t) - λ P I(t)), I(t) being the integral of e^(-δ (t - τ)).
"""

import math

from northgate.engine.base import Bools1, Floats1, Floats2, Ints1, part
from northgate.engine.formulas.masses.decays import after_two, driven, driven_at
from northgate.engine.formulas.masses.rows import BOUND, OPENS, SERVED, pace, waits

# Rows of the sums by target: what is held by slow ones, by fast ones, and in all at first; then bound, pulled and drawn
# at three times each; and what is opened, over what is pulled.
SLOW, FAST, HELD, BOUND_AT, PULLED, DRAWN, GAINED = 0, 1, 2, 3, 6, 9, 12
SUMS = 13

# Who opens connections less often than this (1/s) opens none.
FEW = 1e-12


@part
def move_led(
    held: Floats1, ways: Floats2, rate: float, ends: float, silent: Bools1, target: Ints1, seconds: float,
    summed: bool, work: Floats2, sums: Floats2, made: Floats1,
) -> None:  # fmt: skip
    """The masses later, or their integral until then, while they are opened alike."""
    _add_up(held, held, ways, ways, ways, rate, rate, rate, silent, target, sums)
    fast = ends + rate
    stays, drawn_s = _decayed(work, ends, seconds, summed), after_two(work, 0.0, ends, seconds, summed)
    for mine in range(len(held)):
        pulled, bound, lost = sums[PULLED, mine], sums[BOUND_AT, mine], sums[FAST, mine]
        sums[GAINED, mine] = 0.0
        if pulled > FEW and waits(sums[HELD, mine], bound):
            speed, rest, drawn = pulled + ends, sums[SLOW, mine], sums[DRAWN, mine]
            then = rest * _decayed(work, speed, seconds, summed)
            then += (pulled * bound + drawn) * after_two(work, 0.0, speed, seconds, summed)
            then -= pulled * lost * after_two(work, fast, speed, seconds, summed) if lost else 0.0
            sums[GAINED, mine] = (then - rest * stays - drawn * drawn_s) / pulled
    gone = _decayed(work, fast, seconds, summed)
    for place in range(len(held)):
        if silent[place]:
            made[place] = held[place] * gone
        else:
            opened = rate * ways[SERVED, place] * sums[GAINED, target[place]] + rate * ways[OPENS, place] * drawn_s
            made[place] = max(held[place] * stays + opened, 0.0)


@part
def drive_led(
    held: Floats1, begin: Floats1, first: Floats2, middle: Floats2, last: Floats2, rates: Floats1, ends: float,
    silent: Bools1, target: Ints1, along: Floats2, seconds: float, sums: Floats2, made: Floats1,
) -> None:  # fmt: skip
    """The masses after a part of the way, of what is held at the beginning of that, while a parabola goes through how
    they are opened; `held` is what was at the beginning of the whole way."""
    _add_up(held, begin, first, middle, last, rates[0], rates[1], rates[2], silent, target, sums)
    rate = max(along[0, 0] * rates[0] + along[0, 1] * rates[1] + along[0, 2] * rates[2], 0.0)
    stays, gone = math.exp(-ends * seconds), math.exp(-(ends + rate) * seconds)
    gone_half = math.exp(-(ends + rate) * seconds / 2)
    for mine in range(len(held)):
        sums[GAINED, mine] = 0.0
        pulled = _on(sums, PULLED, mine, along, 0)
        if pulled > FEW and waits(sums[HELD, mine], sums[BOUND_AT, mine]):
            drawn = _driven_on(sums, DRAWN, mine, along, ends, seconds)
            then = _come_to(sums, mine, along, ends, seconds, gone_half, gone)
            sums[GAINED, mine] = (then - sums[SLOW, mine] * stays - drawn) / pulled
    for place in range(len(held)):
        if silent[place]:
            made[place] = begin[place] * gone
            continue
        pulled, drawn, drawn_half, drawn_then = 0.0, 0.0, 0.0, 0.0
        for time in range(3):
            ways = first if time == 0 else middle if time == 1 else last
            pulled += along[0, time] * rates[time] * ways[SERVED, place]
            by_draw = rates[time] * ways[OPENS, place]
            drawn, drawn_half = drawn + along[1, time] * by_draw, drawn_half + along[2, time] * by_draw
            drawn_then += along[3, time] * by_draw
        opened = pulled * sums[GAINED, target[place]] + driven(0.0, ends, drawn, drawn_half, drawn_then, seconds)
        made[place] = max(begin[place] * stays + opened, 0.0)


@part
def pace_led(
    held: Floats1, ways: Floats2, rate: float, ends: float, silent: Bools1, target: Ints1, limits: Floats1,
    sums: Floats2, made: Floats1,
) -> None:  # fmt: skip
    """How soon to look again: what each target has comes to rest by itself, and then what each front has of it."""
    _add_up(held, held, ways, ways, ways, rate, rate, rate, silent, target, sums)
    for mine in range(len(held)):
        bound, drawn = sums[BOUND_AT, mine], sums[DRAWN, mine]
        pulled = sums[PULLED, mine] if waits(sums[HELD, mine], bound) else 0.0
        speed, rest, lost = pulled + ends, sums[SLOW, mine], sums[FAST, mine]
        then = (pulled * bound + drawn) / speed if speed > 0 else rest
        pace(lost, lost, ends + rate, math.inf, limits, made)
        pace(abs(rest - then), abs(rest - then), speed, math.inf, limits, made)
        # Who still waits at rest.
        sums[GAINED, mine] = bound - then if pulled > 0 else 0.0
    for place in range(len(held)):
        mine = target[place]
        every = sums[PULLED, mine] * sums[GAINED, mine] + sums[DRAWN, mine]
        if not silent[place] and every > 0:
            comes = rate * (ways[SERVED, place] * sums[GAINED, mine] + ways[OPENS, place])
            unlike = abs(held[place] - sums[SLOW, mine] * comes / every)
            pace(unlike, unlike, ends, math.inf, limits, made)


@part
def missed(
    held: Floats1, bound: Floats1, bound_then: Floats1, made: Floats1, target: Ints1, sums: Floats2
) -> float:  # fmt: skip
    """By how much less is held at the end than is bound by then, where as much was held at first as was bound."""
    for mine in range(len(held)):
        sums[SLOW, mine], sums[HELD, mine], sums[BOUND_AT, mine] = 0.0, 0.0, 0.0
    for place in range(len(held)):
        mine = target[place] if len(target) else place
        sums[SLOW, mine] += bound_then[place] - made[place]
        sums[HELD, mine] += held[place]
        sums[BOUND_AT, mine] += bound[place]
    found = 0.0
    for mine in range(len(held)):
        if not waits(sums[HELD, mine], sums[BOUND_AT, mine]):
            found += max(sums[SLOW, mine], 0.0)
    return found


@part
def _add_up(
    held: Floats1, begin: Floats1, first: Floats2, middle: Floats2, last: Floats2, rate: float, rate_half: float,
    rate_then: float, silent: Bools1, target: Ints1, sums: Floats2,
) -> None:  # fmt: skip
    """The sums by target."""
    for row in range(SUMS):
        for mine in range(len(held)):
            sums[row, mine] = 0.0
    for place in range(len(held)):
        mine = target[place]
        sums[FAST if silent[place] else SLOW, mine] += begin[place]
        sums[HELD, mine] += held[place]
        for time in range(3):
            ways = first if time == 0 else middle if time == 1 else last
            calls = rate if time == 0 else rate_half if time == 1 else rate_then
            sums[BOUND_AT + time, mine] += ways[BOUND, place]
            if not silent[place]:
                sums[PULLED + time, mine] += calls * ways[SERVED, place]
                sums[DRAWN + time, mine] += calls * ways[OPENS, place]


@part
def _come_to(
    sums: Floats2, mine: int, along: Floats2, ends: float, seconds: float, gone_half: float, gone: float
) -> float:  # fmt: skip
    """What the slow ones of a target come to."""
    rest, lost, mean = float(sums[SLOW, mine]), sums[FAST, mine], _on(sums, PULLED, mine, along, 0)
    pulled, pulled_half, pulled_then = (
        _on(sums, PULLED, mine, along, 1), _on(sums, PULLED, mine, along, 2), _on(sums, PULLED, mine, along, 3)
    )  # fmt: skip
    push = pulled * (_on(sums, BOUND_AT, mine, along, 1) - lost) + _on(sums, DRAWN, mine, along, 1)
    half_way = pulled_half * (_on(sums, BOUND_AT, mine, along, 2) - lost * gone_half) + _on(sums, DRAWN, mine, along, 2)
    then = pulled_then * (_on(sums, BOUND_AT, mine, along, 3) - lost * gone) + _on(sums, DRAWN, mine, along, 3)
    less, less_half, less_then = mean - pulled, mean - pulled_half, mean - pulled_then
    return driven_at(rest, ends + mean, push, half_way, then, less, less_half, less_then, seconds)


@part
def _on(sums: Floats2, row: int, mine: int, along: Floats2, place: int) -> float:
    """What a sum is on the mean of a part of the way (0), at its beginning (1), half-way (2) or at its end (3)."""
    made = 0.0
    for time in range(3):
        made += along[place, time] * sums[row + time, mine]
    return made


@part
def _driven_on(sums: Floats2, row: int, mine: int, along: Floats2, ends: float, seconds: float) -> float:
    """What a sum of pushes comes to, that decays."""
    push, half_way = _on(sums, row, mine, along, 1), _on(sums, row, mine, along, 2)
    return driven(0.0, ends, push, half_way, _on(sums, row, mine, along, 3), seconds)


@part
def _decayed(work: Floats2, speed: float, seconds: float, summed: bool) -> float:
    """What is left of a mass, or the integral of that."""
    return after_two(work, 0.0, speed, seconds, False) if summed else math.exp(-speed * seconds)
