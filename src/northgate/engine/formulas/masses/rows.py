"""What the loops over masses share: in which order ways are told, and how closely masses are followed."""

from northgate.engine.base import Floats1, part

# Rows of `Openings.ways`.
OPENS, AGAIN, BOUND, SERVED = range(4)

# Where what is held and what is bound differ by less than this part, all who are bound hold one.
TIED = 1e-9


@part
def waits(held: float, bound: float) -> bool:
    """Whether anybody who is bound to a place has no connection there; of those who are connected there without being
    bound there, who count as bound, each stays until his connection ends."""
    return held < bound * (1 - TIED)


@part
def pace(moves: float, drawn: float, speed: float, longest: float, limits: Floats1, made: Floats1) -> None:
    """So much moves, and so much that is drawn, at one speed; steps as long as `longest` are none."""
    step, small, still, relaxed, seen = limits[0], limits[2], limits[3], limits[4], limits[5]
    if speed > 0 and moves > still:
        then = (step if moves > small else relaxed) / speed
        made[0] = min(made[0], then) if then < longest else made[0]
    if speed > 0 and drawn > seen:
        made[1] = min(made[1], step / speed)
