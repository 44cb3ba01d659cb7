"""What the rates of a solved state add up to: what readings ask for, and by place when somebody looks there."""

import numpy as np

from northgate.engine.base import (
    SERVED,
    WORK,
    Floats,
)
from northgate.engine.formulas import Queue
from northgate.engine.solver.context import Back, Sent
from northgate.engine.solver.flow import Flow
from northgate.engine.solver.one_pass import OnePass
from northgate.engine.solver.totals.by_call import ByCall
from northgate.engine.solver.totals.by_place import ByPlace
from northgate.engine.solver.totals.mechanisms import by_mechanism
from northgate.engine.solver.totals.opening import Opening
from northgate.engine.solver.totals.solved import Solved
from northgate.plan.models.drills import CAUSES


def flow_of(one_pass: OnePass, share: Floats, sent: Sent, queue: Queue, back: Back) -> Flow:
    """The flow of a state that is solved; `share` is of those who are free to be sent anywhere."""
    network = one_pass.context.network
    ends, _ = one_pass.sending.trying(one_pass.sending.mixed(share), share)
    solved = Solved(one_pass.context, share, ends, sent, queue, back, one_pass.backward.over)
    calls = ByCall(solved)
    places, opening = ByPlace(solved, calls), Opening(solved, one_pass.sending, one_pass.forward)
    again = opening.connections(1)
    probed = len(network.names.checks) + len(network.probed.onward) > 0
    return Flow(
        network=network,
        state=one_pass.state,
        choice=one_pass.unloaded.choice,
        queue=queue,
        pair_share=share,
        attempts=one_pass.attempts,
        opening=opening.sessions(),
        connecting=opening.by_free(opening.connections(0), again),
        reconnecting=again,
        ending=one_pass.connected.ends_at_first_failure(),
        bound_there=opening.bound_there,
        served_there=opening.served_there,
        row_part=one_pass.unloaded.row_part,
        row_fate=back.row,
        entry_fate=back.entry,
        entry_accepts=places.accepts() if probed else np.zeros(len(calls.becomes)),
        call_served=calls.by_call[:, SERVED],
        call_cause=calls.by_call[:, : len(CAUSES)],
        mechanism_rps=by_mechanism(solved, calls.ended),
        pair_served=places.pair_served,
        front_excess=solved.over,
        zone_served=places.zone_served,
        latency_sum=float(calls.by_call[:, WORK].sum()),
        work_out=places.places,
    )
