"""How often a call is tried that is repeated as long as it fails."""

from northgate.engine.base import part


@part
def repeated(fails: float, repeats: float) -> tuple[float, float, float]:
    """Of one call: 1 + p + ... + p^r; 1 + 2 p + ... + r p^(r-1), how many failed attempts it has behind it when it is
    served, summed over its attempts (times the share that one serves and the chance that one fails); and p^r."""
    tries, before, power = 1.0, 0.0, 1.0
    for number in range(1, int(repeats) + 1):
        before += number * power
        power *= fails
        tries += power
    return tries, before, power
