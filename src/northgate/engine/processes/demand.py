"""How much clients ask for."""

from collections.abc import Sequence


def profile_factor(profile: Sequence[Sequence[float]], second: float) -> float:
    """The factor in force at a second: that of the last step of the profile up to it, 1 before the first."""
    factor = 1.0
    for start, value in profile:
        if start <= second:
            factor = value
    return factor
