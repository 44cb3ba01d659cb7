"""Where to begin to look for a flow: on the way along which others near it lie."""

from collections.abc import Callable, Iterable, Sequence
from math import prod

import numpy as np

from northgate.engine.base import Floats
from northgate.engine.formulas import mixed
from northgate.engine.solver import Attempts, Flow, Opens

# Through so many flows a curve is laid; and where it would count any of them more than so often, through fewer.
MOST, STEEPEST = 3, 12.0


class Course:
    """Flows at some seconds of one way along which rates change smoothly: how often calls are tried, where those are
    sent who are chosen by how busy targets are, and how sessions and connections are opened, at other seconds of it,
    nearly."""

    def __init__(self, known: Iterable[tuple[float, Flow]]) -> None:
        """`known`: flows with their seconds, at least one; of the same second the last holds."""
        self._known = dict(known)

    def add(self, second: float, flow: Flow) -> None:
        """One more flow is known."""
        self._known[second] = flow

    def leave(self, flow: Flow) -> None:
        """A flow that is known, or is not, is not on the way."""
        self._known = {second: known for second, known in self._known.items() if known is not flow}

    def at(self, second: float) -> tuple[Attempts, Floats]:
        """The attempts and the shares of a second (`State.attempts`, `State.shares`): those of the parabola, or line,
        through the nearest flows of which the same numbers are known."""
        flows, weights = self._nearest(second, _fits)
        attempts = Attempts(mixed([one.attempts.numbers for one in flows], weights), flows[0].attempts.shapes)
        return attempts, mixed([one.pair_share for one in flows], weights)

    def opens(self, second: float) -> Opens:
        """How sessions and connections are opened at a second, on such a parabola or line."""
        flows, weights = self._nearest(second, _opens_alike)
        return flows[0].opens.mixed([one.opens for one in flows[1:]], weights) if len(flows) > 1 else flows[0].opens

    def faster(self, now: float, second: float) -> Floats:
        """How utilisations go from now on: (2, machines), A (1/s) and B (1/s^2) of u + A t + B t^2 through now and the
        two flows nearest to a second; where none is known from before now, along the line to the nearest."""
        first = self._known[now].queue.utilisation
        made = np.zeros((2, len(first)))
        near_s = sorted((one for one in self._known if one != now), key=lambda known_s: abs(known_s - second))
        if not near_s:
            return made
        slopes = [(self._known[one].queue.utilisation - first) / (one - now) for one in near_s[:2]]
        if min(near_s) < now and len(slopes) > 1:
            made[1] = (slopes[1] - slopes[0]) / (near_s[1] - near_s[0])
        made[0] = slopes[0] - made[1] * (near_s[0] - now)
        return made

    def _nearest(self, second: float, fits: Callable[[Flow, Flow], bool]) -> tuple[list[Flow], list[float]]:
        """The flows nearest to a second that fit the first of them, and how much each counts there."""
        nearest = sorted(self._known, key=lambda known_s: abs(known_s - second))
        first = self._known[nearest[0]]
        alike = [known_s for known_s in nearest if fits(self._known[known_s], first)][:MOST]
        weights = weights_at(second, alike)
        while max(map(abs, weights)) > STEEPEST:
            weights = weights_at(second, alike[: len(weights) - 1])
        return [self._known[known_s] for known_s in alike[: len(weights)]], weights


def weights_at(second: float, known_s: Sequence[float]) -> list[float]:
    """How much what is known at each of some different seconds counts at another, on the polynomial through all.

    Source: Lagrange's formula, `w_k = Π (t - t_j) / (t_k - t_j)` over the others j.
    """
    return [
        prod((second - other) / (mine - other) for other in known_s if other != mine) for mine in known_s
    ]  # fmt: skip


def _opens_alike(one: Flow, other: Flow) -> bool:
    return one.opens.like(other.opens)


def _fits(one: Flow, other: Flow) -> bool:
    return one.attempts.fits(other.attempts) and one.pair_share.shape == other.pair_share.shape
