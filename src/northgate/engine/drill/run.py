"""The drill: a plan under a script of faults, solved exactly at its events.

Events that come at the same second run in this order: steps, fronts leaving or joining, verdicts, backlogs meeting a
bound; then one solve.
"""

from dataclasses import replace
from functools import cached_property, partial

import numpy as np

from northgate.engine.base import DIGITS, NEVER, Bools, Floats, Ints, Reached, Watch, go_on, total_by, untold
from northgate.engine.drill.blind import BlindRow
from northgate.engine.drill.journal import Cascade, Event, Vote
from northgate.engine.drill.readings import Totals
from northgate.engine.drill.result import DrillRun, Keyframe
from northgate.engine.drill.script import _check_restores, _in_order, first_change_s
from northgate.engine.formulas import AT_BOUND_S, Bounds, down_bounds, too_late, up_bounds
from northgate.engine.network import Network, roomy
from northgate.engine.processes import (
    NO_CROSSING,
    Addresses,
    Autoscaler,
    Crossing,
    Findings,
    Growth,
    Holding,
    Probers,
    Resolvers,
    autoscalers,
    bounds_of_machines,
    counted,
    growth,
    name_beats,
    name_findings,
    next_crossing,
    profile_factor,
    target_beats,
    votes,
    with_onward,
)
from northgate.engine.solver import Attempts, Flow, Solver, State
from northgate.engine.truth import (
    ANSWERS,
    REFUSES,
    Encounter,
    Truth,
    describe_part,
    encounter,
    healthy,
    probe_view,
    truth_under,
)
from northgate.plan.drills import Drill, Part, Step

SETTLING_ROUNDS = 10


# Shares that follow backlogs are looked at again when a hold is another by that part of it, at the soonest so many
# seconds later; differences below EVEN are none.
FOLLOWED, SHORTEST_S, EVEN = 0.05, 0.05, 1e-9


# Where sessions and connections are opened otherwise as they themselves change a load, what is held on the mean is
# worked out again from how they are opened then, so often at most: what fails there is right to a hundred-thousandth.
MEAN_ROUNDS = 2


# `slow_start_s` raises a weight in so many equal steps, the first at once.
SLOW_STEPS = 10


def run_drill(network: Network, drill: Drill, watch: Watch = go_on, reached: Reached = untold) -> DrillRun:
    """Runs a drill; raises CannotRun when a step restores what has not failed. `watch` is called at every event, then
    `reached` with its second."""
    _check_restores(network, drill)
    return _Run(roomy(network), drill).run(watch, reached)


def undisturbed(network: Network) -> Flow:
    """The flow of a plan without any fault, settled."""
    return _Run(network, Drill(name="now", lasts_s=1.0)).flow


class _Run:
    """The state of a drill while it runs."""

    def __init__(self, network: Network, drill: Drill) -> None:
        self.network, self.drill = network, drill
        self.solver = Solver(network)
        self.now = 0.0
        self.steps = _in_order(drill.steps)
        self.faults: list[Part] = []
        self.surges: dict[str, float] = {}
        self.scalers = autoscalers(network)
        self.exists = ~network.machines.spare
        self.most_targets = int((self.exists & network.machines.real).sum())
        self.truth = self._truth()
        self.view = probe_view(network, self.truth)
        self.encounter = encounter(network, self.truth)
        self.bounds_s = bounds_of_machines(network)
        self.backlog_s: Floats = np.zeros(len(network.machines.names))
        self.crossing: Crossing = NO_CROSSING
        # When to look again at shares that change meanwhile, and how fast utilisations grow until then.
        self.look_s = NEVER
        self.faster: Floats | None = None
        # The mean flow until what clients hold is looked at again, and when that is.
        self.ahead: tuple[float, Flow] | None = None
        self.addresses = Addresses(network, self.truth.front_dead)
        self.empty = np.zeros(len(network.fronts.zone), dtype=bool)
        self.healthy = [np.ones(len(name.answers), dtype=bool) for name in network.plan.names]
        self.resolvers = Resolvers(network, self.healthy, self.addresses.present)
        self.warmth = np.ones(len(network.pairs.front))
        self.warm_since = np.full(len(network.pairs.front), np.nan)
        self.starting: list[int] = []
        self.leaving = np.zeros(len(network.machines.names), dtype=bool)
        self.left_at_s = np.full(len(network.pairs.front), np.inf)
        self.holding = Holding(network)
        self.sessions_moved, self.connections_reset = 0.0, 0.0
        self.attempts: Attempts | None = None
        self.flow = self._settled_flow()
        self.holding.settle(self.flow.opens)
        self.grown = growth(self.flow)
        change_s = first_change_s(drill)
        self.probers = Probers(target_beats(network), self._outcome(), drill.phases, change_s)
        self.probers.set_alive(self.exists[network.pairs.machine[network.probed.pair]])
        self.name_probers = Probers(name_beats(network), name_findings(self.network, self.flow), drill.phases, change_s)
        self.met = self.probers.believes.copy()
        self.wrong_since = np.full(len(network.probed.pair), np.nan)
        self.answer_s = self._outcome().delay_s
        # The shortest and longest time of an answer since a prober last began to pass.
        self.answer_range_s = (self.answer_s, self.answer_s)
        self.failed_at_once = np.zeros(len(network.probed.pair), dtype=bool)
        self._begin_notes()

    def _begin_notes(self) -> None:
        """What is noted on the way."""
        network = self.network
        # Per probed pair: whether requests meet nothing good there without any fault, and since when they have lost
        # what no probe asks about.
        self.never_well = self._requests_fail(encounter(network, healthy(network)))
        self.unseen_since = np.full(len(network.probed.pair), np.nan)
        self.totals = Totals()
        self.keyframes: list[Keyframe] = []
        self.blind: list[BlindRow] = []
        self.events: list[Event] = []
        self.votes: list[Vote] = []
        self.last_change_s = 0.0
        self.trigger: str | None = None
        self.cascade: Cascade | None = None

    def run(self, watch: Watch, reached: Reached) -> DrillRun:
        """Runs from event to event to the end."""
        self._happen()
        while True:
            watch()
            reached(self.now)
            upcoming = min(self._next_step_s(), self.addresses.next_change_s(), self.probers.next_verdict_s())
            upcoming = min(upcoming, self.name_probers.next_verdict_s(), self.look_s)
            upcoming = min(upcoming, self.crossing.at_s, self._next_profile_s(), self._next_warmth_s())
            upcoming = min([upcoming, *(scaler.next_event_s(self.now) for scaler in self.scalers)])
            upcoming = min(upcoming, float(self.left_at_s.min(initial=np.inf)))
            if upcoming > self.drill.lasts_s:
                break
            self._advance_to(upcoming)
            self._happen()
        self._advance_to(self.drill.lasts_s)
        return self._finished()

    # Events

    def _happen(self) -> None:
        """Everything that is due now, in its order, and one solve."""
        if self.probers.just_before:
            self._take_verdicts()
            self._take_votes()
        self._take_steps()
        self._end_drains()
        self._take_fronts()
        self._take_verdicts()
        self._take_votes()
        self._withdraw()
        self._answer()
        self._scale()
        self._warm_up()
        self._solve()
        self.keyframes.append(
            Keyframe(
                t_s=self.now,
                state=self.flow.state,
                zone_served=self.flow.zone_served,
                cause_rps=self.flow.cause_rps,
                mechanism_rps=self.flow.mechanism_rps,
                utilisation=self.flow.queue.utilisation,
                moving=self.grown.moves or self.look_s < NEVER,
                latency_s=self.flow.mean_latency_s,
                faster=self.faster,
                stale=self.resolvers.stale_shares(self.now, self.flow.state.call_rps),
                failed=self.totals.failed,
                opens=(self.ahead[1] if self.ahead else self.flow).opens,
            )
        )

    def _take_steps(self) -> None:
        truth_changes = False
        while self.steps and self.steps[0].at_s <= self.now:
            step = self.steps.pop(0)
            truth_changes |= self._take_step(step)
        if truth_changes:
            self._change_truth()

    def _take_step(self, step: Step) -> bool:
        if step.surge:
            self.surges[step.surge.clients] = step.surge.factor
            self._log("surge", (step.surge.clients,), f"{step.surge.clients} ask {step.surge.factor:g} times as much")
        elif step.fail:
            self.faults.append(step.fail)
            self._log("fail", (describe_part(step.fail),), f"{describe_part(step.fail)} is lost")
        elif step.restore:
            self.faults.remove(step.restore)
            self._log("restore", (describe_part(step.restore),), f"{describe_part(step.restore)} is back")
        elif step.drain or step.undrain:
            self._drain(step)
        self.last_change_s = self.now
        if step.fail or step.surge:
            self.trigger = f"{self.events[-1].message} at {self.now:g} s"
        return bool(step.fail or step.restore)

    def _drain(self, step: Step) -> None:
        """An instance leaves, or comes back: it gets nothing new from any front."""
        name = (step.drain or step.undrain).instance  # type: ignore[union-attr]
        self._leave(self.network.machines.index(name), leaves=step.drain is not None)
        self._log(step.kind, (name,), f"{name} {'drains' if step.drain else 'is back from draining'}")

    def _leave(self, machine: int, *, leaves: bool) -> None:
        """Sessions move on with their next call; layer 4 connections may stay for the group's `drain_s`."""
        network = self.network
        self.leaving = self.leaving.copy()
        self.leaving[machine] = leaves
        pairs = network.pairs.machine == machine
        self.left_at_s = np.where(pairs, self.now + self._drain_s if leaves else np.inf, self.left_at_s)
        if leaves:
            self.sessions_moved += self.holding.free_sessions(network.members.machine == machine)

    def _end_drains(self) -> None:
        gone = self.left_at_s <= self.now
        if gone.any():
            self.left_at_s = np.where(gone, np.inf, self.left_at_s)
            self._reset(gone)

    @cached_property
    def _drain_s(self) -> Floats:
        """Per pair: how long connections to a target that leaves may last (s)."""
        drain = np.array([group.drain_s for group in self.network.plan.target_groups], dtype=np.float64)
        return drain[self.network.pairs.group]

    def _change_truth(self) -> None:
        before, self.truth = self.truth, self._truth()
        self.view = probe_view(self.network, self.truth)
        self.encounter = encounter(self.network, self.truth)
        self.backlog_s = np.where(_emptied(self.network, self.truth), 0.0, self.backlog_s)
        self.backlog_s = self.backlog_s * (self.truth.slowness / before.slowness)
        self.addresses.meet(self.now, self.truth.front_dead | self.empty)
        # A target whose process dies resets its connections, where its front lives to hear of it.
        self._reset((self.encounter.met == REFUSES) & ~self.truth.front_dead[self.network.pairs.front])
        self._meet()

    def _truth(self) -> Truth:
        """The truth under the faults in force; what is not there, or does not serve yet, is silent."""
        truth = truth_under(self.network, self.faults)
        if not self.scalers:
            return truth
        silent = truth.machine_silent | ~self.exists
        for scaler in self.scalers:
            silent[scaler.starting(self.now)] = True
        return replace(truth, machine_silent=silent)

    def _scale(self) -> None:
        """Drained machines go, launched ones begin to serve, and autoscalers decide."""
        if not self.scalers:
            return
        changed, launched = False, []
        self.exists, self.leaving = self.exists.copy(), self.leaving.copy()
        for scaler in self.scalers:
            gone = scaler.take_gone(self.now)
            self.exists[gone], self.leaving[gone] = False, False
            if scaler.next_s <= self.now:
                launched += list(self._decide(scaler))
            changed |= len(gone) > 0 or bool(launched)
        starting = [int(one) for scaler in self.scalers for one in scaler.starting(self.now)]
        if changed or starting != self.starting:
            self.starting = starting
            self.most_targets = max(self.most_targets, int((self.exists & self.network.machines.real).sum()))
            self.probers.start(np.isin(self.network.pairs.machine[self.network.probed.pair], launched))
            self._change_truth()

    def _decide(self, scaler: Autoscaler) -> Ints:
        network = self.network
        using = self._in_use(self.probers.believes) & ~self.truth.front_dead[network.pairs.front]
        in_use = total_by(network.pairs.machine, using, len(network.machines.names)) > 0
        decision = scaler.decide(self.now, in_use, self.leaving, self._living_zones())
        self.exists[decision.launches] = True
        for machine in decision.drains:
            self._leave(int(machine), leaves=True)
            pairs = network.pairs.machine == machine
            scaler.leaves(int(machine), round(self.now + float(self._drain_s[pairs].max(initial=0.0)), DIGITS))
        names = network.machines.names
        for verb, some in (("launches", decision.launches), ("drains", decision.drains)):
            if len(some):
                listed = [names[int(one)] for one in some]
                self._log("scale", tuple(listed), f"{decision.words}: {verb} {', '.join(listed)}")
        return decision.launches

    def _living_zones(self) -> Bools:
        lost = {fault.zone for fault in self.faults} | {fault.region for fault in self.faults}
        zones, regions = self.network.zones, self.network.regions
        of_zone = [regions[int(region)] for region in self.network.zone_region]
        return np.array([not lost & {zone, region} for zone, region in zip(zones, of_zone, strict=True)], dtype=bool)

    def _reset(self, pairs: Bools) -> None:
        """Ends the layer 4 connections through these pairs at once."""
        self.connections_reset += self.holding.free_connections(pairs)

    @cached_property
    def _resets_when_out(self) -> Bools:
        """Per pair: its group resets the connections of a target that is found bad."""
        resets = np.array([group.on_out == "reset" for group in self.network.plan.target_groups], dtype=bool)
        return resets[self.network.pairs.group]

    def _take_fronts(self) -> None:
        changed = self.addresses.take_changes(self.now)
        for front in changed:
            verb = "joins" if self.addresses.present[front] else "leaves"
            name, zone = self.network.balancer_of(int(front)), self.network.front_name(int(front))
            self._log("front", (name, zone), f"the {zone} front {verb} the address of {name}")
            if not self.addresses.present[front]:
                self._reset((self.network.pairs.front == front) & self.truth.front_dead[front])
        if len(changed):
            self.last_change_s = self.now

    def _take_verdicts(self) -> None:
        changed = self.probers.take_verdicts(self.now)
        if len(changed):
            self.last_change_s = self.now
            self._note_right(changed)
            self._log_verdicts(changed)
            self._note_cascade(changed[~self.probers.believes[changed]])
            fallen = self.network.probed.pair[changed[~self.probers.believes[changed]]]
            freed = np.zeros(len(self.network.members.group), dtype=bool)
            freed[self.network.pairs.member[fallen]] = True
            self.sessions_moved += self.holding.free_sessions(freed)
            self._reset(self._resets_when_out & np.isin(np.arange(len(self._resets_when_out)), fallen))
            risen = self.network.probed.pair[changed[self.probers.believes[changed]]]
            self.warm_since[risen[self._slow_s[risen] > 0]] = self.now

    def _take_votes(self) -> None:
        """Verdicts of those who probe names, and what they make of the answers."""
        changed = self.name_probers.take_verdicts(self.now)
        for prober in changed:
            name, answer, area, _ = self.network.names.checks[int(prober)]
            vote = Vote(self.now, name, answer, area, bool(self.name_probers.believes[prober]))
            self.votes.append(vote)
            self._log_answer(name, answer, area, believed=vote.believed)
        if len(changed):
            self.last_change_s = max(self.last_change_s, self.now)
            self.healthy = counted(self.network, self.name_probers.believes)

    def _answer(self) -> None:
        """Begins a new answer set where health or fronts have changed it."""
        self.resolvers.change(self.now, self.healthy, self.addresses.present)

    def _withdraw(self) -> None:
        """Fronts that leave their address without usable targets begin to, or turn back."""
        empty = self._empty_fronts()
        if (empty != self.empty).any():
            self.empty = empty
            self.addresses.meet(self.now, self.truth.front_dead | empty)
            self._take_fronts()

    def _empty_fronts(self) -> Bools:
        """Fronts that withdraw without targets and have none in use."""
        network = self.network
        withdraws = np.array([one.withdraw_when == "no-targets" for one in network.plan.balancers], dtype=bool)
        if not withdraws.any():
            return np.zeros(len(network.fronts.zone), dtype=bool)
        usable = self._in_use(self.probers.believes) & (network.pairs.weight > 0)
        count = len(network.fronts.zone)
        has_groups = np.isin(np.arange(count), network.cells.front)
        return np.asarray(
            withdraws[network.fronts.balancer] & has_groups & (total_by(network.pairs.front, usable, count) == 0)
        )

    def _warm_up(self) -> None:
        """How warm each target is: `slow_start_s` raises its weight in ten equal steps."""
        cold = np.flatnonzero(~np.isnan(self.warm_since))
        if not len(cold):
            return
        steps = np.floor((self.now - self.warm_since[cold]) / self._slow_s[cold] * SLOW_STEPS + 1e-6) + 1
        self.warmth = self.warmth.copy()
        self.warmth[cold] = np.minimum(steps / SLOW_STEPS, 1.0)
        self.warm_since[cold[steps >= SLOW_STEPS]] = np.nan

    def _next_warmth_s(self) -> float:
        cold = np.flatnonzero(~np.isnan(self.warm_since))
        if not len(cold):
            return np.inf
        step = self._slow_s[cold] / SLOW_STEPS
        done = np.floor((self.now - self.warm_since[cold]) / step + 1e-6)
        return float(np.round(self.warm_since[cold] + (done + 1) * step, DIGITS).min())

    @cached_property
    def _slow_s(self) -> Floats:
        """Per pair: over how many seconds a target that comes into use is warmed up."""
        slow = np.array([group.slow_start_s for group in self.network.plan.target_groups], dtype=np.float64)
        return slow[self.network.pairs.group]

    # Solving

    def _moment(self, in_use: Bools) -> State:
        present = self.addresses.present
        return State(
            truth=self.truth,
            encounter=self.encounter,
            in_use=in_use,
            in_address=present,
            healthy=self.healthy,
            answers=self.resolvers.answers(self.now),
            fresh=self.resolvers.fresh(),
            warmth=self.warmth,
            call_rps=self._call_rps(),
            backlog_s=self.backlog_s,
            held=self.holding.held,
            exists=self.exists if self.scalers else None,
            attempts=self.attempts,
        )

    def _in_use(self, believes: Bools) -> Bools:
        in_use = np.ones(len(self.network.pairs.front), dtype=bool)
        in_use[self.network.probed.pair] = believes
        in_use &= ~self.leaving[self.network.pairs.machine]
        if self.scalers:
            waits = ~self.exists
            waits[self.starting] = True
            in_use &= ~waits[self.network.pairs.machine]
        return in_use

    def _settled_flow(self) -> Flow:
        """The flow at the start: belief is what the probes find under the load that this belief makes."""
        believes = self.view.passes[self.network.probed.pair]
        for _ in range(SETTLING_ROUNDS):
            self.flow = self.solver.solve(self._moment(self._in_use(believes)))
            found, healthy = self._outcome().passes, votes(self.network, self.flow)
            told = all((a == b).all() for a, b in zip(healthy, self.healthy, strict=True))
            if (found == believes).all() and told:
                break
            believes, self.healthy = found, healthy
            self.resolvers = Resolvers(self.network, healthy, self.addresses.present)
        return self.flow

    def _solve(self) -> None:
        self.flow = self.solver.solve(self._moment(self._in_use(self.probers.believes)))
        self.attempts = self.flow.attempts
        self._meet()
        if self.network.names.checks:
            self.name_probers.meet(self.now, name_findings(self.network, self.flow))
        self._look_ahead()
        self.grown = growth(self.flow, self.faster)
        self.crossing = next_crossing(self.flow, self.grown, self.bounds_s, self.now)

    def _outcome(self) -> Findings:
        """What the probes of each prober find now, given truth and the queues of the latest solve."""
        pairs = self.network.probed.pair
        machine = self.network.pairs.machine[pairs]
        timeout = self.network.probed.timeout_s
        latency, slope = self.flow.queue.latency_s[machine], self.flow.queue.slope[machine]
        latency = latency + (self.backlog_s - self.flow.state.backlog_s)[machine]
        late = too_late(latency, slope, timeout) & ~self.view.silent[pairs]
        answers = ~self.view.silent[pairs] & ~late
        passes = answers & self.view.passes[pairs]
        waits = self.view.silent[pairs] | (late & self.view.passes[pairs])
        delay = np.where(passes, latency, np.where(waits, timeout, 0.0))
        found = Findings(passes, delay, np.where(passes, slope, 0.0))
        return with_onward(self.network, self.flow, found)

    def _meet(self) -> None:
        """Tells the probers what they find from now on, and notes whose belief has become wrong."""
        outcome = self._outcome()
        self.probers.meet(self.now, outcome)
        alive = ~self.truth.front_dead[self.network.pairs.front[self.network.probed.pair]]
        alive &= self.exists[self.network.pairs.machine[self.network.probed.pair]]
        self.probers.set_alive(alive)
        self._note_changes(outcome, alive)

    def _call_rps(self) -> Floats:
        calls = self.network.calls
        rates = [
            client.rps * self.surges.get(client.name, 1.0) * profile_factor(client.profile, self.now)
            for client in self.network.plan.clients
        ]
        # One past the last are those who probe names: they ask for nothing.
        return np.array([*rates, 0.0], dtype=np.float64)[calls.client] * calls.share

    # Time

    def _advance_to(self, second: float) -> None:
        seconds = second - self.now
        for scaler in self.scalers:
            scaler.watch(self.flow.queue.utilisation, seconds)
        later_s = self.grown.after(seconds)
        if seconds > 0 and self.look_s < NEVER:
            self._add_moving(second, seconds, later_s)
        else:
            self.totals.add(self.flow, seconds, later_s)
        self.backlog_s = later_s
        if second >= self.crossing.at_s:
            self.backlog_s[self.crossing.machines] = self.crossing.backlog_s
            if (self.crossing.backlog_s == 0).any():
                self.last_change_s = second
        self.now = second

    def _add_moving(self, second: float, seconds: float, later_s: Floats) -> None:
        """Adds a stretch in which shares change: what is linear in them is that of their mean."""
        then, mean = self.ahead or (NEVER, self.flow)
        if then != second or self.grown.moves:
            mean = self._mean_flow(second, self.grown.mean(seconds), mean if then == second else None)
        self.totals.add(mean, seconds, later_s)
        self.totals.add(self.flow, 0.0, self.backlog_s)
        self.holding.held = self.holding.after(mean.opens, seconds)

    def _mean_flow(self, second: float, backlog_s: Floats, near: Flow | None = None) -> Flow:
        """The flow under the mean of what clients hold until a second, and these backlogs; `near`: one near it."""
        answers, mean = self.resolvers.mean_answers(self.now, second), near or self.flow
        for _ in range(1 if near else MEAN_ROUNDS):
            held, before = self.holding.mean(mean.opens, second - self.now), mean
            state = replace(self.flow.state, answers=answers, held=held, backlog_s=backlog_s, attempts=mean.attempts)
            mean = self.solver.solve(state)
            if not mean.opens.otherwise(before.opens):
                break
        return mean

    def _look_ahead(self) -> None:
        """Until when shares may be taken to change evenly: as old answers fade, as sessions are opened and end, and as
        those who are chosen by how busy they are follow their backlogs; and how fast utilisations grow until then."""
        self.ahead, self.faster = None, None
        steady_s = min(self.resolvers.next_s(self.now), self.holding.next_s(self.flow.opens, self.now))
        follow_s = self._follow_s()
        self.look_s = min(steady_s, self.now + follow_s)
        if self.look_s == NEVER:
            return
        grown = growth(self.flow)
        mean = self._mean_ahead(grown, follow_s)
        if steady_s == NEVER and np.abs(mean.pair_share - self.flow.pair_share).max(initial=0.0) <= EVEN:
            # All that is busier is so alike.
            self.look_s = NEVER
            return
        self.ahead = self.look_s, mean
        self.faster = (mean.queue.utilisation - self.flow.queue.utilisation) / ((self.look_s - self.now) / 2)

    def _mean_ahead(self, grown: Growth, follow_s: float) -> Flow:
        """The mean flow until what is held is looked at again, backlogs growing so far meanwhile."""
        backlog_s = grown.mean(self.look_s - self.now) if follow_s < NEVER else grown.backlog_s
        return self._mean_flow(self.look_s, backlog_s)

    def _follow_s(self) -> float:
        """How long until a hold of those who are chosen by how busy they are has changed by FOLLOWED; inf while none of
        their backlogs moves."""
        mine = self.solver.frame.busy_machines
        if not len(mine):
            return NEVER
        slope, hold_s = np.abs(growth(self.flow).slope[mine]), self.flow.queue.latency_s[mine]
        seconds = np.divide(FOLLOWED * hold_s, slope, out=np.full(len(mine), NEVER), where=slope > EVEN)
        return max(float(seconds.min()), SHORTEST_S)

    def _next_step_s(self) -> float:
        return self.steps[0].at_s if self.steps else np.inf

    def _next_profile_s(self) -> float:
        starts = (entry[0] for client in self.network.plan.clients for entry in client.profile)
        return min((start for start in starts if start > self.now), default=np.inf)

    # Blind times

    def _note_changes(self, outcome: Findings, alive: Bools) -> None:
        """Opens a row where what is found has turned against the belief, closes those that turned back unnoticed."""
        before = self.met
        flipped = np.flatnonzero(outcome.passes != before)
        self.met = outcome.passes.copy()
        open_before = ~np.isnan(self.wrong_since)
        for prober in flipped[open_before[flipped]]:
            self._close(int(prober), believed=False)
        opens = flipped[alive[flipped] & (outcome.passes != self.probers.believes)[flipped]]
        self.wrong_since[opens] = self.now
        self.failed_at_once = np.where(outcome.passes, self.failed_at_once, outcome.delay_s == 0)
        self.answer_s = np.where(outcome.passes, outcome.delay_s, self.answer_s)
        begun = outcome.passes & ~before
        low, high = (np.where(begun, outcome.delay_s, bound) for bound in self.answer_range_s)
        self.answer_range_s = (
            np.where(outcome.passes, np.minimum(low, outcome.delay_s), low),
            np.where(outcome.passes, np.maximum(high, outcome.delay_s), high),
        )
        self.wrong_since[~alive] = np.nan
        self._note_unseen(alive & outcome.passes & self._requests_fail(self.encounter) & ~self.never_well)

    def _note_unseen(self, unseen: Bools) -> None:
        """Opens and closes rows of what requests have lost at targets whose probes pass all the same."""
        for prober in np.flatnonzero(~np.isnan(self.unseen_since) & ~unseen):
            self._close_unseen(int(prober))
        begun = unseen & np.isnan(self.unseen_since)
        self.unseen_since = np.where(begun, self.now, self.unseen_since)
        if begun.any():
            machines = self.network.pairs.machine[self.network.probed.pair[begun]]
            names = tuple(dict.fromkeys(self.network.machines.names[int(one)] for one in machines))
            self._log("unseen", names, f"no probe asks about what is lost at {', '.join(names)}")

    def _close_unseen(self, prober: int) -> None:
        pair, since = int(self.network.probed.pair[prober]), float(self.unseen_since[prober])
        self.unseen_since[prober] = np.nan
        if self.now > since:
            self.blind.append(BlindRow(pair, "down", since, None, self.now, None))

    def _requests_fail(self, met: Encounter) -> Bools:
        """Per probed pair: whether some client's requests meet nothing there, or a page that is no good."""
        pairs = self.network.probed.pair
        fails = ((met.fate_met != ANSWERS) | met.bad_page)[:, pairs]
        return np.asarray((fails & self._fates_asking(met)[:, pairs]).any(axis=0))

    def _fates_asking(self, met: Encounter) -> Bools:
        """Per fate and pair: whether calls of clients that fare so may come there."""
        network = self.network
        made = np.zeros((met.fate_met.shape[0], len(network.cells.front)), dtype=bool)
        fate = met.fate[network.calls.outcome]
        np.logical_or.at(made, fate, network.kept.at_cells)
        return made[:, network.pairs.cell]

    def _note_right(self, changed: Ints) -> None:
        for prober in changed[~np.isnan(self.wrong_since[changed])]:
            self._close(int(prober), believed=True)

    def _close(self, prober: int, *, believed: bool) -> None:
        since = float(self.wrong_since[prober])
        self.wrong_since[prober] = np.nan
        up = bool(self.probers.believes[prober]) if believed else not self.probers.believes[prober]
        pair = int(self.network.probed.pair[prober])
        row = BlindRow(
            pair=pair,
            change="up" if up else "down",
            true_at_s=since,
            believed_at_s=self.now if believed else None,
            ended_at_s=self.now,
            bounds=self._bounds(prober, pair, up=up),
        )
        self.blind.append(row)

    def _bounds(self, prober: int, pair: int, *, up: bool) -> Bounds:
        group = int(self.network.pairs.group[pair])
        probe = self.network.groups.probe[group]
        assert probe is not None
        answer, at_once = float(self.answer_s[prober]), bool(self.failed_at_once[prober])
        if up:
            quick, slow = (float(bound[prober]) for bound in self.answer_range_s)
            quickest = up_bounds(probe, answer_s=quick, at_once=at_once)
            return Bounds(quickest.earliest_s, up_bounds(probe, answer_s=slow, at_once=at_once).latest_s)
        return down_bounds(probe, at_once=at_once, answer_s=answer)

    # Words

    def _log(self, kind: str, about: tuple[str, ...], message: str) -> None:
        self.events.append(Event(self.now, kind, about, message))

    def _log_answer(self, name: int, answer: int, area: int, *, believed: bool) -> None:
        entry = self.network.plan.names[name]
        given = entry.answers[answer]
        about = given.balancer or given.address or given.host or ""
        word = "back in use" if believed else "out"
        self._log(
            "answer", (entry.name, about), f"{about} {word}, says {self.network.plan.areas[area].name} of {entry.name}"
        )

    def _note_cascade(self, fallen: Ints) -> None:
        """The first target that falls to its load alone: what its probe asks is there, but comes too late."""
        pairs = self.network.probed.pair[fallen]
        tired = pairs[self.view.passes[pairs] & ~self._outcome().passes[fallen]]
        if self.cascade is None and len(tired):
            names = dict.fromkeys(self.network.machines.names[int(one)] for one in self.network.pairs.machine[tired])
            self.cascade = Cascade(self.now, next(iter(names)), self.trigger)
            fall = "falls to its load" if len(names) == 1 else "fall to their load"
            set_off = f", set off as {self.trigger}" if self.trigger else ""
            self._log("cascade", tuple(names), f"{', '.join(names)} {fall}: a cascade{set_off}")

    def _log_verdicts(self, changed: Ints) -> None:
        pairs = self.network.probed.pair[changed]
        for believed, word in ((True, "back in use"), (False, "out")):
            mine = pairs[self.probers.believes[changed] == believed]
            for front in np.unique(self.network.pairs.front[mine]):
                of_front = mine[self.network.pairs.front[mine] == front]
                names = dict.fromkeys(
                    self.network.machines.names[int(machine)] for machine in self.network.pairs.machine[of_front]
                )
                by = f"{self.network.balancer_of(int(front))} in {self.network.front_name(int(front))}"
                self._log("verdict", tuple(names), f"{', '.join(names)} {word}, says {by}")

    def _finished(self) -> DrillRun:
        for prober in np.flatnonzero(~np.isnan(self.wrong_since)):
            self._close(int(prober), believed=False)
        for prober in np.flatnonzero(~np.isnan(self.unseen_since)):
            self._close_unseen(int(prober))
        blind = tuple(sorted(self.blind, key=lambda row: (row.true_at_s, row.pair)))
        settled = self.resolvers.next_s(self.now) == NEVER and not (self.backlog_s > AT_BOUND_S).any()
        settled = settled and bool(np.isnan(self.warm_since).all())
        self.last_change_s = max(self.last_change_s, self.resolvers.settles_s) if settled else self.drill.lasts_s
        self.last_change_s = min(self.last_change_s, self.drill.lasts_s)
        worst = max((row.blind_s for row in blind if row.change == "down"), default=0.0)
        last_step = max((step.at_s for step in self.drill.steps), default=0.0)
        readings = self.totals.readings(
            self.sessions_moved,
            self.connections_reset,
            worst,
            max(self.last_change_s - last_step, 0.0),
            self.most_targets,
            settled=settled,
        )
        history = self.resolvers.history
        return DrillRun(
            self.network, self.drill, tuple(self.keyframes), blind, tuple(self.events), readings,
            history, partial(self.resolvers.answers_at, history), tuple(self.votes), self.cascade,
        )  # fmt: skip


def _emptied(network: Network, truth: Truth) -> Bools:
    """Machines that lost their queue: silent ones, and those all of whose services refuse."""
    count = len(network.machines.names)
    serving = total_by(network.services.machine, ~truth.service_refuses, count)
    return truth.machine_silent | ((serving == 0) & truth.service_refuses.any())
