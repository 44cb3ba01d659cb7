"""Outcomes of drills, traces, losses and sizing for a terminal."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import asdict
from typing import TYPE_CHECKING

# What a command does not ask for is not loaded: a summary needs but the types of what it sums up.
if TYPE_CHECKING:
    from northgate.change import RehearsalAnswer, UsualChange
    from northgate.cost import CostAnswer
    from northgate.engine.reports import BlindAnswer, DrillAnswer, ExpectationAnswer, LeverAnswer
    from northgate.engine.reports.losses import Headroom
    from northgate.engine.trace import Candidate, Outcome, TraceAnswer
    from northgate.intake import TakenIn
    from northgate.losses import LossesAnswer
    from northgate.sizing import MinimumSize, ProbeSize, SizeAnswer, SizingAnswer, TtlSize, ZonesSize
    from northgate.sweep import SweepAnswer

# A share below this is none.
LITTLE = 5e-7
_UNITS = {"s": "s", "ms": "ms", "share": "%", "utilisation": "%"}
WORST_ROWS, RANKED = 8, 25


def drill_summary(answer: DrillAnswer) -> str:
    """Readings, expectations and the longest blind times, in lines of at most 100 characters."""
    lines = [f"{answer.name}" + (f" · {answer.title}" if answer.title else ""), "", f"  {answer.summary}", ""]
    lines += aligned(_reading_rows(answer))
    if answer.expect:
        held = sum(one.held for one in answer.expect)
        lines += ["", f"  held {held} of {len(answer.expect)} expectations"]
        lines += aligned([_expectation_row(one) for one in answer.expect])
    lines += _blind_lines([row for row in answer.blind if row.change == "down"])
    return "\n".join(lines)


def lever_lines(levers: Sequence[LeverAnswer] | None) -> str:
    """What would have helped, in lines; nothing where that was not asked."""
    if levers is None:
        return ""
    if not levers:
        return "\n\n  no single setting would have helped"
    rows = [(f"{one.words} ({one.price})", f"{one.fewer_failed:,.0f} fewer fail") for one in levers]
    return "\n".join(["", "", "  what would have helped", *aligned(rows)])


def in_unit(reading: str, value: float) -> str:
    """A reading's value with its unit: shares in per cent, times in seconds or milliseconds."""
    unit = next((sign for ending, sign in _UNITS.items() if reading.endswith(f"_{ending}")), "")
    if unit == "%":
        return f"{value:.2%}".replace("%", " %")
    if unit:
        return f"{value:,.2f} {unit}"
    return f"{value:,.0f}"


def _reading_rows(answer: DrillAnswer) -> list[tuple[str, str]]:
    readings = asdict(answer.readings)
    causes = readings.pop("failed_by_cause")
    readings.pop("failed_by_mechanism")
    settled, rows = readings.pop("settled"), []
    for name, value in readings.items():
        unsettled = name == "settled_s" and not settled
        rows.append((name, in_unit(name, value) + (", and not settled by its end" if unsettled else "")))
        if name == "failed":
            rows += [(f"  {cause}", in_unit(cause, count)) for cause, count in causes.items() if count]
    return rows


def _expectation_row(one: ExpectationAnswer) -> tuple[str, str]:
    return (f"{'held    ' if one.held else 'NOT HELD'} {one.reading} {one.wanted}", f"got {one.got:.6g}")


def _blind_lines(rows: list[BlindAnswer]) -> list[str]:
    if not rows:
        return []
    worst = sorted(rows, key=lambda row: -row.blind_s)[:WORST_ROWS]
    more = f" ({len(worst)} of {len(rows)})" if len(rows) > len(worst) else ""
    rows_of_text = aligned(
        (
            f"{row.target} at {row.balancer} {row.front}",
            f"{row.blind_s:.2f} s, {_possible(row)}",
        )
        for row in worst
    )
    return ["", f"  longest blind times{more}", *rows_of_text]


def _possible(row: BlindAnswer) -> str:
    """How long a belief could be wrong."""
    if row.earliest_s is None or row.latest_s is None:
        return "unseen: no probe asks about it"
    noticed = "" if row.believed_at_s is not None else ", never noticed"
    return f"possible {row.earliest_s:g} to {row.latest_s:g} s{noticed}"


def aligned(rows: Iterable[tuple[str, str]]) -> list[str]:
    """Rows of a label and a value, the values below each other."""
    rows = list(rows)
    width = max((len(label) for label, _ in rows), default=0)
    return [f"    {label:<{width}}  {value}" for label, value in rows]


WORDS = {"timed_out": "time-out", "no_such_name": "no such name", "dead_front": "dead front"}
MOST_CANDIDATES = 12


def ending(outcome: Outcome) -> str:
    """How a request ends, in few words: `504 after 3.04 s`."""
    took = f"{outcome.latency_ms / 1000:.3g} s" if outcome.latency_ms >= 1000 else f"{outcome.latency_ms:.3g} ms"
    error = WORDS.get(outcome.error or "", (outcome.error or "answers").replace("_", " "))
    return f"{outcome.status if outcome.status is not None else error} after {took}"


def trace_summary(answer: TraceAnswer) -> str:
    """A trace in lines: how it ends and why, its hops, what was left out, and how often each target answered."""
    lines = [f"{ending(answer.outcome)}: {answer.outcome.reason}", ""]
    for hop in answer.hops:
        lines.append(f"  {'✓' if hop.ok else '✗'} {hop.kind:<8}  {hop.about}  {hop.detail}".rstrip())
        lines.append(
            f"              because {hop.because}" + (f"  ({hop.latency_ms:.4g} ms)" if hop.latency_ms else "")
        )
        if hop.remedy:
            lines.append(f"              would help: {hop.remedy.words}")
        if len(hop.candidates) > 1:
            lines += _candidate_lines(hop.candidates)
    for one in answer.explained:
        change = f"; to change it: {one.remedy.words}" if one.remedy else ""
        lines += ["", f"  {one.puzzle}", f"    {one.words}{change}"]
    if answer.expected:
        sent = len(answer.sequence)
        rows = [
            (f"{row.answer} {row.error or ''}", f"{row.count:>6} of {sent}, expected {row.expected_share * sent:.1f}")
            for row in answer.expected
        ]
        lines += ["", f"  sent {sent} times", *aligned(rows)]
    return "\n".join(lines)


def _candidate_lines(candidates: list[Candidate]) -> list[str]:
    shown = [one for one in candidates if one.chosen or one.share > 0 or one.excluded][:MOST_CANDIDATES]
    rows = [
        (f"{'→' if one.chosen else ' '} {one.name}", f"{one.share:>6.1%}  {one.excluded or one.note or ''}".rstrip())
        for one in shown
    ]
    more = [f"              … and {len(candidates) - len(shown)} more"] if len(candidates) > len(shown) else []
    return [f"          {line}" for line in aligned(rows)] + more


def losses_summary(answer: LossesAnswer) -> str:
    """The costliest losses, headroom and a year, in lines."""
    rows = [
        (
            one.words,
            f"{one.failed_requests:,.0f} fail, {in_unit('unserved_share', one.unserved_share)} unserved, busiest "
            f"{in_unit('peak_utilisation', one.peak_utilisation)}" + (", cascade" if one.cascade else ""),
        )
        for one in answer.losses[:RANKED]
    ]
    more = f" ({len(rows)} of {len(answer.losses)})" if len(answer.losses) > len(rows) else ""
    room = [(f"{one.words} lost", _room(one)) for one in answer.headroom]
    year = answer.year
    failing = [
        (f"{one.words}{' (assumed)' if one.assumed else ''}", f"{one.failed_requests:,.0f}")
        for one in year.by_part[:WORST_ROWS]
    ]
    return "\n".join(
        [
            f"losses, by what fails within an hour{more}", *aligned(rows), "", "headroom", *aligned(room), "",
            f"a year: {year.failed_requests:,.0f} requests fail, {year.availability:.6%} are served; of them by",
            *aligned(failing),
        ]
    )  # fmt: skip


def _room(one: Headroom) -> str:
    if one.factor is None:
        return "nothing is ever overloaded"
    return f"overload from {one.factor:.3g} times the load, at {one.limit}"


def sizing_summary(answer: SizingAnswer) -> str:
    """How much is enough, in lines."""
    lines = []
    if answer.sizes:
        lines += ["instances", *aligned([_size_row(one) for one in answer.sizes])]
    if answer.zones:
        lines += ["zones", *aligned([_zones_row(one) for one in answer.zones])]
    if answer.probes:
        lines += ["probes", *aligned([_probe_row(one) for one in answer.probes])]
    if answer.ttls:
        lines += ["names", *aligned([_ttl_row(one) for one in answer.ttls])]
    if answer.minimums:
        lines += ["minimums of autoscaled fleets", *aligned([_minimum_row(one) for one in answer.minimums])]
    return "\n".join(lines) or "There is nothing to size."


def _not_enough(what: str, failed: float, *, decides: bool) -> str:
    if not decides:
        return f"{failed:,.0f} fail at most, whatever its {what}: something else decides"
    return f"no {what} is short enough: {failed:,.0f} fail even so"


def _minimum_row(one: MinimumSize) -> tuple[str, str]:
    if one.needed is None:
        return one.fleet, "no number is enough"
    return one.fleet, f"{one.now} now, {one.needed} needed: {one.failed_now:,.0f} fail now, {one.failed:,.0f} then"


def _size_row(one: SizeAnswer) -> tuple[str, str]:
    lost = " ".join(str(value) for value in (one.evidence.lost or {}).values())
    used = in_unit("peak_utilisation", one.evidence.peak_utilisation)
    enough = "no number is enough" if one.needed is None else f"{one.now} now, {one.needed} needed"
    told = f"{enough}; without {lost or 'nothing'} the busiest is at {used}"
    if one.unserved > LITTLE:
        told += f", and {in_unit('unserved_share', one.unserved)} of all stays unserved at worst"
    return f"{one.fleet} in {one.zone}", told


def _zones_row(one: ZonesSize) -> tuple[str, str]:
    if one.needed is None:
        return one.fleet, f"{one.now} zones are not enough"
    return (
        one.fleet,
        f"{one.now} zones now, {one.needed} needed, with {one.instances} instances instead of {one.instances_now}",
    )


def _probe_row(one: ProbeSize) -> tuple[str, str]:
    if one.interval_s is None or not one.decides:
        return one.probe, _not_enough("interval", one.failed, decides=one.decides)
    return (
        one.probe,
        f"every {one.interval_s:g} s, out after {one.unhealthy_after} fails: {one.failed:,.0f} fail at most",
    )


def _ttl_row(one: TtlSize) -> tuple[str, str]:
    if one.ttl_s is None or not one.decides:
        return one.name, _not_enough("TTL", one.failed, decides=one.decides)
    return one.name, f"TTL {one.ttl_s:g} s: {one.failed:,.0f} fail at most"


def change_summary(answer: RehearsalAnswer) -> str:
    """A change, rehearsed, in lines."""
    if not answer.steps:
        return "nothing is to be done"
    back = {one.from_step: one for one in answer.rollback}
    lines = ["steps, and what fails at each"]
    for number, one in enumerate(answer.steps):
        needs = f", after {', '.join(map(str, one.needs))}" if one.needs else ""
        waits = f", then {one.waits_s:g} s" if one.waits_s else ""
        lines.append(f"  {number:>3}  at {one.at_s:g} s: {one.words}{needs}{waits}; {one.failed:,.0f} fail")
    lines += aligned([(name.replace("_", " "), in_unit(name, value)) for name, value in answer.readings.items()])
    lines.append(f"the worst second: {answer.worst.failed_rps:,.1f}/s fail at {answer.worst.at_s:g} s")
    lines.append(f"all at once: {answer.at_once['failed']:,.0f} fail within {answer.at_once['lasts_s']:g} s")
    if back:
        last = back[len(answer.steps) - 1]
        lines.append(f"all the way back: {last.failed:,.0f} fail within {last.lasts_s:g} s")
    return "\n".join([*lines, *answer.warnings])


def usual_summary(changes: Sequence[UsualChange]) -> str:
    """The usual changes that can be made of a plan, and what each asks for."""
    lines = []
    for one in changes:
        asks = " ".join(f"{ask.name}={ask.given}" for ask in one.asks)
        lines += [f"{one.code} {asks}", f"    {one.title}: {one.says}"]
    return "\n".join(lines or ["nothing can be changed yet: the plan has no targets"])


def intake_summary(taken: TakenIn, form: str) -> str:
    """What has come into a plan, in lines."""
    lines = [f"{form}: {', '.join(taken.added)}", *taken.notes]
    if taken.bad.count:
        lines.append(f"{taken.bad.count:,} of {taken.read:,} could not be taken in, such as")
        lines += [f"  line {number}: {said}" for number, said in taken.bad.first]
    return "\n".join(lines)


def money(value: float | None) -> str:
    """An amount of money; a dash where it is not known."""
    return "–" if value is None else f"{value:,.2f}"


def cost_summary(answer: CostAnswer) -> str:
    """What a plan costs, in lines."""
    rows = [(f"{one.about} ({one.kind})", f"{one.month:,.2f}, {one.amount:,.1f} at {one.price}") for one in answer.parts
            if one.amount > 0]  # fmt: skip
    lines = [
        f"{answer.month:,.2f} a month ({answer.hour:,.4f} an hour), {answer.idle_month:,.2f} when idle",
        *aligned(rows),
    ]
    missing = f"no price is given for: {', '.join(answer.missing)}"
    return "\n".join([*lines, *([missing] if answer.missing else [])])


def sweep_summary(answer: SweepAnswer) -> str:
    """A reading over one or two settings, as a table; the cells of the trade-off front are starred."""
    rows, front = answer.axes[0], {tuple(one) for one in answer.front}
    columns = answer.axes[1].values if len(answer.axes) > 1 else [None]
    heads = [f"{rows.path} \\ {answer.axes[1].path}" if len(answer.axes) > 1 else rows.path]
    heads += [f"{value:g}" if value is not None else "" for value in columns]
    table = [heads]
    for i, value in enumerate(rows.values):
        cells = [
            ("–" if cell is None else f"{cell:,.6g}") + ("*" if (i, j) in front else "")
            for j, cell in enumerate(answer.values[i])
        ]
        table.append([f"{value:g}", *cells])
    widths = [max(len(row[at]) for row in table) for at in range(len(heads))]
    return "\n".join("  ".join(text.rjust(width) for text, width in zip(row, widths, strict=True)) for row in table)
