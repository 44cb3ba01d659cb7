"""Masses that are opened and end: sessions on targets, and layer 4 connections through fronts to targets.

Of S sources that each ask λ times a second the share M holds a mass (a session, a connection); the others open one with
their next call that is served, with the chance p_j on place j. Masses end with the rate δ = 1/L, L being their mean
life; where a target is silent, its connections end with their first failed request too, so with δ + λ:

    dm_j/dt = λ (1 - M) p_j - d_j m_j,   d_j = δ or δ + λ

Who loses a connection under a call repeats that, and opens another with the chance q_j on place j. Between events λ, p,
q and d stay as they are. With F the sum of the masses that end faster (nobody opens one there), G that of the others, Q
the sum of q, I the integral of (1 - M) e^(-δ (t - τ)) and K that of F e^(-δ (t - τ)), all are linear:

    F' = -(δ + λ) F,   G' = λ P (1 - F - G) + λ Q F - δ G,   I' = 1 - F - G - δ I,   K' = F - δ K
    m_j(t) = m_j(0) e^(-δ t) + λ p_j I(t) + λ q_j K(t),   m_j(t) = m_j(0) e^(-(δ + λ) t) for the faster ones

Connections of sources that a session binds lead where it leads: of the share b_j that is bound to place j, or has been
when it was connected there, those without one open one there, with the chance s_j: each place has its own exponential:

    dm_j/dt = λ s_j (b_j - m_j) + λ p_j - d_j m_j
"""

import math
from collections.abc import Sequence

import numpy as np
from msgspec import Struct

from northgate.engine.base import (
    NEVER,
    Bools,
    Bools1,
    Bools2,
    Floats,
    Floats1,
    Floats2,
    Floats3,
    cached,
    compiled,
    part,
)
from northgate.engine.formulas.decays import after_each, workplace

# Masses are followed in steps of this part of the time in which they change, until they move less than STILL of all.
# What is SMALL goes the whole way in one step: the closed form is exact, only the load that it makes is seen later.
STEP, SLOW, SMALL, STILL, RELAXED = 0.5, 0.125, 1e-3, 1e-6, 20.0

# What is drawn is followed until no more than this share of all moves.
SEEN = 1e-2

# With so many calls expected within an idle time-out no gap is as long: fewer than one in 10^17 would be.
NEVER_IDLE = 40.0

# Rates at which masses are opened that differ by less than this are the same.
ALIKE = 1e-9

# The mean of a parabola over either half of the way, and all of it, of its values at the beginning, half-way and then.
MEANS = np.array([[5 / 12, 8 / 12, -1 / 12], [-1 / 12, 8 / 12, 5 / 12], [1 / 6, 4 / 6, 1 / 6]])

# Rows of `Openings.ways`.
OPENS, AGAIN, BOUND, SERVED = range(4)


class Openings(Struct, frozen=True):
    """How masses of some kinds are opened and end.

    `ways` (4 or 1, kinds, places): p; q (0 where nobody repeats); b and s (NaN where no sessions say where connections
    lead; p is else λ p of those who are not bound). Of those that nobody repeats, or leads, there is p alone. Per kind
    `rate`: λ in calls per second and source, and `ends` (2, kinds): δ in 1/s of what ends whatever happens, and after
    how long without a call one is closed (s; inf: never). `silent` (kinds, places): where masses end with their first
    failed request.
    """

    ways: Floats
    rate: Floats
    ends: Floats
    silent: Bools

    def otherwise(self, other: "Openings") -> bool:
        """Whether they are opened at other rates, or elsewhere."""
        mine, theirs = (one.ways[:BOUND] for one in (self, other))
        return bool(np.abs(mine - theirs).max(initial=0.0) > ALIKE)

    def mixed(self, others: "Sequence[Openings]", weights: Sequence[float]) -> "Openings":
        """The sum of this and others, with these weights; where what is led on would come to less than nothing, it is
        nothing."""
        ways, rate = (
            np.maximum(sum(weight * value for weight, value in zip(weights, values, strict=True)), 0.0)
            for values in zip(*((one.ways, one.rate) for one in (self, *others)), strict=True)
        )  # fmt: skip
        return Openings(ways, rate, self.ends, self.silent)


class Occupancy(Struct, frozen=True, dict=True):
    """The masses of some kinds, as shares of their sources (kinds, places), and how they change."""

    held: Floats
    openings: Openings

    def settled(self, most: Floats | None = None) -> Floats:
        """The masses that stay as they are: M = N λP / (λP + δ), shared out as p, N (`most`, by kind) being the share
        of sources that may hold one, 1 as a rule; where sessions lead, (λ s b + λ p) / (λ s + d) at each place."""
        opens, ends = self.openings.ways[OPENS], self._ends
        every = opens.sum(axis=1)
        opening = self.openings.rate * every
        some = opening > 0
        held = np.divide(opening, opening + ends, out=np.zeros(len(some)), where=some)
        shares = np.divide(opens, every[:, None], out=np.zeros(opens.shape), where=some[:, None])
        made = np.where(some[:, None], (held if most is None else held * most)[:, None] * shares, self.held)
        for kind in range(len(made)):
            ways = self.openings.ways[:, kind]
            if len(ways) > BOUND and not np.isnan(ways[BOUND]).any():
                rate = self.openings.rate[kind]
                pulls, leaves = rate * ways[SERVED], ends[kind] + rate * self.openings.silent[kind]
                made[kind] = (pulls * ways[BOUND] + rate * ways[OPENS]) / (pulls + leaves)
        return made

    @property
    def _ends(self) -> Floats:
        """Per kind how often a second a mass ends by itself: δ."""
        openings = self.openings
        idle = [idle_ends(*one) for one in zip(openings.rate.tolist(), *openings.ends.tolist(), strict=True)]
        return np.asarray(openings.ends[0] + np.array(idle, dtype=np.float64))

    def after(self, seconds: float) -> Floats:
        """The masses `seconds` later."""
        return self._moved(seconds, 0.0)

    def mean(self, seconds: float) -> Floats:
        """The mean masses over the next `seconds`."""
        return self._moved(seconds, 1.0) / seconds if seconds > 0 else self.held

    def _moved(self, seconds: float, summed: float) -> Floats:
        """The masses later, or, where `summed` is not 0, their integral until then."""
        made, opened = np.empty(self.held.shape), self.openings
        if made.size:
            _find_masses(
                self.held, opened.ways, opened.rate, opened.ends, opened.silent, np.array([seconds, summed]),
                workplace(), made,
            )  # fmt: skip
        return made

    def led_on(self, middle: Openings, last: Openings, seconds: float) -> tuple[Floats, float]:
        """The masses `seconds` later, while a parabola goes through how they are opened now, half-way and then; and
        which share of a kind's sources, at most, would be held otherwise in two halves than in one go.

        In two halves, each with the mean of how they are opened in it, three quarters are gone of the error of one go
        with the mean of all, which grows as the cube of the seconds (W. Magnus, "On the exponential solution of
        differential equations for a linear operator", 1954); so a third of the difference is still to be added (L. F.
        Richardson, "The deferred approach to the limit", 1927).
        """
        made, off, first = np.empty(self.held.shape), np.zeros(1), self.openings
        if made.size:
            rates, places = np.stack([first.rate, middle.rate, last.rate]), made.size // len(made)
            mixed, gone = np.empty((len(first.ways), places)), np.empty((3, places))
            _lead_on(
                self.held, first.ways, middle.ways, last.ways, rates, first.ends, first.silent, MEANS,
                np.array([seconds]), workplace(), mixed, gone, made, off,
            )  # fmt: skip
        return made, float(off[0])

    def step_s(self) -> float:
        """After how many seconds to look again; inf while nothing moves."""
        return self._paces[0]

    def drawn_s(self) -> float:
        """For how long a straight line draws the masses well enough; inf while next to nothing moves.

        Over the part `STEP` of the time in which it fades, an exponential lies within 3 % of it beside its chord.
        """
        return self._paces[1]

    @cached
    def _paces(self) -> tuple[float, float]:
        made, opened = np.full(2, NEVER), self.openings
        if self.held.size:
            limits = np.array([STEP, SLOW, SMALL, STILL, RELAXED, SEEN])
            _find_paces(self.held, opened.ways, opened.rate, opened.ends, opened.silent, limits, made)
        return float(made[0]), float(made[1])


@compiled
def _find_masses(
    held: Floats2, ways: Floats3, rate: Floats1, ends: Floats2, silent: Bools2, asked: Floats1, work: Floats2,
    made: Floats2,
) -> None:  # fmt: skip
    """`Occupancy._moved`; `asked` are the seconds, and whether the integral is."""
    for kind in range(held.shape[0]):
        _move(held[kind], ways[:, kind], rate[kind], ends[:, kind], silent[kind], asked[0], asked[1], work, made[kind])


@part
def _move(
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
    lost = fast * _after(work, ends + rate, ends, seconds, asked) if fast else 0.0
    slow, faster = math.exp(-ends * seconds), math.exp(-(ends + rate) * seconds)
    if asked:
        slow, faster = _after(work, 0.0, ends, seconds, False), _after(work, 0.0, ends + rate, seconds, False)
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
    # Who is connected there without being bound there stays until his connection ends.
    pulls = rate * ways[SERVED] if held <= ways[BOUND] else 0.0
    return ends + (rate if silent else 0.0) + pulls, pulls * ways[BOUND] + rate * ways[OPENS]


@part
def _after(work: Floats2, first: float, second: float, seconds: float, summed: bool) -> float:
    """What passes through decays of two rates, or its integral."""
    work[0, 0], work[0, 1], work[0, 2] = first, second, 0.0
    return after_each(work, 3 if summed else 2, seconds)


@part
def _after_three(work: Floats2, first: float, second: float, third: float, seconds: float, summed: bool) -> float:
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
    made = _after(work, 0.0, ends, seconds, summed) - opening * _after_three(work, 0.0, pulled, ends, seconds, summed)
    if rest:
        made -= rest * _after(work, pulled, ends, seconds, summed)
    if fast:
        parted = _after(work, ends + rate, ends, seconds, summed)
        pulled_on = _after_three(work, ends + rate, pulled, ends, seconds, summed)
        made -= fast * (parted + (reopening - opening) * pulled_on)
    return made


@compiled
def _lead_on(
    held: Floats2, first: Floats3, middle: Floats3, last: Floats3, rates: Floats2, ends: Floats2, silent: Bools2,
    means: Floats2, seconds: Floats1, work: Floats2, mixed: Floats2, gone: Floats2, made: Floats2, off: Floats1,
) -> None:  # fmt: skip
    """`Occupancy.led_on`; `rates` (3, kinds) are those now, half-way and then. `work`, `mixed` (as many rows as `ways`,
    places) and `gone` (3, places) are for work: that half-way, in two halves, and in one go."""
    for kind in range(held.shape[0]):
        for part_of in range(3):
            rate = 0.0
            for time in range(3):
                rate += means[part_of, time] * rates[time, kind]
            for way in range(first.shape[0]):
                for place in range(held.shape[1]):
                    value = means[part_of, 0] * first[way, kind, place] + means[part_of, 1] * middle[way, kind, place]
                    value += means[part_of, 2] * last[way, kind, place]
                    # What is not a number stays so.
                    mixed[way, place] = 0.0 if value < 0.0 else value
            begin = gone[0] if part_of == 1 else held[kind]
            lasts = seconds[0] if part_of == 2 else seconds[0] / 2
            _move(begin, mixed, max(rate, 0.0), ends[:, kind], silent[kind], lasts, 0.0, work, gone[part_of])
        otherwise = 0.0
        for place in range(held.shape[1]):
            in_halves = gone[1, place]
            otherwise += abs(in_halves - gone[2, place])
            made[kind, place] = max(in_halves + (in_halves - gone[2, place]) / 3, 0.0)
        off[0] = max(off[0], otherwise)


@compiled
def _find_paces(
    held: Floats2, ways: Floats3, rate: Floats1, ends: Floats2, silent: Bools2, limits: Floats1, made: Floats1
) -> None:  # fmt: skip
    """`Occupancy.step_s` and `drawn_s`, the least of all kinds; `limits` are STEP, SLOW, SMALL, STILL, RELAXED and
    SEEN."""
    for kind in range(held.shape[0]):
        by_itself = ends[0, kind] + idle_ends(rate[kind], ends[0, kind], ends[1, kind])
        if _leads(ways[:, kind]):
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
        _pace(off, off, speed, math.inf, limits, made)


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
    _pace(fast, fast, ends + rate, longest, limits, made)
    _pace(off, away, pulled, longest, limits, made)


@part
def _pace(moves: float, drawn: float, speed: float, longest: float, limits: Floats1, made: Floats1) -> None:
    """So much moves, and so much that is drawn, at one speed; steps as long as `longest` are none."""
    step, small, still, relaxed, seen = limits[0], limits[2], limits[3], limits[4], limits[5]
    if speed > 0 and moves > still:
        then = (step if moves > small else relaxed) / speed
        made[0] = min(made[0], then) if then < longest else made[0]
    if speed > 0 and drawn > seen:
        made[1] = min(made[1], step / speed)


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
