"""Numbers as people write them."""


def clock(second: float) -> str:
    """A second of a drill as minutes and seconds: 1:25."""
    whole = int(second)
    return f"{whole // 60}:{whole % 60:02d}"


def per_cent(share: float) -> str:
    """A share as a person writes it: 34 %."""
    return f"{share * 100:.3g} %"


def short(seconds: float) -> str:
    """A span of time to a tenth of a second: 6 s, 0.1 s."""
    return f"{round(seconds, 1):g} s"


def in_numbers(name: str) -> tuple[str, int, str]:
    """Sorts tiles-2 before tiles-10."""
    head, _, tail = name.rpartition("-")
    return (head, int(tail), name) if tail.isdigit() else (name, 0, name)
