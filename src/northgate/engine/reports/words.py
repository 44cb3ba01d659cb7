"""A drill in words: its events, and what it comes to."""

from collections.abc import Callable

from northgate.engine.drill import DrillRun, Event

MECHANISM_WORDS = {
    "waiting": "wait for verdicts of probes",
    "dead_front": "meet a dead front",
    "old_answers": "follow old answers of names",
    "overload": "meet full queues",
    "none_healthy": "find nobody in use",
    "blocked": "are blocked",
    "by_rule": "are turned away by a rule",
    "idle": "meet a connection just closed for being idle",
}


def _all(event: Event) -> str:
    return ", ".join(event.about)


def _judged(event: Event) -> str:
    return "back in use" if event.facts["in_use"] else "out"


def _scaled(event: Event) -> str:
    seen = "{fleet}: {in_use} in use at {load:.0%}, {wanted} wanted: {does} ".format(**event.facts)
    return seen + _all(event)


def _by_hand(event: Event) -> str:
    facts = event.facts
    return f"{facts['fleet']} is to have {facts['wanted']}, has {facts['in_use']}: {facts['does']} {_all(event)}"


def _left_or_joined(event: Event) -> str:
    balancer, zone = event.about
    if event.facts["floats"]:
        return f"the {zone} front {'takes over' if event.facts['joins'] else 'loses'} the address of {balancer}"
    return f"the {zone} front {'joins' if event.facts['joins'] else 'leaves'} the address of {balancer}"


def _fell(event: Event) -> str:
    fall = "falls to its load" if len(event.about) == 1 else "fall to their load"
    trigger = trigger_words(event.facts["trigger"])
    return f"{_all(event)} {fall}: a cascade" + (f", set off as {trigger}" if trigger else "")


_WORDS: dict[str, Callable[[Event], str]] = {
    "surge": lambda event: f"{event.about[0]} ask {event.facts['factor']:g} times as much",
    "fail": lambda event: f"{event.about[0]} is lost",
    "restore": lambda event: f"{event.about[0]} is back",
    "drain": lambda event: f"{event.about[0]} drains",
    "undrain": lambda event: f"{event.about[0]} is back from draining",
    "scale": _scaled,
    "scaled": _by_hand,
    "remove": lambda event: f"{event.about[0]} is terminated, and never returns",
    "expire": lambda event: f"certificate {event.about[0]} expires",
    "change_answers": lambda event: f"{event.about[0]} answers {event.facts['answers']} from now on",
    "registered": lambda event: f"{_all(event)} are registered",
    "roll": lambda event: f"{_all(event)} of {event.facts['group']} leave to be restarted",
    "rolled": lambda event: f"all of {event.about[0]} have been restarted",
    "front": _left_or_joined,
    "answer": lambda event: f"{event.about[1]} {_judged(event)}, says {event.facts['area']} of {event.about[0]}",
    "verdict": lambda event: "{} {}, says {balancer} in {zone}".format(_all(event), _judged(event), **event.facts),
    "unseen": lambda event: f"no probe asks about what is lost at {_all(event)}",
    "cascade": _fell,
}


def message(event: Event) -> str:
    """An event in words."""
    return _WORDS[event.kind](event)


def trigger_words(trigger: Event | None) -> str | None:
    """What set off a cascade."""
    return f"{message(trigger)} at {trigger.at_s:g} s" if trigger else None


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
