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

Connections of sources that a session binds lead where it leads: of the share b_j that is bound to place j those without
one open one there, with the chance s_j, so that each place has its own equation and its own exponential:

    dm_j/dt = λ s_j (b_j - m_j) + λ p_j - d_j m_j
"""

import math

import numpy as np
from msgspec import Struct

from northgate.engine.base import NEVER, Bools, Bools1, Floats, Floats1, Floats2, cached, compiled, part
from northgate.engine.formulas.decays import after_each, workplace

# Masses are followed in steps of this part of the time in which they change, until they move less than STILL of all.
# What is SMALL goes the whole way in one step: the closed form is exact, only the load that it makes is seen later.
STEP, SLOW, SMALL, STILL, RELAXED = 0.5, 0.125, 1e-3, 1e-6, 20.0

# What is drawn is followed until no more than this share of all moves.
SEEN = 1e-2

# With so many calls expected within an idle time-out no gap is as long: fewer than one in 10^17 would be.
NEVER_IDLE = 40.0


class Occupancy(Struct, frozen=True, dict=True):
    """The masses of one kind as shares of its sources, and how they change.

    `rate` is λ in calls per second and source, `opens` p, `ends` δ in 1/s, `silent` the places whose masses end with
    their first failed request, `again` q (None: nobody repeats). `bound` and `served` are b and s, where sessions say
    where connections lead; `opens` is then λ p of those who are not bound.
    """

    held: Floats
    rate: float
    opens: Floats
    ends: float
    silent: Bools
    again: Floats | None = None
    bound: Floats | None = None
    served: Floats | None = None

    def settled(self) -> Floats:
        """The masses that stay as they are: M = λP / (λP + δ), shared out as p."""
        opening = self.rate * float(self.opens.sum())
        if opening <= 0:
            return self.held
        return np.asarray(opening / (opening + self.ends) * self.opens / self.opens.sum())

    def after(self, seconds: float) -> Floats:
        """The masses `seconds` later."""
        if self.bound is not None:
            speed, drift = self._own
            return np.asarray(self.held * np.exp(-speed * seconds) + drift * _spent_each(speed, seconds))
        return self._moved(seconds, 0.0) if self._anything else self.held

    def mean(self, seconds: float) -> Floats:
        """The mean masses over the next `seconds`."""
        if seconds <= 0 or not self._anything:
            return self.held
        if self.bound is not None:
            return self._own_mean(seconds)
        return self._moved(seconds, 1.0) / seconds

    def _moved(self, seconds: float, summed: float) -> Floats:
        """The masses later, or, where `summed` is not 0, their integral until then."""
        made, numbers = np.empty(len(self.held)), np.array([self.rate, self.ends, seconds, summed])
        again = self.held if self.again is None else self.again
        _find_masses(
            self.held, self.opens, self.silent, again, np.array([self.again is not None]), numbers, workplace(), made
        )
        return made

    def step_s(self) -> float:
        """After how many seconds to look again; inf while nothing moves."""
        if self.bound is not None:
            return self._own_step_s()
        faster, opening = self.ends + self.rate, self.rate * float(self.opens.sum())
        kappa = opening + self.ends
        drift = opening * (1 - self.held.sum()) - self.held[~self.silent].sum() * self.ends
        off = abs(float(drift)) / kappa if kappa > 0 else 0.0
        steps = [NEVER]
        for amount, rate in ((self._fast, faster), (off, kappa)):
            if amount > STILL and rate > 0:
                steps.append((STEP if amount > SMALL else RELAXED) / rate)
        unlike = np.where(self.silent, 0.0, self.held - self.settled())
        if self.ends > 0 and np.abs(unlike).max(initial=0.0) > STILL:
            # Who is held where changes as slowly as masses end; what is quick and small beside it needs no steps.
            steps = [step for step in steps if step < RELAXED / kappa or step == NEVER]
            steps.append(SLOW / self.ends)
        return min(steps)

    def drawn_s(self) -> float:
        """For how long a straight line draws the masses well enough; inf while next to nothing moves.

        Over the part `STEP` of the time in which it fades, an exponential lies within 3 % of it beside its chord.
        """
        if self.bound is not None:
            speed, drift = self._own
            away = np.abs(self.held - np.divide(drift, speed, out=self.held.copy(), where=speed > 0))
            speeds = speed[(away > SEEN) & (speed > 0)]
            return STEP / float(speeds.max()) if len(speeds) else NEVER
        opening = self.rate * float(self.opens.sum())
        off = abs(float(self.held.sum()) - float(self.settled().sum()))
        parts = ((self._fast, self.ends + self.rate), (off, opening + self.ends))
        steps = [STEP / rate for amount, rate in parts if amount > SEEN and rate > 0]
        unlike = np.where(self.silent, 0.0, self.held - self.settled())
        if self.ends > 0 and np.abs(unlike).max(initial=0.0) > SEEN:
            steps.append(STEP / self.ends)
        return min(steps, default=NEVER)

    @property
    def _own(self) -> tuple[Floats, Floats]:
        """Of places that sessions lead to: how fast each comes to rest (1/s), and how fast it grows from nothing
        (1/s)."""
        assert self.bound is not None
        assert self.served is not None
        # Who is connected there without being bound there stays until his connection ends.
        pulls = np.where(self.held <= self.bound, self.rate * self.served, 0.0)
        ends = self.ends + np.where(self.silent, self.rate, 0.0)
        return ends + pulls, pulls * self.bound + self.rate * self.opens

    def _own_mean(self, seconds: float) -> Floats:
        speed, drift = self._own
        spent = _spent_each(speed, seconds)
        even = np.full(len(speed), seconds**2 / 2)
        grown = np.divide(seconds - spent, speed, out=even, where=speed * seconds > 1e-9)
        return np.asarray((self.held * spent + drift * grown) / seconds)

    def _own_step_s(self) -> float:
        speed, drift = self._own
        rest = np.divide(drift, speed, out=self.held.copy(), where=speed > 0)
        off = np.abs(self.held - rest)
        steps = np.divide(np.where(off > SMALL, STEP, RELAXED), speed, out=np.full(len(off), NEVER), where=speed > 0)
        return float(np.where(off > STILL, steps, NEVER).min(initial=NEVER))

    @cached
    def _fast(self) -> float:
        return float(self.held[self.silent].sum())

    @property
    def _anything(self) -> bool:
        """Whether there is a mass, or one is being opened."""
        return bool(self.held.any()) or self.rate * float(self.opens.sum()) > 0


@compiled
def _find_masses(
    held: Floats1, opens: Floats1, silent: Bools1, again: Floats1, repeats: Bools1, numbers: Floats1, work: Floats2,
    made: Floats1,
) -> None:  # fmt: skip
    """`Occupancy._moved`; `numbers` are the rate (1/s), δ (1/s), seconds, and whether the integral is asked for;
    `again` is q if anybody `repeats`."""
    rate, ends, seconds, summed = numbers[0], numbers[1], numbers[2], numbers[3] != 0.0
    fast, rest, opening, reopening = 0.0, 0.0, 0.0, 0.0
    for place in range(len(held)):
        if silent[place]:
            fast += held[place]
        else:
            rest += held[place]
        opening += rate * opens[place]
        reopening += rate * again[place] if repeats[0] else 0.0
    free = _free(work, numbers, fast, rest, opening, reopening)
    lost = fast * _after(work, ends + rate, ends, seconds, summed) if fast else 0.0
    slow, faster = math.exp(-ends * seconds), math.exp(-(ends + rate) * seconds)
    if summed:
        slow, faster = _after(work, 0.0, ends, seconds, False), _after(work, 0.0, ends + rate, seconds, False)
    for place in range(len(held)):
        if silent[place]:
            made[place] = max(held[place] * faster, 0.0)
        else:
            opened = opens[place] * free + (again[place] * lost if repeats[0] else 0.0)
            made[place] = max(held[place] * slow + rate * opened, 0.0)


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
def _free(work: Floats2, numbers: Floats1, fast: float, rest: float, opening: float, reopening: float) -> float:
    """I(t), or its integral.

    With f = λ P, g = λ Q, κ = f + δ and φ = δ + λ the fast ones are F = F(0) e^(-φ t), and of the slow ones G' = f - κ
    G + (g - f) F; so I is a sum of decays after each other, and its integral that of one more, of rate 0.
    """
    rate, ends, seconds, summed = numbers[0], numbers[1], numbers[2], numbers[3] != 0.0
    pulled = opening + ends
    made = _after(work, 0.0, ends, seconds, summed) - opening * _after_three(work, 0.0, pulled, ends, seconds, summed)
    if rest:
        made -= rest * _after(work, pulled, ends, seconds, summed)
    if fast:
        parted = _after(work, ends + rate, ends, seconds, summed)
        pulled_on = _after_three(work, ends + rate, pulled, ends, seconds, summed)
        made -= fast * (parted + (reopening - opening) * pulled_on)
    return made


def idle_ends(rate: float, idle_s: float) -> float:
    """How often a second an open connection is closed for having been idle for `idle_s`, its source making `rate` calls
    a second, on the mean: δ = λ / (e^(λ T) - 1).

    The mean time until the first gap longer than T in a Poisson process is (e^(λ T) - 1) / λ (W. Feller, "An
    introduction to probability theory and its applications" II, XI.7); without any call T itself. In balance the share
    λ / (λ + δ) = 1 - e^(-λ T) of sources has one open: those whose last call is no longer ago than T.
    """
    if rate * idle_s > NEVER_IDLE:
        return 0.0
    return float(rate / np.expm1(rate * idle_s)) if rate * idle_s > 1e-12 else 1 / idle_s


def _spent_each(speed: Floats, t: float) -> Floats:
    """The integral of e^(-speed τ) over [0, t], per place."""
    return np.asarray(np.divide(-np.expm1(-speed * t), speed, out=np.full(len(speed), t), where=speed * t > 1e-12))
