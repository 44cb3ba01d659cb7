"""How far one may look ahead while shares change by themselves, and what rates are until then."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from northgate.engine.base import NEVER, Bools, Floats, Ints
from northgate.engine.processes import Backlogs, Entry, Holdings, Resolvers, growth
from northgate.engine.solver import Flow, Held, Opens, Solver, State

# Load-dependent shares are solved again when a hold time has changed by the fraction FOLLOWED, FOLLOWED_S (s) later at
# the earliest; differences below EVEN are none.
FOLLOWED, FOLLOWED_S, EVEN = 0.05, 0.05, 1e-9
# What comes sooner than this (s) is not looked for more closely, and looked at again after so long: where a backlog
# stays at a bound, as rates beyond it lead back, what is followed is off it by so much.
SHORTEST_S = 0.005
# What is linear changes from now to the end at most so many times as far as from now to the mean.
REACH = 2.5
# After so many of the shortest steps that were not linear it is looked again whether rates are.
UNEVEN_STEPS = 6.0
# A step is short enough when rates bend by no more than this part of what they change by, or of SMALL of all; Simpson's
# rule is then right to about BENT^4 / 100 of that change.
BENT, SMALL = 0.25, 1e-4
# And when in two halves, each with the mean of how sessions and connections are opened in it, no more than this share
# of sources would be held otherwise at its end; what then is led on to, where that is more than SAME, is nearer by far.
# What is held half-way is found again where more than OTHERWISE is held otherwise; or NEARLY, where it was led on from
# the last step, which is nearer than what it is held against.
HELD, SAME, OTHERWISE, NEARLY = 1e-5, 2e-8, 1e-7, 1e-6
# The last step leads to a flow in which utilisations differ by less than this from those at its end.
LED_TO = 1e-3
# The same of utilisations where holds decide who is chosen: backlogs add them up by their mean alone.
BENT_BUSY = 0.1
# Where they bend more, a step is still at least this part of what is looked at in any case: a kink is a kink.
SHORTER = 2
# When a probe finds another thing than before is known to so many seconds.
FOUND_S = 1e-4
# A step is at most so many times as long as the last; of what seems to be right this part is tried; and what was too
# long is shortened by no more than this at once.
LONGER, SAFE, SHORTENED = 4.0, 0.85, 1 / 16
# What comes so much sooner or later than it was looked for, shortly before, comes as was looked for.
SOON_S = 1e-3
# In so short a time (s) nothing changes.
INSTANT_S = 1e-6
# When a backlog meets its bound is found again so many times, as what is known of rates grows.
CORRECTED = 2
# A step that is so many times too long goes nowhere.
WILD = 1 / 20


@dataclass(frozen=True)
class Stretch:
    """What lies ahead: until when (`end_s`), flows and for which part of the time each stands, how sessions and
    connections are opened on the mean, the flow at the end and what is held then, where these are known. `evenly`:
    rates go along a straight line."""

    end_s: float
    parts: tuple[tuple[Flow, float], ...]
    opens: Opens
    then: Flow | None = None
    held: Held | None = None
    evenly: bool = False

    @property
    def soon(self) -> bool:
        """Whether it is so short that the flow half-way stands for all of it."""
        return len(self.parts) == 1 and not self.evenly


@dataclass(frozen=True)
class Found:
    """What probes find, and whether machines keep up: whether each passes, and how far it is from the other thing
    (`Findings.spare`)."""

    passes: Bools
    spare: Floats

    def crosses(self, other: "Found") -> float:
        """At which part of the way to another the first of them turns, were all to change evenly: 0 to 1."""
        turned = self.passes != other.passes
        mine, theirs = self.spare[turned], other.spare[turned]
        return float(np.divide(mine, mine - theirs, out=np.full(len(mine), 0.5), where=mine * theirs < 0).min())

    def turns_s(
        self, middle: "Found", then: "Found", found_at: Callable[[float], "Found"], now: float, then_s: float
    ) -> float:  # fmt: skip
        """The second, before another, from which on something else is found than now; that other one if there is none.
        `middle` is what is found half-way.

        Found by false position, halving every third time.
        """
        before, after, before_s, after_s, step = self, then, now, then_s, 0
        if not np.array_equal(self.passes, middle.passes):
            after, after_s = middle, (now + then_s) / 2
        elif not np.array_equal(self.passes, then.passes):
            before, before_s = middle, (now + then_s) / 2
        while after_s - before_s > FOUND_S and not np.array_equal(self.passes, after.passes):
            step += 1
            part = 0.5 if step % 3 == 0 else before.crosses(after)
            # On the other side of where it seems to be than last time.
            aside = FOUND_S / 2 if after_s == then_s or (before is not self and step % 2) else -FOUND_S / 2
            half_s = before_s + part * (after_s - before_s) + aside
            half_s = min(max(half_s, before_s + FOUND_S / 4), after_s - FOUND_S / 4)
            between = found_at(half_s)
            if np.array_equal(self.passes, between.passes):
                before, before_s = between, half_s
            else:
                after, after_s = between, half_s
        # What turns next to it, turns with it.
        return after_s if after_s == then_s else min(before_s + FOUND_S, then_s)


@dataclass(frozen=True)
class Way:
    """How rates go through a step: what is held at its end, led on to, and by how much that is otherwise than at first
    (`Holdings.led_on`); how many times as long the step might be, less than 1 where it is too long.

    What rates bend, beside what they change, grows as the step does, and what is held otherwise as its cube.
    """

    held: Held
    off: float
    longer: float


@dataclass(frozen=True)
class Past:
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
    def faster(self) -> Floats:
        """How fast utilisations grow at its end."""
        _, middle, last = self.flows
        return np.asarray((last.queue.utilisation - middle.queue.utilisation) / (self.lasted_s / 2))

    def opens(self, flow: Flow, second: float) -> Opens:
        """How they are opened on the mean from its end to a second, if that goes on along the parabola through the last
        step."""
        part = (second - self.end_s) / self.lasted_s
        first, middle = 2 * (part**2 / 3 + part / 4), -4 * (part**2 / 3 + part / 2)
        opened = [one.opens for one in self.flows[:2]]
        return flow.opens.mixed(opened, (1 - first - middle, first, middle))


class LookAhead:
    """When to look again at shares that change meanwhile (as old answers fade, sessions are opened and end, and those
    who are chosen by how busy they are follow their backlogs), and the rates until then.

    Where rates are linear in what is held, the flow of what is held on the mean is exact, however far ahead; elsewhere
    steps are as long as rates bend little, and added up by Simpson's rule. `found`: what every probe finds under a
    flow, and which machines keep up; `faster`: how fast utilisations grow until then (1/s; None: not at all).
    """

    def __init__(
        self, solver: Solver, resolvers: Resolvers, holdings: Holdings, backlogs: Backlogs,
        found: Callable[[Flow], Found], end_s: float,
    ) -> None:  # fmt: skip
        self._solver, self._resolvers, self._holdings, self._backlogs = solver, resolvers, holdings, backlogs
        self._found = found
        # Nobody looks further than to the end.
        self._end_s, self._past_end_s = end_s, float(np.nextafter(end_s, np.inf))
        self.look_s = NEVER
        # Where rates were not linear, they are not expected to be so for a while.
        self._uneven_until_s = 0.0
        # How long the last step was that bent little enough, where rates are not linear; and that step.
        self._step_s = 0.0
        self._past: Past | None = None
        self.faster: Floats | None = None
        self._ahead: Stretch | None = None

    @property
    def moves(self) -> bool:
        """Whether shares change."""
        return self.look_s < NEVER

    def next_s(self, now: float) -> float:  # noqa: ARG002
        """When to look again."""
        return self.look_s

    def take(self, now: float) -> Iterator[Entry]:  # noqa: ARG002
        """What has changed is seen by the next solve."""
        yield from ()

    def opens(self, flow: Flow) -> Opens:
        """How sessions and connections are opened until then, on the mean; `flow` is that of now."""
        return self._ahead.opens if self._ahead else flow.opens

    def there(self, state: State, now: float) -> Flow | None:
        """The flow of a state, if it is the one to which was looked ahead."""
        ahead = self._ahead
        if ahead is None or ahead.then is None or ahead.end_s != now or not state.like(ahead.then.state):
            return None
        return ahead.then

    def look(self, flow: Flow, now: float, until: float) -> None:
        """Looks ahead from a flow to the second at which something else happens, or less far."""
        self._ahead, self.faster, self.look_s, before = None, None, NEVER, self.faster
        answers_s, held_s = self._resolvers.next_s(now), self._holdings.look_s(flow.opens, now)
        follow_s = now + _follow_s(flow, self._solver.frame.busy_machines)
        near_s = min(answers_s, held_s, follow_s)
        if near_s == NEVER:
            return
        bends_s, drawn_s = self._resolvers.bends_s(now), self._holdings.drawn_s(flow.opens, now)
        far_s = min(until, self._past_end_s, bends_s, drawn_s)
        sorts = (answers_s < NEVER) + (held_s < NEVER) * self._holdings.sorts
        if follow_s == NEVER and sorts == 1 and now >= self._uneven_until_s and self._goes_evenly(flow, now, far_s):
            return
        self._uneven_until_s = max(self._uneven_until_s, now + UNEVEN_STEPS * (near_s - now))
        steady = min(answers_s, held_s) == NEVER
        # What happens beyond the next bound of a backlog is not to be seen from here; mostly rates bend as before.
        jump_s = min(until, self._backlogs.meets_s(flow, now, before))
        far_s = min(far_s, jump_s)
        if far_s < now + SHORTEST_S:
            if far_s > now + INSTANT_S:
                # So short a way goes as half-way.
                middle = self._middle(flow, now, far_s)
                self._go(Stretch(far_s, ((middle, 1.0),), middle.opens), far_s, flow, middle, now)
            self.look_s = now + SHORTEST_S
            return
        self._step(flow, now, min(near_s, far_s), far_s, jump_s, steady=steady)

    def _goes_evenly(self, flow: Flow, now: float, far_s: float) -> bool:
        """Whether all goes as it goes now until something else happens, or a tail bends; if so, that far is looked.

        Rates are linear in what clients hold of one sort (answers, or sessions, or connections) while every request is
        sent and fares alike.
        """
        mean = self._mean_flow(flow, now, far_s, flow.state.backlog_s)
        if not (flow.treats_like(mean) and self._backlogs.kept(flow, mean, REACH)):
            return False
        self._go(Stretch(min(far_s, self._end_s), ((mean, 1.0),), mean.opens, evenly=True), far_s, flow, mean, now)
        return True

    def _go(self, ahead: Stretch, look_s: float, flow: Flow, middle: Flow, now: float) -> None:
        self._ahead, self.look_s = ahead, look_s
        self.faster = _faster(flow, middle, now, look_s)

    def _step(self, flow: Flow, now: float, near_s: float, far_s: float, jump_s: float, *, steady: bool) -> None:
        """Looks as far ahead as rates bend little, and to `near_s` in any case; at `jump_s` they may jump."""
        shortest_s, corrected = now + (near_s - now) / SHORTER, 0
        longest_s = now + max(self._step_s, near_s - now)
        look_s, turns = far_s if far_s < now + 1.5 * (longest_s - now) else longest_s, False
        while True:
            middle = self._middle(flow, now, look_s)
            if steady and np.abs(middle.pair_share - flow.pair_share).max(initial=0.0) <= EVEN:
                # All that is busier is so alike.
                return
            faster = _faster(flow, middle, now, look_s)
            meets_s = self._backlogs.meets_s(flow, now, faster)
            if now + SHORTEST_S < meets_s < look_s - FOUND_S and corrected < CORRECTED:
                # Rates bend: a backlog comes to its bound sooner than it seemed.
                corrected += 1
                look_s, jump_s, shortest_s = meets_s, meets_s, min(shortest_s, meets_s)
                continue
            # Of what jumps it is asked how things are just before.
            jumps = turns or look_s == jump_s
            last_s = look_s - min(FOUND_S, (look_s - now) / 4) if jumps else look_s
            last = self._at(last_s, middle, middle.opens, flow, now, faster, led_on=True)
            way = _way(self._holdings, self._solver.frame.busy_machines, (flow, middle, last), look_s - now)
            # Where rates jump to and fro, nothing is to be found on the way between.
            wild = way.longer < WILD and look_s > shortest_s
            crossing_s = look_s if wild or turns else self._finds_otherwise_s(flow, middle, last, now, last_s)
            if crossing_s < last_s - FOUND_S:
                look_s, turns, shortest_s = crossing_s, True, min(shortest_s, crossing_s)
                continue
            if look_s <= shortest_s or way.longer >= 1:
                break
            look_s, turns = max(shortest_s, now + (look_s - now) * max(SAFE * way.longer, SHORTENED)), False
        self._step_s = (look_s - now) * min(SAFE * way.longer, LONGER)
        held = way.held if way.longer >= 1 and way.off > SAME else None
        then = None if jumps else last
        if then and held:
            then = self._solver.solve(replace(then.state, held=held, attempts=then.attempts, shares=then.pair_share))
        self._past = None if jumps else Past(look_s, look_s - now, (flow, middle, last))
        parts = ((flow, 1 / 6), (middle, 4 / 6), (last, 1 / 6))
        self._go(Stretch(min(look_s, self._end_s), parts, middle.opens, then, held), look_s, flow, middle, now)

    def _finds_otherwise_s(self, flow: Flow, middle: Flow, then: Flow, now: float, look_s: float) -> float:
        """The second, before another, from which on a probe finds another thing than now, or a machine keeps up no
        longer; that other one if there is none."""
        faster = _faster(flow, middle, now, look_s)

        def found_at(second: float) -> Found:
            return self._found(self._at(second, middle, middle.opens, flow, now, faster))

        return self._found(flow).turns_s(self._found(middle), self._found(then), found_at, now, look_s)

    def _middle(self, flow: Flow, now: float, look_s: float) -> Flow:
        """The flow half-way to a second."""
        half_s = (now + look_s) / 2
        past = self._past if self._holdings.sorts and self._past and self._past.leads_to(flow, now) else None
        opens, faster = (past.opens(flow, half_s), past.faster) if past else (flow.opens, None)
        middle = self._at(half_s, flow, opens, flow, now, faster)
        if not self._holdings.sorts:
            return middle
        opens, held, most = flow.opens.and_then(middle.opens), middle.state.held, NEARLY if past else OTHERWISE
        if held is None or self._holdings.after(opens, half_s - now).apart(held) > most:
            # Sessions and connections are opened otherwise meanwhile: what is held half-way is found again.
            middle = self._at(half_s, middle, opens, flow, now, _faster(flow, middle, now, look_s))
        return middle

    def _at(
        self, second: float, near: Flow, opens: Opens, flow: Flow, now: float, faster: Floats | None = None,
        *, led_on: bool = False,
    ) -> Flow:  # fmt: skip
        """The flow at a later second, found from one near it (or, `led_on`, from what lies as far beyond that as the
        flow of now lies before it); until then sessions and connections are opened so, and utilisations grow so
        fast."""
        state = replace(
            flow.state,
            answers=self._resolvers.answers(second),
            held=self._holdings.after(opens, second - now),
            backlog_s=growth(flow, faster).after(second - now),
            attempts=near.attempts,
            shares=near.pair_share,
        )
        if led_on:
            shares = near.pair_share
            if shares.shape == flow.pair_share.shape:
                shares = np.maximum(2 * shares - flow.pair_share, 0.0)
            state = replace(state, attempts=near.attempts.beyond(flow.attempts), shares=shares)
        return self._solver.solve(state)

    def until(self, flow: Flow, now: float, second: float) -> Stretch:
        """What lies ahead until a second: all that was looked at, or less."""
        ahead = self._ahead
        if ahead is None or abs(ahead.end_s - second) <= (SOON_S if ahead.soon else 0.0):
            return ahead or Stretch(second, ((flow, 1.0),), flow.opens)
        grown = self._backlogs.grown or growth(flow)
        mean = self._mean_flow(flow, now, second, grown.mean(second - now), ahead.opens)
        return Stretch(second, ((mean, 1.0),), mean.opens, evenly=ahead.evenly)

    def _mean_flow(self, flow: Flow, now: float, second: float, backlog_s: Floats, opens: Opens | None = None) -> Flow:
        """The flow under the mean of what clients hold until a second, and these backlogs: what is linear in shares is
        that of their mean. `opens`: how sessions and connections are opened meanwhile, where that is known."""
        answers, mean, known = self._resolvers.mean_answers(now, second), flow, opens or flow.opens
        for _ in range(2):
            held = self._holdings.mean(known, second - now)
            state = replace(flow.state, answers=answers, held=held, backlog_s=backlog_s)
            mean = self._solver.solve(replace(state, attempts=mean.attempts, shares=mean.pair_share))
            if opens is not None or not mean.opens.otherwise(known):
                break
            known = mean.opens
        return mean


def _follow_s(flow: Flow, mine: Ints) -> float:
    """How long until a hold of these machines, chosen by how busy they are, has changed by FOLLOWED; inf while none of
    their backlogs moves."""
    if not len(mine):
        return NEVER
    slope, hold_s = np.abs(growth(flow).slope[mine]), flow.queue.latency_s[mine]
    seconds = np.divide(FOLLOWED * hold_s, slope, out=np.full(len(mine), NEVER), where=slope > EVEN)
    return max(float(seconds.min()), FOLLOWED_S)


def _way(holdings: Holdings, busy: Ints, flows: tuple[Flow, Flow, Flow], seconds: float) -> Way:
    """How rates go from a flow by that half-way to the last one before so many seconds have passed; `busy`: the
    machines that are chosen by how busy they are."""
    first, middle, last = (one.opens for one in flows)
    held, off = holdings.led_on((first, middle, last), seconds)
    rates = [np.concatenate([one.zone_served, one.cause_rps]) for one in flows]
    used = [one.queue.utilisation[busy] for one in flows]
    bent = max(_bent(rates, SMALL * flows[0].requests) / BENT, _bent(used, SMALL) / BENT_BUSY)
    return Way(held, off, min(1 / max(bent, 1e-9), (HELD / max(off, SAME)) ** (1 / 3)))


def _faster(flow: Flow, middle: Flow, now: float, second: float) -> Floats:
    """How fast utilisations grow until a second, of which half-way is known."""
    return np.asarray((middle.queue.utilisation - flow.queue.utilisation) / ((second - now) / 2))


def _bent(values: Sequence[Floats], least: float) -> float:
    """How far values before, half-way and after lie beside a straight line at most, as a part of their change, or of
    `least`."""
    before, between, after = values
    change = np.maximum(np.abs(after - before), least)
    return float((np.abs(before - 2 * between + after) / change).max(initial=0.0))
