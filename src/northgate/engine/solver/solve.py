"""The solver: rates of one state after the other. Nothing else in North Gate computes a rate."""

from northgate.engine.balancing import KeyTable
from northgate.engine.base import Floats
from northgate.engine.network import Network
from northgate.engine.solver.fixed_point import Memory, fixed_point
from northgate.engine.solver.flow import Flow
from northgate.engine.solver.passes.one_pass import OnePass
from northgate.engine.solver.state import State
from northgate.engine.solver.totals.flow_of import flow_of
from northgate.engine.solver.unloaded import Frame, Unloaded


class Solver:
    """Finds the rates of states of a network: one for each run, as it remembers what the next state may share with the
    last. Threads do not share one."""

    def __init__(self, network: Network, frame: Frame | None = None, keys: KeyTable | None = None) -> None:
        self.network = network
        self.frame, self._keys = frame or Frame(network), keys or KeyTable(network)
        self._last: Unloaded | None = None
        self._memory = Memory()

    def another(self) -> "Solver":
        """One for another run on the same network, which begins with what is known and remembers for itself."""
        return Solver(self.network, self.frame, self._keys.copy())

    def solve(self, state: State) -> Flow:
        """The rates of a state: where every request goes, and what becomes of it."""
        one_pass = OnePass(self._unloaded(state), state)
        forth, back = fixed_point(one_pass, self._memory)
        return flow_of(one_pass, forth, back)

    def drawn(self, state: State) -> Floats:
        """How those are drawn, in a state, whom nothing holds, by weights and keys: the shares of pairs in their cells,
        (fates or 1, pairs). Of those who are chosen by how busy they are this is where a solve begins."""
        return self._unloaded(state).first_shares

    def _unloaded(self, state: State) -> Unloaded:
        if self._last is None or not self._last.holds(state):
            self._last = Unloaded(self.frame, self._keys, state)
        return self._last
