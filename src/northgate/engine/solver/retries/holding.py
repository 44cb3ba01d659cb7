"""Who is held by a session, and by a connection that leads elsewhere or nowhere."""

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
    are bound and connected there.
    """
    assert state.held is not None
    kind = network.kept.connection_of_call.get(call)
    if kind is None:
        return np.asarray(state.held.sessions[number])
    held = bound_shares(state, number, kind)
    connected = state.held.connections[kind]
    free = 1 - float(connected.sum())
    if free <= ALL:
        return np.asarray(held)
    there, gone = (total_by(network.pairs.member, one, len(held)) for one in (connected, strays_of(state, kind)))
    bound = np.maximum(held - there + strays_there(gone, there, held), 0.0) / free
    return np.asarray(bound / max(float(bound.sum()), 1.0))


def bound_shares(state: State, number: int, kind: int) -> Floats:
    """The share of sources that a kind of session binds to each member; where that is a key, without those whose
    connection of a kind leads elsewhere yet."""
    assert state.held is not None
    held = state.held.sessions[number]
    if state.owed is None or not state.owed[number].any():
        return np.asarray(held)
    return np.asarray(np.maximum(held - state.owed[number] * strays_of(state, kind).sum(), 0.0))


def strays_of(state: State, kind: int) -> Floats:
    """What of a kind of connection has outlived its sessions, by pair."""
    assert state.held is not None
    return state.held.strays[kind] if len(state.held.strays) else np.zeros(state.held.connections.shape[1])


def strays_part(network: Network, state: State, kind: int) -> Floats:
    """Per member the part of those who are connected there, by connections of a kind, whom no session binds there: of
    nobody, where no session leads these."""
    session, members = network.kept.connections[kind].session, len(network.members.group)
    if state.held is None or session < 0:
        return np.zeros(members)
    gone, there = (
        total_by(network.pairs.member, one, members) for one in (strays_of(state, kind), state.held.connections[kind])
    )
    strays = strays_there(gone, there, bound_shares(state, session, kind))
    return np.divide(strays, there, out=np.zeros(members), where=there > 0)


def strays_there(outlived: Floats, held: Floats, bound: Floats) -> Floats:
    """Per place the share of sources whose connection (`held` there) leads there though no session binds them there:
    it has `outlived` theirs, or more are connected than are `bound` there."""
    return np.asarray(np.minimum(np.maximum(outlived, held - bound), held))
