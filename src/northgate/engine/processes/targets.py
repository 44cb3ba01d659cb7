"""The probers of targets, and what follows from their verdicts."""

from collections.abc import Callable, Iterable, Iterator

import numpy as np
from msgspec import field

from northgate.engine.base import Bools, Floats, Ints, distinct
from northgate.engine.formulas import too_late
from northgate.engine.network import Network
from northgate.engine.processes.backlogs import growth
from northgate.engine.processes.holdings import Holdings
from northgate.engine.processes.name_probers import OnwardChecks
from northgate.engine.processes.probers import Probers
from northgate.engine.processes.probing.beats import Phases, target_beats
from northgate.engine.processes.probing.sends import COURSE, CUBED, SQUARED, USED, Findings
from northgate.engine.processes.process import Entry
from northgate.engine.processes.transitions import Drains, Warmup
from northgate.engine.processes.world import World
from northgate.engine.solver import Flow


class Verdicts(Entry, frozen=True):
    """Probers that have changed their mind, as places among the probed pairs."""

    probers: Ints = field(default_factory=lambda: np.zeros(0, dtype=np.int64))


class TargetChecks:
    """What the probers of targets look at."""

    def __init__(self, world: World) -> None:
        self.world, self._onward = world, OnwardChecks(world.network)

    def findings(self, flow: Flow, backlog_s: Floats) -> Findings:
        """What the probe of each probed pair finds now, given truth and the queues of the latest solve; `backlog_s` are
        the backlogs of now (s), by machine."""
        network, view = flow.network, self.world.view
        pairs, timeout = network.probed.pair, network.probed.timeout_s
        machine = network.pairs.machine[pairs]
        latency, slope = flow.queue.latency_s[machine], flow.queue.slope[machine]
        latency = latency + (backlog_s - flow.state.backlog_s)[machine]
        late = too_late(latency, slope, timeout) & ~view.silent[pairs]
        passes = ~view.silent[pairs] & ~late & view.passes[pairs]
        waits = view.silent[pairs] | (late & view.passes[pairs])
        delay = np.where(passes, latency, np.where(waits, timeout, 0.0))
        spare = np.where(view.silent[pairs] | ~view.passes[pairs], -1.0, timeout - latency)
        return self._onward.added_to(Findings(passes, delay, np.where(passes, slope, 0.0), spare), flow)


def usable(world: World, drains: Drains, believes: Bools) -> Bools:
    """Per pair: whether its front sends new requests there, going by what probers believe."""
    network = world.network
    in_use = np.ones(len(network.pairs.front), dtype=bool)
    in_use[network.probed.pair] = believes
    in_use &= ~drains.leaving[network.pairs.machine]
    if world.registered is not None:
        in_use &= world.registered
    if world.scaled:
        waits = ~world.exists
        waits[world.starting] = True
        in_use &= ~waits[network.pairs.machine]
    return in_use


class Targets:
    """Every front's probers of targets: what they believe, and what follows when they change their mind."""

    def __init__(
        self, world: World, drains: Drains, holdings: Holdings, warmup: Warmup, found: Findings, phases: Phases,
        first_change_s: float,
    ) -> None:  # fmt: skip
        self.network: Network = world.network
        self.world, self.drains, self.holdings, self.warmup = world, drains, holdings, warmup
        self.found = found
        by_call = np.isin(np.arange(len(self.network.probed.pair)), self.network.probed.onward)
        self.probers = Probers(target_beats(self.network), found, phases, first_change_s, by_call)
        self.probers.set_alive(world.exists[self.network.pairs.machine[self.network.probed.pair]])
        self._cascaded = False
        network = self.network
        self._resets: Bools = network.groups.resets_when_out[network.pairs.group]

    @property
    def in_use(self) -> Bools:
        """Per pair: whether its front sends new requests there."""
        return usable(self.world, self.drains, self.probers.believes)

    @property
    def alive(self) -> Bools:
        """Per probed pair: whether its prober runs at all."""
        network, pairs = self.network, self.network.probed.pair
        living = ~self.world.truth.front_dead[network.pairs.front[pairs]]
        registered = self.world.registered
        here = self.world.exists[network.pairs.machine[pairs]]
        return np.asarray(living & here & (True if registered is None else registered[pairs]))

    def meet(self, now: float, found: Findings) -> None:
        """From now on probes find this."""
        self.found = found
        self.probers.meet(now, found)
        self.probers.set_alive(self.alive)

    def on_return(self, found: Findings, with_these: Callable[[Bools], Findings]) -> Findings:
        """What probes find, where fronts are about to return that probe other balancers: these pass on what comes to
        them by what they believe on their own return. `with_these`: what is found with these pairs in use."""
        onward = self.network.probed.onward
        if not len(onward) or not (back := self.probers.returning(self.alive))[onward].any():
            return found
        believes = self.probers.believes.copy()
        for _ in range(self.network.balancers.levels):
            believes[back] = found.passes[back]
            found = with_these(usable(self.world, self.drains, believes))
        return found

    def drift(self, now: float, flow: Flow, faster: Floats) -> None:
        """From a flow on utilisations go by `faster` (see `growth`): the answers of those that pass come as much later
        as backlogs and mean waits grow."""
        machine, (grows_by, bends) = self.network.pairs.machine[self.network.probed.pair], faster
        mine = self.found.passes & ((grows_by != 0) | (bends != 0))[machine]
        mine[self.network.probed.onward] = False
        machine, grown = machine[mine], growth(flow, faster)
        stations, begin = self.network.machines.stations(flow.state.truth.slowness), flow.queue.utilisation
        columns = (begin, grows_by, bends, stations.capacity, stations.servers, stations.blocked(begin))
        course = np.zeros((len(mine), len(COURSE)))
        course[mine, USED:] = np.stack([column[machine] for column in columns], axis=1)
        course[mine, SQUARED], course[mine, CUBED] = grown.bend[machine] / 2, grown.third[machine] / 6
        self.probers.drift(now, course)

    def start(self, machines: Ints) -> None:
        """These machines are new: out, until they have been proven."""
        self.probers.start(np.isin(self.network.pairs.machine[self.network.probed.pair], machines))

    def register(self, pairs: Bools) -> None:
        """The targets of these pairs are registered now: out, until they have been proven."""
        self.world.registered = None
        self.probers.set_alive(self.alive)
        self.probers.start(pairs[self.network.probed.pair])

    def next_s(self, now: float) -> float:
        """The second of the next verdict, or at which a call is sent that brings one."""
        return self.probers.next_s(now)

    def take(self, now: float) -> Iterator[Entry]:
        """Takes the verdicts that are due; sessions and connections of those that are out end, those that are back
        begin to warm up."""
        changed = self.probers.take_verdicts(now)
        if not len(changed):
            return
        yield from self._turned(changed)
        network, believes = self.network, self.probers.believes[changed]
        fallen, risen = network.probed.pair[changed[~believes]], network.probed.pair[changed[believes]]
        freed = np.zeros(len(network.members.group), dtype=bool)
        freed[network.pairs.member[fallen]] = True
        self.holdings.free_sessions(freed)
        self.holdings.free_connections(self._resets & np.isin(np.arange(len(self._resets)), fallen))
        self.warmup.begin(risen, now)

    def take_stairs(self, stairs: Iterable[tuple[float, Ints]]) -> Iterator[tuple[float, Iterator[Entry]]]:
        """Takes verdicts that come one after the other (each at its second, by these probers) where nobody holds
        sessions or connections and nothing warms up: the seconds, and what there is to tell."""
        steps = list(stairs)
        self.probers.turn(np.concatenate([changed for _, changed in steps]))
        for second, changed in steps:
            yield second, self._turned(changed)

    def _turned(self, changed: Ints) -> Iterator[Entry]:
        """What there is to tell of probers that have changed their mind."""
        yield Verdicts("verdicts", (), probers=changed)
        yield from self._told(changed)
        yield from self._cascade(changed[~self.probers.believes[changed]])

    def _told(self, changed: Ints) -> Iterator[Entry]:
        """One entry for each front and way in which its probers have changed their mind."""
        network, pairs = self.network, self.network.probed.pair[changed]
        for believed in (True, False):
            mine = pairs[self.probers.believes[changed] == believed]
            for front in distinct(network.pairs.front[mine]).tolist():
                of_front = mine[network.pairs.front[mine] == front]
                names = dict.fromkeys(network.machines.names[int(one)] for one in network.pairs.machine[of_front])
                by = {"balancer": network.balancer_of(front), "zone": network.front_name(front)}
                yield Entry("verdict", tuple(names), {"in_use": believed, **by})

    def _cascade(self, fallen: Ints) -> Iterator[Entry]:
        """The first targets that fall to their load alone: what their probe asks is there, but comes too late."""
        network, pairs = self.network, self.network.probed.pair[fallen]
        tired = pairs[self.world.view.passes[pairs] & ~self.found.passes[fallen]]
        if len(tired) and not self._cascaded:
            self._cascaded = True
            names = dict.fromkeys(network.machines.names[int(one)] for one in network.pairs.machine[tired])
            yield Entry("cascade", tuple(names))
