"""Plans side by side, for a terminal."""

from collections.abc import Sequence

from northgate.compare import Both, CompareAnswer, LossesMoved
from northgate.handover.terminal import aligned, in_unit, money

# What is told of each drill where many plans stand side by side.
MATRIX = ("failed", "failed_share", "worst_blind_s", "peak_utilisation")
NOTHING = Both(a=None, b=None)


def compare_summary(answer: CompareAnswer) -> str:
    """Two plans side by side, in lines."""
    lines = ["what differs", *(f"    {one.words}" + (" (replaces it)" if one.how == "replace" else "") for one in
                               answer.differences)]  # fmt: skip
    for one in answer.drills:
        shown = [(name, _maybe(name, both.a), _maybe(name, both.b)) for name, both in one.readings.items()]
        held = {True: "held", False: "not held", None: "cannot be run"}
        lines += [f"drill {one.name}: {held[one.held.a]} before, {held[one.held.b]} after"]
        lines += aligned([(name, f"{a} → {b}") for name, a, b in shown if a != b])
    month = answer.cost_month
    missing = f", without {', '.join(answer.prices_missing)}: no price is given" if answer.prices_missing else ""
    lines += [f"cost a month: {money(month.a)} → {money(month.b)}{missing}"]
    for title, some in (("findings gained", answer.findings.gained), ("findings lost", answer.findings.lost)):
        lines += (
            [title, *(f"    {one.severity} {one.code} of {one.about}: {one.message}" for one in some)] if some else []
        )
    return "\n".join(lines)


def losses_moved_summary(moved: LossesMoved) -> str:
    """Losses that cost otherwise, in lines."""
    lines = []
    for title, some in (
        ("losses gained", moved.gained),
        ("losses lost", moved.lost),
        ("losses changed", moved.changed),
    ):
        lines += (
            [title, *aligned([(one.words, f"{_amount(one.a)} → {_amount(one.b)}") for one in some])] if some else []
        )
    return "\n".join(lines or ["every loss costs the same"])


def matrix_summary(names: Sequence[str], answers: Sequence[CompareAnswer]) -> str:
    """Plans as columns, the first before those that were compared with it; a row for each drill's main readings."""
    rows = [["", *names]]
    for drill in dict.fromkeys(one.name for answer in answers for one in answer.drills):
        for reading in MATRIX:
            boths = [_reading(answer, drill, reading) for answer in answers]
            cells = [next((one.a for one in boths if one.a is not None), None), *(one.b for one in boths)]
            rows.append([f"{drill}: {reading.replace('_', ' ')}", *(_maybe(reading, one) for one in cells)])
    months = [answer.cost_month for answer in answers]
    rows.append(["cost a month", money(months[0].a), *(money(one.b) for one in months)])
    widths = [max(len(one[place]) for one in rows) for place in range(len(rows[0]))]
    lines = (
        "  ".join([words.ljust(widths[0]), *(cell.rjust(width) for cell, width in zip(cells, widths[1:], strict=True))])
        for words, *cells in rows
    )
    return "\n".join(lines)


def _reading(answer: CompareAnswer, drill: str, reading: str) -> Both:
    """A reading of a drill on both plans."""
    return next((one.readings.get(reading, NOTHING) for one in answer.drills if one.name == drill), NOTHING)


def _amount(requests: float | None) -> str:
    return "no such part" if requests is None else f"{requests:,.0f} fail"


def _maybe(name: str, value: float | None) -> str:
    return "–" if value is None else in_unit(name, value)
