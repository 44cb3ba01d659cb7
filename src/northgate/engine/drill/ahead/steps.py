"""A step ahead: what lies in it, how rates bend on it, and what it tells of the next."""

from collections.abc import Callable, Sequence

import numpy as np
from msgspec import Struct

from northgate.engine.base import NEVER, Floats, Ints, cached, some
from northgate.engine.drill.ahead.course import weights_at
from northgate.engine.drill.ahead.patient import Patient
from northgate.engine.formulas import AT_BOUND_S
from northgate.engine.processes import Backlogs, Holdings, growth
from northgate.engine.solver import Flow, Held, Opened, Opens, State

# A step is short enough when the mean rates of no sort are wrong by more than this part of all that is asked; the same
# of utilisations where holds decide who is chosen; and when no backlog there was thought to come to another than it
# does, by this part of how long an answer takes.
WRONG, BEHIND = 1e-6, 5e-5
# And when no backlog is wrong by more than this (s) at its end: where it grows by a twentieth of a second in each, it
# meets its bound by a ten-thousandth of a second sooner or later.
OFF_S = 5e-6
# A step that is longer by so much is short enough.
FITS = 0.8
# What changes by less than this part of all that is asked does not bend much.
SMALL = 1e-4
# And when no more than this share of sources is held otherwise at its end than was thought; or LEFT of what would be
# held otherwise in two halves, each with the mean of how sessions and connections are opened in it, than in one go: of
# that no more is left when it is led on. What is less than SAME is none.
HELD, LEFT, SAME = 5e-6, 0.1, 1e-8
# Rates that differ by no more than this part of what is asked stay as they are.
STILL = 1e-12
# What comes sooner than this (s) is not looked for more closely, and looked at again after so long: where a backlog
# stays at a bound, as rates beyond it lead back, what is followed is off it by so much.
SHORTEST_S = 0.005
# So near (s) to its last flow a step ends with it; else with another one.
LAST_S = 1.5e-4
# What comes so near (s) to the second at which it was looked for comes then.
NEXT_TO_S = AT_BOUND_S / 10
# Backlogs that are off by no more than this part of how long answers take lead to the same rates, and so does what is
# held at the end of a step that is short enough.
AS_THOUGHT = 3e-5
# The last step leads to a flow in which utilisations differ by less than this from those at its end.
LED_TO = 1e-3


class Limits(Struct, frozen=True):
    """How far a step goes: to `near_s` in any case, and not beyond `far_s`. At `jump_s` something happens, rates being
    sure to jump where it `jumps`; nothing but backlogs that meet a bound happens until `sure_s`."""

    near_s: float
    far_s: float
    jump_s: float
    sure_s: float
    jumps: bool


class Way(Struct, frozen=True):
    """How rates go through a step: what is held at its end, led on to, and by how much that may be otherwise, or is
    than was thought (see HELD); how many times as long the step might be, less than 1 where it is too long; and how far
    rates bend at most, as a part of what they change by.

    By how much the mean of rates is wrong grows as the fourth power of the step, a backlog as the fifth, what is held
    otherwise as its cube.
    """

    held: Held
    off: float
    longer: float
    bent: float

    @property
    def fits(self) -> bool:
        """Whether the step is short enough, or hardly longer: to look twice as far again would cost more."""
        return self.longer >= FITS


class Step(Struct, frozen=True, dict=True):
    """A step from now to a second, its flows at first, half-way and at last (at `last_s`: where rates jump at its end,
    just before), and how rates go through it."""

    now: float
    look_s: float
    last_s: float
    flows: tuple[Flow, Flow, Flow]
    way: Way
    jumps: bool

    @cached
    def faster(self) -> Floats:
        """How utilisations go in it: (2, machines), A (1/s) and B (1/s^2) of the parabola u0 + A t + B t^2."""
        return np.array(self._parabola(utilisation_of))

    @property
    def faster_then(self) -> Floats:
        """How utilisations go from its last flow on."""
        slope, bend = self.faster
        return np.array([slope + 2 * bend * (self.last_s - self.now), bend])

    @cached
    def backlogs_s(self) -> tuple[Floats, Floats, Floats]:
        """What backlogs have come to at each of its flows: these were looked for before it was known how load
        changes."""
        grown = growth(self.flows[0], self.faster)
        return grown.backlog_s, grown.after((self.look_s - self.now) / 2), grown.after(self.last_s - self.now)

    def most(self, rates: Callable[[Flow], Floats], second: float) -> Floats:
        """The most that rates come to until a second in it, on the parabola through them; where they bend too much for
        that, the most at its ends."""
        first, (slope, bend), past_s = rates(self.flows[0]), self._parabola(rates), second - self.now
        tops = (bend < 0) & self.way.fits
        top_s = np.clip(np.divide(slope, -2 * bend, out=np.zeros_like(first), where=tops), 0, past_s)
        return np.asarray(np.maximum(first + (slope + bend * top_s) * top_s, np.maximum(first, self.at(rates, second))))

    def at(self, rates: Callable[[Flow], Floats], second: float) -> Floats:
        """What rates are at a second on the parabola through them."""
        first, middle, last = self.weights(second)
        one, other, then = self.flows
        return np.asarray(first * rates(one) + middle * rates(other) + last * rates(then))

    def weights(self, second: float) -> list[float]:
        """How much each of its flows counts at a second, on the parabola through them."""
        return weights_at(second, (self.now, (self.now + self.look_s) / 2, self.last_s))

    def _parabola(self, rates: Callable[[Flow], Floats]) -> tuple[Floats, Floats]:
        """A and B of the parabola f0 + A t + B t^2 through rates."""
        return parabola([*map(rates, self.flows)], (self.look_s - self.now) / 2, self.last_s - self.now)

    def parts(self, end_s: float) -> tuple[tuple[Flow, float], ...]:
        """Its flows, and for which part of the time until a second in it each stands: the mean until then of the
        parabola through them; to the end of a step that does not jump this is Simpson's rule."""
        half_s, last_s, until_s = (self.look_s - self.now) / 2, self.last_s - self.now, end_s - self.now
        middle = (until_s / 3 - last_s / 2) * until_s / (half_s * (half_s - last_s))
        last = (until_s / 3 - half_s / 2) * until_s / (last_s * (last_s - half_s))
        return tuple(zip(self.flows, (1 - middle - last, middle, last), strict=True))

    def opened(self, second: float) -> Opened:
        """How sessions and connections are opened until a second in it, or next to it, along the parabola through
        it."""
        first, *others = (flow.opens for flow in self.flows)
        if second == self.look_s == self.last_s:
            return first, others[0], others[1]
        half, then = (first.mixed(others, self.weights(at_s)) for at_s in ((self.now + second) / 2, second))
        return first, half, then


class Stretch(Struct, frozen=True):
    """What lies ahead: until when (`end_s`), flows and for which part of the time each stands, how sessions and
    connections are opened on the mean, the flow at the end and what is held then, where these are known. `evenly`:
    rates go along a straight line, unless what is held leads them to the flow at the end; `step`: or along a parabola,
    through the flows of this one."""

    end_s: float
    parts: tuple[tuple[Flow, float], ...]
    opens: Opens
    then: Flow | None = None
    held: Held | None = None
    evenly: bool = False
    step: Step | None = None

    @property
    def opened(self) -> Opened:
        """How sessions and connections are opened until its end."""
        return self.step.opened(self.end_s) if self.step else (self.opens,) * 3

    @property
    def soon(self) -> bool:
        """Whether it is so short that the flow half-way stands for all of it."""
        return len(self.parts) == 1 and not self.evenly

    def flow_of(self, state: State, second: float, backlogs: Backlogs) -> Flow | None:
        """The flow of a state, if it is the one to which was looked; but for backlogs that are hardly otherwise."""
        then = self.then
        if then is None or self.end_s != second or not state.like(then.state, NEVER):
            return None
        found = then.with_backlogs(state, AS_THOUGHT)
        return found if found is then or Patient(backlogs, then).lasts(then, state.backlog_s) else None

    def most(self, rates: Callable[[Flow], Floats]) -> Floats:
        """The most that rates come to between the flows that are known of it, on the parabola through them, if any."""
        if self.step:
            return self.step.most(rates, min(self.end_s, self.step.last_s + LAST_S))
        return rates(self.parts[0][0])

    def leads_on(self, second: float) -> bool:
        """Whether none of its flows is that of its end."""
        if self.step:
            return abs(second - self.step.last_s) > LAST_S
        return self.evenly and self.then is None

    def led_on(self, first: Flow, rates: Callable[[Flow], Floats], second: float) -> Floats:
        """About what rates come to at a second, from those of the first flow on."""
        if self.step:
            return self.step.at(rates, second)
        return 2 * rates(self.parts[0][0]) - rates(first)


class Past(Struct, frozen=True):
    """The last step, which did not end in a jump: when it ended, how long it was (s), and its flows at first, half-way
    and then."""

    end_s: float
    lasted_s: float
    flows: tuple[Flow, Flow, Flow]

    def leads_to(self, flow: Flow, now: float) -> bool:
        """Whether it leads to a flow: where it ended nothing has happened."""
        last = self.flows[2]
        if self.end_s != now or not last.opens.like(flow.opens):
            return False
        return bool(np.abs(flow.queue.utilisation - last.queue.utilisation).max(initial=0.0) < LED_TO)

    @property
    def known(self) -> tuple[tuple[float, Flow], ...]:
        """The flows before its end, by second."""
        first, middle, _ = self.flows
        return (self.end_s - self.lasted_s, first), (self.end_s - self.lasted_s / 2, middle)


def way_of(holdings: Holdings, busy: Ints, flows: tuple[Flow, Flow, Flow], seconds: float, last_s: float) -> Way:
    """How rates go from a flow by that half-way to the last one, which is so many seconds later (`last_s`), on a step
    of so many; `busy`: the machines that are chosen by how busy they are."""
    first, middle, last = (one.opens for one in flows)
    held, off = holdings.led_on((first, middle, last), seconds)
    off *= LEFT
    if held and (thought := flows[2].state.held):
        off = max(off, held.apart(thought))
    wrong = (_wrong_by(flows, busy) / WRONG) ** (1 / 4)
    behind = (_behind(flows, busy, seconds / 2, last_s) / BEHIND) ** (1 / 3)
    waits = (backlog_off_s(flows, seconds) / OFF_S) ** (1 / 5)
    return Way(held, off, min(1 / max(wrong, behind, waits, 1e-9), (HELD / max(off, SAME)) ** (1 / 3)), _bent(flows))


def _bent(flows: Sequence[Flow]) -> float:
    """How far rates half-way lie beside a straight line at most, as a part of their change, or of SMALL of all."""
    before, between, after = (np.concatenate([one.zone_served, one.cause_rps]) for one in flows)
    change = np.maximum(np.abs(after - before), SMALL * flows[0].requests)
    bent = np.abs(before - 2 * between + after)
    return float(np.divide(bent, change, out=np.zeros_like(bent), where=change > 0).max(initial=0.0))


def _wrong_by(flows: Sequence[Flow], busy: Ints) -> float:
    """By how much rates are wrong on the mean, as a part of all that is asked, and utilisations of busy machines."""
    asked = flows[0].requests
    rates = wrong([np.concatenate([one.zone_served, one.cause_rps]) for one in flows], SMALL * asked)
    return max(rates / asked if asked > 0 else 0.0, wrong([one.queue.utilisation[busy] for one in flows]))


def backlog_off_s(flows: Sequence[Flow], seconds: float) -> float:
    """By how much a backlog is wrong at the end of so many seconds (s)."""
    waits = (flows[0].state.backlog_s > 0) | (flows[-1].state.backlog_s > 0)
    return wrong([one.queue.utilisation[waits] for one in flows]) * seconds if some(waits) else 0.0


def _behind(flows: Sequence[Flow], busy: Ints, half_s: float, last_s: float) -> float:
    """By how much the backlog of a busy machine comes to another at last than was thought, as a part of how long an
    answer takes."""
    if not len(busy):
        return 0.0
    faster = np.array(parabola([one.queue.utilisation for one in flows], half_s, last_s))
    apart_s = np.abs(growth(flows[0], faster).after(last_s) - flows[2].state.backlog_s)[busy]
    lasts_s = flows[2].queue.latency_s[busy]
    return float(np.divide(apart_s, lasts_s, out=np.zeros(len(busy)), where=lasts_s > 0).max())


def parabola(values: Sequence[Floats], half_s: float, last_s: float) -> tuple[Floats, Floats]:
    """A (1/s) and B (1/s^2) of the parabola f0 + A t + B t^2 through three values: at 0, `half_s` and `last_s`."""
    first, middle, last = values
    half = (middle - first) / half_s
    bend = ((last - first) / last_s - half) / (last_s - half_s)
    return half - bend * half_s, bend


def stays(flow: Flow, later: Flow) -> bool:
    """Whether all rates are at a later second what they are now."""
    rates = ((one.zone_served, one.cause_rps, one.queue.utilisation * one.requests) for one in (flow, later))
    still = all(np.abs(a - b).max(initial=0.0) <= STILL * flow.requests for a, b in zip(*rates, strict=True))
    return still and not flow.opens.otherwise(later.opens)


def utilisation_of(flow: Flow) -> Floats:
    """The utilisation of each machine, (machines,)."""
    return flow.queue.utilisation


def faster_until(flow: Flow, middle: Flow, now: float, second: float) -> Floats:
    """How utilisations go until a second, of which half-way is known, along a straight line (see `Step.faster`)."""
    slope = (middle.queue.utilisation - flow.queue.utilisation) / ((second - now) / 2)
    return np.array([slope, np.zeros(len(slope))])


def wrong(values: Sequence[Floats], small: float = np.inf) -> float:
    """By how much the mean of values before, half-way and after is wrong at most, as Simpson's rule finds it: of what
    fades as e^(-xt) until t = 1, x^4 / 2880 of it. Then it changes by x, and bends by x/4 of that: so it is the third
    power of this part, times a 45th of the change. What bends less by chance changes as quickly as whatever bends most
    of all that changes by more than is `small`."""
    before, between, after = values
    bent, change = np.abs(before - 2 * between + after), np.abs(after - before)
    most = np.maximum(bent, change)
    part = np.divide(bent, most, out=np.zeros_like(most), where=most > 0)
    quickest = part[most > small].max(initial=0.0)
    return float((most * np.maximum(part, quickest) ** 3).max(initial=0.0)) / 45
