"""The drill: a plan under a script of faults, solved exactly at its events.

A run is a loop over processes. What comes at the same second happens in the order in which `Run.order` names them; then
there is one solve.
"""

from collections.abc import Callable, Iterable, Sequence
from copy import deepcopy
from functools import partial

import numpy as np
from msgspec.structs import replace

from northgate.engine.base import NEVER, Bools, Floats, Reached, Watch, go_on, same, total_by, untold
from northgate.engine.drill.ahead.found import Found
from northgate.engine.drill.ahead.look_ahead import LookAhead
from northgate.engine.drill.blind import BlindTimes
from northgate.engine.drill.by_hand import Newcomers, Records, Rolls, Way, first_given, new_fronts, scaled_in, with_room
from northgate.engine.drill.drawing import on_the_stairs, on_the_way, stays
from northgate.engine.drill.journal import Journal
from northgate.engine.drill.readings import Totals, readings_of
from northgate.engine.drill.result import DrillRun, Keyframe
from northgate.engine.drill.script import Hands, Script, check_events, check_restores, counted, first_change_s
from northgate.engine.drill.stairs import Climb, Stairs, ends_of, may_be_stairs, stairs_ahead
from northgate.engine.formulas import AT_BOUND_S
from northgate.engine.network import Network
from northgate.engine.processes import (
    Anew,
    Autoscaling,
    Backlogs,
    Demand,
    Drains,
    Entry,
    Fronts,
    Holdings,
    Keyed,
    NameChecks,
    Names,
    Past,
    Process,
    Resolvers,
    TargetChecks,
    Targets,
    Verdicts,
    Warmup,
    Withdrawals,
    World,
    usable,
)
from northgate.engine.solver import Attempts, Flow, Solver, State
from northgate.plan.models.drills import Drill, Step

SETTLING_ROUNDS = 10
# A machine keeps up below this utilisation; where a backlog turns is found to be just above it.
KEEPS_UP = 1 - 1e-9


def run_drill(
    network: Network, drill: Drill, watch: Watch = go_on, reached: Reached = untold,
    newcomers: frozenset[Way] = frozenset(), *, anyway: bool = False,
) -> DrillRun:  # fmt: skip
    """Runs a drill; raises CannotRun when a step restores what has not failed, and, unless it is run `anyway`, when
    too much happens in it. `watch` is called at every event, then `reached` with its second. `newcomers` are registered
    at the first step."""
    check_restores(network, drill)
    if anyway:
        return Run(with_room(network, drill), drill, newcomers=newcomers).run(watch, reached)
    check_events(network, drill)
    count, now = counted(watch, drill.lasts_s)

    def both(second: float) -> None:
        now(second)
        reached(second)

    return Run(with_room(network, drill), drill, newcomers=newcomers).run(count, both)


def undisturbed(network: Network) -> Flow:
    """The flow of a plan without any fault, settled."""
    return Run(network, Drill(name="now", lasts_s=1.0)).flow


class Run:
    """A drill while it runs: its processes, and who reads what they do."""

    def __init__(
        self, network: Network, drill: Drill, change_s: float | None = None, newcomers: frozenset[Way] = frozenset()
    ) -> None:  # fmt: skip
        """`change_s`: the second at which truth first changes, where the drill does not say it yet."""
        self.network, self.drill, self.now = network, drill, 0.0
        self.solver, scaled = Solver(network), scaled_in(drill)
        self.world, self.demand, self.holdings = World(network, scaled), Demand(network), Holdings(network)
        self.drains, self.warmup, self.keyed = Drains(network, self.holdings), Warmup(network), Keyed(self.holdings)
        self.fronts = Fronts(self.world, self.holdings, new_fronts(network, newcomers))
        self.target_checks, self.name_checks = TargetChecks(self.world), NameChecks(network)
        self.backlogs, self.given = Backlogs(self.world), first_given(network, drill)
        self.begins: tuple[Attempts | None, Floats | None] = (None, None)
        self.flow, healthy = self._settle()
        change_s, phases = first_change_s(drill) if change_s is None else change_s, drill.phases
        found = self.target_checks.findings(self.flow, self.backlogs.backlog_s)
        self.targets = Targets(self.world, self.drains, self.holdings, self.warmup, found, phases, change_s)
        asked = self.name_checks.findings(self.flow)
        self.names = Names(self.name_checks, healthy, self.given, asked, phases, change_s)
        self.scaling = Autoscaling(self.world, self.targets, self.drains, scaled)
        self.newcomers = Newcomers(self.targets, newcomers, drill)
        if newcomers:
            self.flow = flow_with(self, self.targets.in_use, healthy)
        self.look_ahead = LookAhead(
            self.solver, self.anew, self.holdings, self.backlogs, partial(found_under, self), drill.lasts_s
        )  # fmt: skip
        self.climb = Climb(partial(flow_under, self), partial(found_alike, self))
        self.flow = self.holdings.settle(self.flow, lambda: flow_with(self, self.targets.in_use, healthy))
        self.backlogs.look(self.flow, None, self.now)
        self.order = self._order()
        self.totals, self.journal = Totals(), Journal()
        self.blind = BlindTimes(self.world, self.targets)
        self.keyframes: list[Keyframe] = []
        # The flows of the first so many keyframes, by second, for whoever looks at them at once.
        self.keeps, self.kept = 0, dict[float, Flow]()

    def with_steps(self, steps: Sequence[Step]) -> "Run":
        """A run that begins as this one, which has not begun, and goes by other steps; what never changes is shared."""
        shared = (self.network, *vars(self.network).values(), self.world.paths, self.backlogs.patience, self.flow)
        known = {id(one): one for one in shared} | {id(self.solver): self.solver.another()}
        copied: Run = deepcopy(self, known)
        copied.drill = self.drill.model_copy(update={"steps": list(steps)})
        copied.order = copied._order()
        return copied

    def _order(self) -> tuple[Process, ...]:
        """The order of what happens at the same second."""
        # Under the worst phases probes are sent just before the step: a verdict of its very second comes first.
        first: tuple[Process, ...] = (self.targets, self.names) if self.targets.probers.just_before else ()
        records, rolls = Records(self.names, self.drill), Rolls(self.world, self.drains, self.targets, self.scaling)
        script = Script(self.drill, Hands(self.world, self.demand, self.drains, self.scaling, records, rolls))
        withdrawals = Withdrawals(self.fronts, self.targets)
        # Who is drained, by hand, by an autoscaler or in a batch, is no target from that very second on.
        drain = (script, self.newcomers, self.drains, self.fronts, self.targets, self.names, self.scaling, rolls)
        return (*first, *drain, withdrawals, self.warmup, self.demand, self.backlogs, self.look_ahead)

    def run(self, watch: Watch, reached: Reached, enough: Callable[["Run"], bool] = lambda _: False) -> DrillRun:
        """Runs from event to event to the end, or until `enough` is known."""
        self._happen()
        while True:
            watch()
            reached(self.now)
            if enough(self):
                return finished(self)
            upcoming = min(process.next_s(self.now) for process in self.order)
            if upcoming > self.drill.lasts_s:
                break
            self._advance_to(upcoming)
            self._happen()
            self._climb()
        self._advance_to(self.drill.lasts_s)
        return finished(self)

    def _happen(self) -> None:
        """Everything that is due now, in its order, and one solve."""
        for process in self.order:
            self._tell(self.now, process.take(self.now))
            if self.world.stale:
                self._truth_changes()
        self.resolvers.change(self.now, self.names.healthy, self.fronts.present, self.names.given)
        state = self.keyed.follow(self.state_with(self.targets.in_use), self.solver.drawn)
        self.flow = self.look_ahead.there(state, self.now) or self.solver.solve(state)
        self._look()

    def _tell(self, now: float, entries: Iterable[Entry]) -> None:
        """Writes down what has happened at a second."""
        for entry in entries:
            if isinstance(entry, Verdicts):
                self.blind.verdicts(now, entry.probers)
            else:
                self.journal.write(now, [entry])

    def _look(self) -> None:
        """What follows from the flow of now: what probes find, and how far it holds."""
        self.begins = self.flow.attempts, self.flow.pair_share
        self.anew.look(self.now, self.flow, self.holdings.held)
        meet_targets(self)
        meet_names(self)
        self.look_ahead.look(self.flow, self.now, self._until_s())
        self.backlogs.look(self.flow, self.look_ahead.faster, self.now, self.look_ahead.blind_until_s)
        if self.look_ahead.faster is not None:
            self.targets.drift(self.now, self.flow, self.look_ahead.faster)
        self.keyframes.append(keyframe(self))

    def _climb(self) -> None:
        """Takes verdicts that follow each other in one, where rates go smoothly from each to the next."""
        stairs, believes = stairs_of(self), self.targets.probers.believes.copy()
        climbed = self.climb.climb(stairs, believes, self.flow) if stairs else None
        if climbed is None:
            return
        stairs = climbed.stairs
        for second, told in self.targets.take_stairs(zip(stairs.at_s[1:].tolist(), stairs.turns, strict=True)):
            self._tell(second, told)
        first, probed = self.keyframes.pop(), self.network.probed.pair
        then = partial(usable, self.world, self.drains)
        self.keyframes += on_the_stairs(first, climbed, probed, lambda step: then(stairs.believed(believes, step)))
        for flow, seconds in climbed.parts():
            self.scaling.watch(flow.queue.utilisation, seconds)
            self.totals.add(flow, seconds, flow.state.backlog_s)
        self.flow, self.now = climbed.flows[-1], float(stairs.at_s[-1])
        self._look()

    def _until_s(self) -> float:
        """The next second at which something happens by itself; the end is none."""
        watched = (self.look_ahead, self.backlogs)
        return min(process.next_s(self.now) for process in self.order if process not in watched)

    def _truth_changes(self) -> None:
        self.backlogs.meet(self.world.renew())
        self.fronts.meet(self.now)
        self.holdings.meet(self.world)
        meet_targets(self)

    def _settle(self) -> tuple[Flow, list[Bools]]:
        """The flow at the start, and which answers are healthy: belief is what probes find under the load it makes."""
        believes = self.world.view.passes[self.network.probed.pair]
        healthy = [np.ones(len(name.answers), dtype=bool) for name in self.network.plan.names]
        self._tell_names(healthy)
        for _ in range(SETTLING_ROUNDS):
            flow = flow_with(self, usable(self.world, self.drains, believes), healthy)
            found = self.target_checks.findings(flow, self.backlogs.backlog_s).passes
            voted = self.name_checks.votes(flow)
            if (found == believes).all() and all(map(same, voted, healthy)):
                break
            believes, healthy = found, voted
            self._tell_names(healthy)
        return flow, healthy

    def _tell_names(self, healthy: list[Bools]) -> None:
        self.resolvers = Resolvers(self.network, healthy, self.fronts.present, self.given)
        self.anew = Anew(self.solver, self.resolvers, self.holdings)

    def state_with(self, in_use: Bools, healthy: list[Bools] | None = None) -> State:
        """The state of now, were these pairs in use; while the run is set up, with these healthy answers."""
        return State(
            truth=self.world.truth,
            encounter=self.world.encounter,
            in_use=in_use,
            in_address=self.fronts.present,
            healthy=self.names.healthy if healthy is None else healthy,
            answers=self.anew.answers(self.now, self.holdings.held),
            fresh=self.resolvers.fresh(),
            warmth=self.warmup.warmth,
            call_rps=self.demand.call_rps(self.now),
            backlog_s=self.backlogs.backlog_s,
            held=self.holdings.held,
            exists=self.world.present(),
            given=self.names.given if healthy is None else self.given,
            leaving=self.drains.leaving,
            attempts=self.begins[0],
            shares=self.begins[1],
        )

    def _advance_to(self, second: float) -> None:
        """Goes on to a second: rates add up, backlogs grow, sessions and connections open and end."""
        half_way_s, later_s = map(self.backlogs.after, ((seconds := second - self.now) / 2, seconds))
        if seconds > 0 and self.look_ahead.moves:
            ahead = self.look_ahead.until(second)
            self.keyframes += on_the_way(self.keyframes.pop(), ahead, second, self.anew, self.holdings, self.backlogs)
            for flow, part in [(self.flow, 0.0), *ahead.parts]:
                self.scaling.watch(flow.queue.utilisation, part * seconds)
                self.totals.count(flow, part * seconds)
            self.totals.rise_through(self.flow, ahead, second, (half_way_s, later_s), self.look_ahead.flows.end_of)
            self.holdings.held = ahead.held or self.holdings.after(ahead.opens, seconds)
            self.anew.go_on(ahead.opened, second)
            self.begins = self.look_ahead.flows.begin(second)
        else:
            self.keyframes[-1] = stays(self.keyframes[-1], self.flow, later_s)
            self.scaling.watch(self.flow.queue.utilisation, seconds)
            self.totals.add(self.flow, seconds, later_s)
        self.blind.grow(later_s - self.backlogs.backlog_s)
        self.backlogs.advance(later_s, second)
        self.now = second


def flow_with(run: Run, in_use: Bools, healthy: list[Bools] | None = None) -> Flow:
    """The flow of now, were these pairs in use; while the run is set up, with these healthy answers."""
    return run.solver.solve(run.state_with(in_use, healthy))


def meet_targets(run: Run) -> None:
    """Tells probers of targets what they find from now on, and notes whose belief has become wrong."""
    find = partial(run.target_checks.findings, backlog_s=run.backlogs.backlog_s)
    run.targets.meet(run.now, run.targets.on_return(find(run.flow), lambda mine: find(flow_with(run, mine))))
    run.journal.write(run.now, run.blind.look(run.now))


def meet_names(run: Run) -> None:
    """Tells probers of names what they find now, and all that are calls whether these may come to take longer."""
    run.names.meet(run.now, run.flow)
    run.look_ahead.tell((run.targets.probers, run.names.probers), run.flow, run.now)


def keyframe(run: Run) -> Keyframe:
    """What rates depend on from now on; the flow is kept while there is room for it."""
    flow, look_ahead = run.flow, run.look_ahead
    if len(run.kept) < run.keeps:
        run.kept[run.now] = flow
    return Keyframe(
        t_s=run.now,
        state=flow.state,
        zone_served=flow.zone_served,
        cause_rps=flow.cause_rps,
        mechanism_rps=flow.mechanism_rps,
        utilisation=flow.queue.utilisation,
        moving=run.backlogs.moves or look_ahead.moves,
        latency_s=flow.mean_latency_s,
        faster=look_ahead.faster,
        stale=run.resolvers.stale_shares(run.now, flow.state.call_rps),
        failed=run.totals.failed,
        opens=look_ahead.opens(flow),
        followed=run.anew.followed,
    )


def finished(run: Run) -> DrillRun:
    """What a run has come to at its end."""
    blind = run.blind.finish(run.now)
    settled = bool(run.resolvers.next_s(run.now) == NEVER) and not (run.backlogs.backlog_s > AT_BOUND_S).any()
    settled = settled and not run.warmup.warming
    last_s = max(run.journal.unsettled_s, run.backlogs.emptied_s, run.resolvers.settles_s)
    last_s = min(last_s, run.drill.lasts_s) if settled else run.drill.lasts_s
    last_step = max((step.at_s for step in run.drill.steps), default=0.0)
    ended = run.totals.ended(
        run.holdings.sessions_moved,
        run.holdings.connections_reset,
        max((row.blind_s for row in blind if row.change == "down"), default=0.0),
        max(last_s - last_step, 0.0),
        run.world.most_targets,
        settled=settled,
    )
    history, votes = run.resolvers.history, tuple(run.names.votes)
    return DrillRun(
        run.network, run.drill, run.now, tuple(run.keyframes), blind, tuple(run.journal.events), readings_of(ended),
        history, Past(run.network, history, run.resolvers), votes, run.journal.cascade, run.kept,
    )  # fmt: skip


def found_under(run: Run, flow: Flow) -> Found:
    """What every probe of a drill would find under a flow, and which machines and bandwidths keep up."""
    found = run.target_checks.findings(flow, flow.state.backlog_s), run.name_checks.findings(flow)
    idle = KEEPS_UP - np.concatenate([flow.queue.utilisation, flow.bandwidth_used])
    passes, spare = ([getattr(one, name) for one in found] for name in ("passes", "spare"))
    return Found(np.concatenate([*passes, idle > 0]), np.concatenate([*spare, idle]), sum(map(len, passes)))


def flow_under(run: Run, believes: Bools, near: Flow) -> Flow:
    """The flow of now, were this believed; found from one near it."""
    in_use = usable(run.world, run.drains, believes)
    return run.solver.solve(replace(run.flow.state, in_use=in_use, attempts=near.attempts, shares=near.pair_share))


def found_alike(run: Run, flow: Flow) -> Callable[[Flow], bool]:
    """Whether probes find the same under another flow, those that will change a mind at the same second, and machines
    keep up."""
    found, believed = found_under(run, flow), (run.targets.probers.believes, run.names.probers.believes)

    def awaited(one: Flow) -> list[Floats]:
        """How long results take of those whose next verdict is still to come (s): of targets, and of names."""
        checks = run.target_checks.findings(one, one.state.backlog_s), run.name_checks.findings(one)
        return [each.delay_s[each.passes != mine] for each, mine in zip(checks, believed, strict=True)]

    now = awaited(flow)

    def alike(other: Flow) -> bool:
        return np.array_equal(found.passes, found_under(run, other).passes) and all(
            np.array_equal(one, then) for one, then in zip(now, awaited(other), strict=True)
        )

    return alike


def stairs_of(run: Run) -> Stairs | None:
    """The stairs that the verdicts make that come before anything else happens; None where anything else moves."""
    targets, network = run.targets, run.network
    on_beat = targets.probers.keeps_beat and run.names.probers.keeps_beat
    if run.look_ahead.moves or run.backlogs.moves or run.holdings.sorts or not on_beat:
        return None
    at_s, probers = targets.probers.to_come(run.drill.lasts_s)
    if not may_be_stairs(at_s):
        return None
    before_others = at_s < min(process.next_s(run.now) for process in run.order if process is not targets)
    at_s, probers = at_s[before_others], probers[before_others]
    pairs, gains = network.probed.pair[probers], ~targets.probers.believes[probers]
    if run.warmup.slow(pairs[gains]).any():
        return None
    cells, cell = network.pairs.cell[pairs], network.pairs.cell
    turned = np.ones(len(network.probed.pair), dtype=bool)
    all_in_use = usable(run.world, run.drains, turned)
    now, all_in_use = (some & (network.pairs.weight > 0) for some in (targets.in_use, all_in_use))
    ends = ends_of(cells, gains, all_in_use[pairs], total_by(cell, now, len(network.cells.front)))
    return stairs_ahead(run.now, at_s, probers, np.where(gains, cells, ~cells), ends)
