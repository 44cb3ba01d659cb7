"""A change of a plan, rehearsed: each step is a drill of its own, which ends when what the step began has settled.

What a step changes is there at once, but not what takes its time: ways to targets that were not there before have to be
proven, and records of names fade in with their TTL. Each step begins where the one before has settled; one that is
taken earlier is told so, as what the two do to each other is not computed.
"""

import math
from bisect import bisect_right
from collections.abc import Callable, Sequence

import numpy as np
from msgspec import Struct

from northgate.change.assumed import begun
from northgate.change.edits import ChangeStep
from northgate.change.steps import steps_between
from northgate.engine.base import CannotRun, Floats
from northgate.engine.drill import DrillRun, Keyframe, run_drill, ways_of
from northgate.engine.network import compile_network
from northgate.engine.reports import AnswerModel
from northgate.engine.solver import Flow
from northgate.plan import Plan, Problem
from northgate.plan.models.drills import ChangeAnswers, Drill, Step, Surge
from northgate.plan.models.traffic import DnsEntry

# A step is taken so long after its drill has begun; it is looked at for so long at most.
LEAD_S, AT_MOST_S = 1.0, 900.0

Told = Callable[[int, int], None]


class StepAnswer(AnswerModel):
    """One step: when it is taken, in words, the numbers of the steps that must come before, for how long it is waited
    then, and what fails meanwhile."""

    at_s: float
    words: str
    needs: list[int]
    waits_s: float
    failed: float


class Worst(AnswerModel):
    """The worst moment of a change, and how much fails then."""

    at_s: float
    failed_rps: float


class Rollback(AnswerModel):
    """The way back right after a step: all that fails on it, and how long it takes."""

    from_step: int
    failed: float
    lasts_s: float


class ChangeSeries(AnswerModel):
    """What is served and what fails over the change, from each second on, and what they have come to just before the
    next one, or the end, to which they go along a straight line."""

    t_s: list[float]
    served_rps: list[float]
    failed_rps: list[float]
    served_before_rps: list[float]
    failed_before_rps: list[float]


class RehearsalAnswer(AnswerModel):
    """A change from one plan to another, rehearsed."""

    steps: list[StepAnswer]
    readings: dict[str, float]
    worst: Worst
    rollback: list[Rollback]
    at_once: dict[str, float]
    warnings: list[str]
    series: ChangeSeries


class _Taken(Struct, frozen=True):
    """A step that has been taken: its drill, and how long until it has settled (s)."""

    run: DrillRun
    waits_s: float

    @property
    def failed(self) -> float:
        """What fails until it has settled, of what it began."""
        return self.run.failed_by(LEAD_S + self.waits_s) - self.run.failed_by(LEAD_S)

    def lines(self) -> list["_Line"]:
        """What is served and what fails, from keyframe to keyframe until it has settled."""
        frames, until_s = self.run.keyframes, LEAD_S + self.waits_s
        nexts = [*(one.t_s for one in frames[1:]), self.run.drill.lasts_s]
        return [
            _line(frame, next_s, until_s)
            for frame, next_s in zip(frames, nexts, strict=True)
            if next_s > LEAD_S and frame.t_s <= until_s
        ]


class _Line(Struct, frozen=True):
    """What is served and what fails (requests/s) from a second of a drill on, and just before another."""

    begins_s: float
    ends_s: float
    served_rps: tuple[float, float]
    failed_rps: tuple[float, float]

    @property
    def asked(self) -> float:
        """All requests until then."""
        return (sum(self.served_rps) + sum(self.failed_rps)) / 2 * (self.ends_s - self.begins_s)


def _line(frame: Keyframe, next_s: float, until_s: float) -> _Line:
    """What goes on from a keyframe, or the second of the step in it, to the next one, or until a second before that."""
    ends, within_s = frame.ends or frame, (max(frame.t_s, LEAD_S), min(next_s, until_s))

    def led(now: Floats, then: Floats) -> tuple[float, float]:
        first, last = np.interp(within_s, (frame.t_s, next_s), (now.sum(), then.sum())).tolist()
        return first, last

    return _Line(*within_s, led(frame.zone_served, ends.zone_served), led(frame.cause_rps, ends.cause_rps))


class Rehearsed(Struct, frozen=True):
    """A change, rehearsed, whose every second can be looked at: what was answered, the steps as they were taken, when
    each began (s), and the plan after it."""

    answer: RehearsalAnswer
    taken: Sequence[_Taken]
    at_s: Sequence[float]
    plans: Sequence[Plan]

    def moment(self, second: float) -> tuple[int, Plan, Flow]:
        """Which step was taken last at a second, the plan as it is then, and its flow."""
        step = max(bisect_right(self.at_s, second) - 1, 0)
        since_s = min(max(second - self.at_s[step], 0.0), self.taken[step].waits_s)
        marks = [one.at_s for one in self.answer.steps]
        return max(bisect_right(marks, second) - 1, 0), self.plans[step], self.taken[step].run.flow_at(LEAD_S + since_s)


def rehearse(
    before: Plan, after: Plan, order: Sequence[tuple[int, float | None]] | None = None, begins_s: float = 0.0,
    told: Told = lambda _done, _of: None,
) -> RehearsalAnswer:  # fmt: skip
    """Rehearses a change, see `rehearsed`."""
    return rehearsed(before, after, order, begins_s, told).answer


def rehearsed(
    before: Plan, after: Plan, order: Sequence[tuple[int, float | None]] | None = None, begins_s: float = 0.0,
    told: Told = lambda _done, _of: None,
) -> Rehearsed:  # fmt: skip
    """Rehearses a change. `order`: the numbers of the steps as they are to be taken, each with its second where that is
    not when the one before has settled; all in their own order by default. Raises CannotRun where a plan in between
    cannot be run, or a step is missing or comes before one that it needs."""
    return rehearse_steps(begun(before, after), steps_between(before, after), order, begins_s, told)


def rehearse_steps(
    first: Plan, steps: Sequence[ChangeStep], order: Sequence[tuple[int, float | None]] | None = None,
    begins_s: float = 0.0, told: Told = lambda _done, _of: None,
) -> Rehearsed:  # fmt: skip
    """Rehearses steps from a plan on, as `rehearse` does."""
    wanted = list(order) if order is not None else [(number, None) for number in range(len(steps))]
    _check(steps, [number for number, _ in wanted])
    plans = [first]
    for number, _ in wanted:
        plans.append(steps[number].apply(plans[-1]))
    of = 2 * len(wanted) + 1
    taken, back = list[_Taken](), list[_Taken]()
    for at in range(len(wanted)):
        taken.append(_take(plans[at], plans[at + 1], steps[wanted[at][0]].seen_s))
        told(len(taken), of)
    for at in range(len(wanted)):
        back.append(_take(plans[at + 1], plans[at]))
        told(len(taken) + len(back), of)
    words = [steps[number].words for number, _ in wanted]
    at_s, warnings = _times([second for _, second in wanted], taken, begins_s, words)
    once = _take(plans[0], plans[-1], max((step.seen_s for step in steps), default=0.0))
    numbers = {number: place for place, (number, _) in enumerate(wanted)}
    answer = RehearsalAnswer(
        steps=[
            StepAnswer(
                at_s=second, words=steps[number].words, needs=sorted(numbers[one] for one in steps[number].needs),
                waits_s=one.waits_s, failed=one.failed,
            )
            for (number, _), second, one in zip(wanted, at_s, taken, strict=True)
        ],
        readings=_readings(taken, at_s, begins_s),
        worst=_worst(taken, at_s),
        rollback=[
            Rollback(
                from_step=step, failed=sum(one.failed for one in back[: step + 1]),
                lasts_s=sum(one.waits_s for one in back[: step + 1]),
            )
            for step in range(len(back))
        ],
        at_once={"failed": once.failed, "lasts_s": once.waits_s},
        warnings=warnings,
        series=_series(taken, at_s),
    )  # fmt: skip
    return Rehearsed(answer, taken, at_s, plans[1:])


def rehearse_drill(
    plan: Plan, drill: Drill, marks: Sequence[tuple[float, str]], once: Drill, told: Told = lambda _done, _of: None
) -> Rehearsed:
    """What is done by hand in a drill, told as the steps of a change: at which second what is done, in words. `once`:
    the same, all at once. There is no way back but to go on. Raises CannotRun."""
    network = compile_network(plan)
    told(0, 2)
    run = run_drill(network, drill)
    told(1, 2)
    other = run_drill(network, once)
    told(2, 2)
    settled_s = marks[-1][0] + run.readings.settled_s
    ends = [*(second for second, _ in marks[1:]), settled_s]
    failed = [run.failed_by(second) for second in (marks[0][0], *ends)]
    whole = _Taken(run, settled_s - LEAD_S)
    answer = RehearsalAnswer(
        steps=[
            StepAnswer(
                at_s=second - marks[0][0], words=words, needs=[place - 1] if place else [],
                waits_s=float(math.ceil(ends[place] - second)), failed=failed[place + 1] - failed[place],
            )
            for place, (second, words) in enumerate(marks)
        ],
        readings=_readings([whole], [0.0], 0.0),
        worst=_worst([whole], [0.0]),
        rollback=[],
        at_once={"failed": other.readings.failed, "lasts_s": other.readings.settled_s},
        warnings=[] if run.readings.settled else ["it does not settle in that time"],
        series=_series([whole], [0.0]),
    )  # fmt: skip
    return Rehearsed(answer, [whole], [0.0], [plan])


def _check(steps: Sequence[ChangeStep], order: Sequence[int]) -> None:
    left_out = sorted({*range(len(steps))} - {*order})
    problems = [Problem("", f"the order leaves out step {number}: {steps[number].words}") for number in left_out]
    for place, number in enumerate(order):
        if not 0 <= number < len(steps) or number in order[:place]:
            problems.append(Problem("", f"there is no other step {number}; steps count from 0 to {len(steps) - 1}"))
            continue
        for needed in steps[number].needs:
            if needed not in order[:place]:
                words = f"step {number}, {steps[number].words}, needs step {needed} before it: {steps[needed].words}"
                problems.append(Problem("", words))
    if problems:
        raise CannotRun(problems)


def _take(before: Plan, after: Plan, seen_s: float = 0.0) -> _Taken:
    """A step from one plan to the next as a drill, looked at for so long at the least: ways that are new are
    registered, records change, all else is as in the next plan from the beginning on."""
    old, data = {entry.name: entry for entry in before.names}, list[DnsEntry]()
    changes = []
    # What was answered with leads on, but where it is gone; an address that another has taken over leads to that one.
    known = {balancer.name for balancer in after.balancers}
    open_to_all = {one.name for one in after.instances if one.public_address}
    for entry in after.names:
        was = old.get(entry.name)
        kept = [
            one for one in (was.answers if was else [])
            if (one.balancer is None or one.balancer in known) and (one.instance is None or one.instance in open_to_all)
        ]  # fmt: skip
        if was is None or was.answers == entry.answers or not kept:
            data.append(entry)
            continue
        data.append(entry.model_copy(update={"answers": kept, "ttl_s": was.ttl_s}))
        changes.append(Step(at_s=LEAD_S, change_answers=ChangeAnswers(name=entry.name, answers=entry.answers)))
    fields = {name: getattr(after, name) for name in Plan.model_fields}
    network = compile_network(Plan.model_construct(**(fields | {"names": data})))
    newcomers = frozenset(ways_of(network)) - frozenset(ways_of(compile_network(before)))
    # Something is to happen at that second, so that newcomers come then.
    steps = changes or [Step(at_s=LEAD_S, surge=Surge(clients=one.name, factor=1)) for one in after.clients[:1]]
    for lasts_s in (LEAD_S + 300, LEAD_S + AT_MOST_S):
        drill = Drill(name="change", lasts_s=lasts_s, phases="worst", steps=steps)
        run = run_drill(network, drill, newcomers=newcomers)
        if run.readings.settled or not (newcomers or changes):
            break
    settled_s = float(math.ceil(run.readings.settled_s)) if newcomers or changes else 0.0
    return _Taken(run, max(settled_s, seen_s))


def _times(
    wanted: Sequence[float | None], taken: Sequence[_Taken], begins_s: float, words: Sequence[str]
) -> tuple[list[float], list[str]]:
    """When each step is taken, and which are taken too early."""
    made, warnings, free_s = list[float](), list[str](), begins_s
    for called, second, one in zip(words, wanted, taken, strict=True):
        at_s = free_s if second is None else second
        if at_s < free_s:
            early = f"{called!r} at {at_s:g} s begins before the step before it has settled, at {free_s:g} s"
            warnings.append(f"{early}: what they do to each other is not computed")
        made.append(at_s)
        free_s = at_s + one.waits_s
    return made, warnings


def _readings(taken: Sequence[_Taken], at_s: Sequence[float], begins_s: float) -> dict[str, float]:
    lasts_s = max([second + one.waits_s for second, one in zip(at_s, taken, strict=True)], default=begins_s) - begins_s
    failed = sum(one.failed for one in taken)
    asked = sum(line.asked for one in taken for line in one.lines())
    return {
        "lasts_s": lasts_s,
        "requests": asked,
        "failed": failed,
        "failed_share": failed / asked if asked else 0.0,
        "peak_utilisation": max((one.run.readings.peak_utilisation for one in taken), default=0.0),
        "peak_latency_ms": max((one.run.readings.peak_latency_ms for one in taken), default=0.0),
    }


def _lines(taken: Sequence[_Taken], at_s: Sequence[float]) -> list[tuple[float, _Line]]:
    """What is served and what fails over a change, and by how much it comes later than in the drill of its step (s)."""
    steps = zip(at_s, taken, strict=True)
    return [(second - LEAD_S, line) for second, one in steps for line in one.lines()]


def _worst(taken: Sequence[_Taken], at_s: Sequence[float]) -> Worst:
    made = [Worst(at_s=0.0, failed_rps=0.0)]
    for later_s, line in _lines(taken, at_s):
        for second, rps in zip((line.begins_s, line.ends_s), line.failed_rps, strict=True):
            made.append(Worst(at_s=later_s + second, failed_rps=rps))
    return max(made, key=lambda one: one.failed_rps)


def _series(taken: Sequence[_Taken], at_s: Sequence[float]) -> ChangeSeries:
    lines = sorted(_lines(taken, at_s), key=lambda one: one[0] + one[1].begins_s)
    return ChangeSeries(
        t_s=[later_s + line.begins_s for later_s, line in lines],
        served_rps=[line.served_rps[0] for _, line in lines],
        failed_rps=[line.failed_rps[0] for _, line in lines],
        served_before_rps=[line.served_rps[1] for _, line in lines],
        failed_before_rps=[line.failed_rps[1] for _, line in lines],
    )
