"""A drill in words."""

from northgate.engine.drill import DrillRun

MECHANISM_WORDS = {
    "waiting": "wait for verdicts of probes",
    "dead_front": "meet a dead front",
    "old_answers": "follow old answers of names",
    "overload": "meet full queues",
    "none_healthy": "find nobody in use",
    "blocked": "are blocked",
    "by_rule": "are turned away by a rule",
}


def summary(run: DrillRun) -> str:
    """The drill in one sentence that a person would say."""
    readings = run.readings
    if readings.failed < 0.5:
        return f"No request fails; the busiest target comes to {readings.peak_utilisation:.0%}.".replace("%", " %")
    failing = [frame for frame in run.keyframes if frame.cause_rps.sum() > 1e-9]
    ends = [*(frame.t_s for frame in run.keyframes[1:]), run.drill.lasts_s]
    spans = [end - frame.t_s for frame, end in zip(run.keyframes, ends, strict=True) if frame.cause_rps.sum() > 1e-9]
    parts = sorted(readings.failed_by_mechanism.items(), key=lambda one: -one[1])
    words = [
        f"{count / readings.failed:.0%} {MECHANISM_WORDS[name]}".replace("%", " %")
        for name, count in parts[:2]
        if count > 0.005 * readings.failed
    ]
    more = f" Overload takes out {run.cascade.target} too: a cascade." if run.cascade else ""
    return (
        f"{readings.failed:,.0f} requests fail over {sum(spans):,.0f} s; {', '.join(words)}.{more}" if failing else ""
    )
