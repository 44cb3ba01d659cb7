"""Sums of up to three arrays with weights: what lies between them, or beyond, on a line or a parabola."""

from collections.abc import Sequence

import numpy as np

from northgate.engine.base import Floats, Floats1, compiled

# So many arrays at most.
MOST = 3


def mixed(values: Sequence[Floats], weights: Sequence[float]) -> Floats:
    """The sum of values with weights that come to 1; where that is not more than nothing, the first. Values of several
    shapes, more than three, or not as many as weights, raise ValueError."""
    if all(value is values[0] for value in values):
        return values[0]
    made = np.empty(values[0].shape)
    _mix(*_in_rows(values, len(weights)), _all(weights), made.reshape(-1))
    return made


def mixed_from_nothing(values: Sequence[Floats], weights: Sequence[float]) -> Floats:
    """The sum of values with weights; where that is less than nothing, nothing. What is NaN stays so. Errors as of
    `mixed`."""
    made = np.empty(values[0].shape)
    _mix_from_nothing(*_in_rows(values, len(weights)), _all(weights), made.reshape(-1))
    return made


def _in_rows(values: Sequence[Floats], weights: int) -> tuple[Floats, Floats, Floats]:
    """Three arrays with all their numbers in a row each: the first again where there are fewer."""
    shapes = [value.shape for value in values]
    # A loop would read on past the end of the smaller ones.
    if shapes.count(shapes[0]) != weights or len(shapes) != weights or weights > MOST:
        raise ValueError(f"{weights} weights for arrays of the shapes {shapes}: as many, up to {MOST}, of one shape")
    first, *others = (value.reshape(-1) for value in values)
    second, third = (*others, first, first)[: MOST - 1]
    return first, second, third


def _all(weights: Sequence[float]) -> Floats:
    """Three weights: 0 where there are fewer."""
    return np.array((*weights, 0.0, 0.0)[:MOST])


@compiled
def _mix(first: Floats1, second: Floats1, third: Floats1, weights: Floats1, made: Floats1) -> None:
    """`mixed`."""
    for place in range(len(first)):
        value = weights[0] * first[place] + weights[1] * second[place] + weights[2] * third[place]
        made[place] = value if value > 0 else first[place]


@compiled
def _mix_from_nothing(first: Floats1, second: Floats1, third: Floats1, weights: Floats1, made: Floats1) -> None:
    """`mixed_from_nothing`."""
    for place in range(len(first)):
        value = weights[0] * first[place] + weights[1] * second[place] + weights[2] * third[place]
        made[place] = 0.0 if value < 0 else value
