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

from northgate.engine.base import NEVER, Bools, Floats, cached
from northgate.engine.formulas.decays import after_each

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
        if not self._anything:
            return self.held
        slow, faster = self.ends, self.ends + self.rate
        gone, free, lost = math.exp(-slow * seconds), self._free(seconds), self._lost(seconds)
        masses = self.held * gone + self.rate * (self.opens * free + self._again * lost)
        return np.maximum(np.where(self.silent, self.held * math.exp(-faster * seconds), masses), 0.0)

    def mean(self, seconds: float) -> Floats:
        """The mean masses over the next `seconds`."""
        if seconds <= 0 or not self._anything:
            return self.held
        if self.bound is not None:
            return self._own_mean(seconds)
        slow, faster = (after_each((0.0, rate), seconds) for rate in (self.ends, self.ends + self.rate))
        freed, lost = self._free(seconds, 0.0), self._lost(seconds, 0.0)
        masses = self.held * slow + self.rate * (self.opens * freed + self._again * lost)
        return np.maximum(np.where(self.silent, self.held * faster, masses), 0.0) / seconds

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

    @property
    def _again(self) -> Floats:
        return np.zeros(len(self.held)) if self.again is None else self.again

    def _free(self, t: float, *then: float) -> float:
        """I(t) over t seconds, of 1 - F - G; with `then` 0 its integral.

        With f = λ P, g = λ Q, κ = f + δ and φ = δ + λ the fast ones are F = F(0) e^(-φ t), and of the slow ones G' = f
        - κ G + (g - f) F; so I is a sum of decays after each other, and its integral that of one more, of rate 0.
        """
        faster, opening = self.ends + self.rate, self.rate * float(self.opens.sum())
        pulled, after = opening + self.ends, (self.ends, *then)
        rest = float(self.held.sum()) - self._fast
        made = after_each((0.0, *after), t) - opening * after_each((0.0, pulled, *after), t)
        if rest:
            made -= rest * after_each((pulled, *after), t)
        if self._fast:
            again = self.rate * float(self._again.sum())
            fast = after_each((faster, *after), t) + (again - opening) * after_each((faster, pulled, *after), t)
            made -= self._fast * fast
        return made

    def _lost(self, t: float, *then: float) -> float:
        """K(t) over t seconds, of F; with `then` 0 its integral."""
        return self._fast * after_each((self.ends + self.rate, self.ends, *then), t) if self._fast else 0.0


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
