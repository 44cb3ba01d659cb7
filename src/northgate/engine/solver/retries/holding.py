"""Who is held by a session and has no open connection."""

import numpy as np

from northgate.engine.base import (
    Floats,
    total_by,
)
from northgate.engine.network import Network
from northgate.engine.solver.state import State

# Where fewer sources than this share have no open connection, what binds these few is what binds all.
ALL = 1e-12


def sessions_of_free(network: Network, state: State, number: int, call: int) -> Floats:
    """Of those sources of a call that have no open connection, the share that a session of a kind binds to each member.

    At layer 4 a connection leads where its source's session does; so who has none is bound as all are, less those who
    are connected there.
    """
    assert state.held is not None
    held = state.held.sessions[number]
    kind = network.kept.connection_of_call.get(call)
    if kind is None:
        return np.asarray(held)
    connected = state.held.connections[kind]
    free = 1 - float(connected.sum())
    if free <= ALL:
        return np.asarray(held)
    bound = np.maximum(held - total_by(network.pairs.member, connected, len(held)), 0.0) / free
    return np.asarray(bound / max(float(bound.sum()), 1.0))
