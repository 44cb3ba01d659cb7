"""The solver: rates at one moment, given truth and belief. Nothing else in North Gate computes a rate."""

from northgate.engine.network import Network
from northgate.engine.solver.fixed_point import _settled
from northgate.engine.solver.flow import Flow
from northgate.engine.solver.one_pass import Passing
from northgate.engine.solver.state import Moment
from northgate.engine.solver.totals import flow_of


def solve(network: Network, moment: Moment) -> Flow:
    """The rates of this moment: where every request goes, and what becomes of it."""
    passing = Passing(network, moment)
    share, sent, queue, back = _settled(passing, passing.standing.first_shares)
    return flow_of(passing, share, sent, queue, back)
