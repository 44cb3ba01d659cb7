"""Keyframes between events, so that what was taken in one can be drawn."""

from collections.abc import Callable
from operator import attrgetter

import numpy as np
from msgspec.structs import asdict, replace

from northgate.engine.base import Bools, Floats, Ints, distinct, same
from northgate.engine.drill.ahead.steps import Step, Stretch
from northgate.engine.drill.readings import latency_at_end_s, peaking_in
from northgate.engine.drill.result import Ends, Keyframe, Turns
from northgate.engine.drill.stairs import Climbed
from northgate.engine.processes import Anew, Backlogs, Holdings
from northgate.engine.solver import Flow

# What of a keyframe is read off a straight line, and where it stands in a flow.
EVENLY = {
    "zone_served": "zone_served", "cause_rps": "cause_rps", "mechanism_rps": "mechanism_rps",
    "latency_s": "mean_latency_s",
}  # fmt: skip
# Seconds closer to each other than this are the same.
SAME_S = 1e-6
# Stairs are drawn step by step, as long as that takes no more than so many bytes; but at least so many of them.
DRAWN_BYTES, DRAWN = 2**26, 64


def on_the_way(
    first: Keyframe, ahead: Stretch, second: float, anew: Anew, holdings: Holdings, backlogs: Backlogs
) -> list[Keyframe]:
    """The first keyframe and those on the way to a second, to which was looked in one; each knows where it leads to.

    Rates that go evenly from the first to the end, past their mean half-way, are read off the straight line, at the
    seconds at which the shares of old answers would be looked at.
    """
    resolvers = anew.resolvers
    stale = resolvers.stale_shares(second, first.state.call_rps)
    if ahead.step:
        return [replace(first, ends=_led_to(ahead.step, second, stale))]
    if ahead.evenly and ahead.then:
        return [replace(first, ends=_ends(ahead.then, stale))]
    if not ahead.evenly:
        return [stays(first, ahead.parts[0][0], backlogs.after(second - first.t_s), stale)]
    mean, made, at_s = ahead.parts[0][0], [first], resolvers.next_s(first.t_s)

    def on_the_line(at_s: float) -> Ends:
        past_s = at_s - first.t_s
        part = 2 * past_s / (second - first.t_s)
        old = resolvers.stale_shares(at_s, first.state.call_rps)
        return _on_the_line(first, mean, part, old, backlogs.after(past_s))

    while at_s < second - SAME_S:
        past_s, rates = at_s - first.t_s, on_the_line(at_s)
        held = holdings.after(ahead.opens, past_s)
        answers, backlog_s = anew.answers(at_s, held, ahead.opened), backlogs.after(past_s)
        state = replace(first.state, answers=answers, held=held, backlog_s=backlog_s)
        failed = first.failed + float((first.cause_rps + rates.cause_rps).sum()) / 2 * past_s
        made.append(replace(first, t_s=at_s, state=state, failed=failed, **asdict(rates)))
        at_s = resolvers.next_s(at_s)
    ends = [*map(_met, made[1:]), on_the_line(second)]
    return [replace(one, ends=end) for one, end in zip(made, ends, strict=True)]


def _on_the_line(first: Keyframe, mean: Flow, part: float, stale: Floats, later_s: Floats) -> Ends:
    """Rates that go evenly from a keyframe past their mean half-way (at part 1); so do all latencies taken together,
    but not their mean. Backlogs, which are `later_s` then, do not: what they add is added."""
    slow = first.latency_s * first.zone_served.sum()
    zones, causes, mechanisms, used, slow, backlog_s = (
        now + (then - now) * part
        for now, then in (
            (first.zone_served, mean.zone_served), (first.cause_rps, mean.cause_rps),
            (first.mechanism_rps, mean.mechanism_rps), (first.utilisation, mean.queue.utilisation),
            (slow, mean.latency_sum), (first.state.backlog_s, mean.state.backlog_s),
        )
    )  # fmt: skip
    served = zones.sum()
    more_s = latency_at_end_s(mean, mean.state.backlog_s + later_s - backlog_s) - mean.mean_latency_s
    latency_s = float(slow / served + more_s) if served > 0 else 0.0
    return Ends(zones, causes, mechanisms, used, latency_s, stale)


def stays(first: Keyframe, flow: Flow, later_s: Floats, stale: Floats | None = None) -> Keyframe:
    """A keyframe from which on all goes as in a flow, until backlogs are `later_s`: where these have changed, answers
    take longer, or less long."""
    if same(later_s, first.state.backlog_s):
        return first
    ends = _ends(flow, first.stale if stale is None else stale)
    return replace(first, ends=replace(ends, latency_s=latency_at_end_s(flow, later_s)))


def _led_to(step: Step, second: float, stale: Floats) -> Ends:
    """The rates at a second in a step, on the parabola through its flows."""
    first, middle, last = step.weights(second)
    one, other, then = step.flows

    def at(rates: Callable[[Flow], Floats]) -> Floats:
        return np.maximum(first * rates(one) + middle * rates(other) + last * rates(then), 0.0)

    rates = {name: at(attrgetter(of)) for name, of in EVENLY.items() if name != "latency_s"}
    peaks = at(peaking_in(step))
    return Ends(**rates, utilisation=peaks[1:], latency_s=float(peaks[0]), stale=stale)


def _ends(flow: Flow, stale: Floats) -> Ends:
    """The rates of a flow that is where a line ends."""
    lines = {name: getattr(flow, of) for name, of in EVENLY.items()}
    return Ends(**lines, utilisation=flow.queue.utilisation, stale=stale)


def _met(frame: Keyframe) -> Ends:
    """What rates have come to just before a keyframe at which nothing jumps."""
    return Ends(*(getattr(frame, name) for name in Ends.__struct_fields__))


def on_the_stairs(
    first: Keyframe, climbed: Climbed, pairs: Ints, in_use: Callable[[int], Bools]
) -> list[Keyframe]:  # fmt: skip
    """The first keyframe and those on the way up stairs, without the last step. `pairs`: the pair of each prober;
    `in_use`: what is in use after a step."""
    stairs = climbed.stairs
    steps = _drawn(stairs.steps, first.utilisation.nbytes + first.state.in_use.nbytes)
    rates = {name: climbed.after(_reader(of), steps) for name, of in EVENLY.items()}
    utilisation = climbed.after(lambda flow: flow.queue.utilisation, steps)
    failing = climbed.after(lambda flow: flow.cause_rps).sum(axis=1)
    failed = first.failed + np.concatenate([[0.0], np.cumsum(failing[:-1] * np.diff(stairs.at_s))])
    made = [
        replace(
            first,
            t_s=float(stairs.at_s[step]),
            state=replace(first.state, in_use=in_use(step)),
            utilisation=utilisation[place],
            failed=float(failed[step]),
            zone_served=rates["zone_served"][place],
            cause_rps=rates["cause_rps"][place],
            mechanism_rps=rates["mechanism_rps"][place],
            latency_s=float(rates["latency_s"][place, 0]),
        )
        for place, step in enumerate(steps.tolist())
    ]
    then = in_use(stairs.steps)
    for place, (step, next_step) in enumerate(zip(steps.tolist(), [*steps[1:].tolist(), stairs.steps], strict=True)):
        left_out = stairs.turns[step : next_step - 1]
        if left_out:
            at_s = np.repeat(stairs.at_s[step + 1 : next_step], [len(turn) for turn in left_out])
            turned = pairs[np.concatenate(left_out)]
            made[place] = replace(made[place], turns=Turns(at_s, turned, then[turned]))
    return made


def _drawn(steps: int, size: int) -> Ints:
    """Which steps are drawn if each takes so many bytes: the first, and not the last."""
    count = min(steps, max(DRAWN, DRAWN_BYTES // max(size, 1)))
    return distinct(np.linspace(0, steps, count, endpoint=False).astype(np.int64))


def _reader(name: str) -> Callable[[Flow], Floats]:
    return lambda flow: getattr(flow, name)
