"""Keyframes between events, so that a stretch that was taken in one can be drawn."""

from dataclasses import replace

from northgate.engine.drill.look_ahead import Stretch
from northgate.engine.drill.result import Keyframe
from northgate.engine.processes import Backlogs, Holdings, Resolvers

# What of a keyframe is read off a straight line, and where it stands in a flow.
EVENLY = {
    "zone_served": "zone_served", "cause_rps": "cause_rps", "mechanism_rps": "mechanism_rps",
    "latency_s": "mean_latency_s",
}  # fmt: skip
# Seconds closer to each other than this are the same.
SAME_S = 1e-6


def on_the_way(
    first: Keyframe, ahead: Stretch, second: float, resolvers: Resolvers, holdings: Holdings, backlogs: Backlogs
) -> list[Keyframe]:
    """Keyframes on the way from one to a second, to which was looked in one.

    Rates go evenly from the first to the end, past their mean half-way; so they are read off the straight line, at the
    seconds at which the shares of old answers would be looked at.
    """
    if not ahead.evenly:
        return []
    mean, seconds, made = ahead.parts[0][0], second - first.t_s, list[Keyframe]()
    at_s = resolvers.next_s(first.t_s)
    while at_s < second - SAME_S:
        past_s = at_s - first.t_s
        part = 2 * past_s / seconds
        rates = {
            name: getattr(first, name) + (getattr(mean, of) - getattr(first, name)) * part
            for name, of in EVENLY.items()
        }
        state = replace(
            first.state,
            answers=resolvers.answers(at_s),
            held=holdings.after(ahead.opens, past_s),
            backlog_s=backlogs.after(past_s),
        )
        made.append(
            replace(
                first,
                t_s=at_s,
                state=state,
                utilisation=first.utilisation + (mean.queue.utilisation - first.utilisation) * part,
                stale=resolvers.stale_shares(at_s, state.call_rps),
                failed=first.failed + float((first.cause_rps + rates["cause_rps"]).sum()) / 2 * past_s,
                **rates,
            )
        )
        at_s = resolvers.next_s(at_s)
    return made
