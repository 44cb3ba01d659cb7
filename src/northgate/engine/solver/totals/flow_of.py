"""What the rates of a solved state add up to: what readings ask for, and by place when somebody looks there."""

import numpy as np

from northgate.engine.base import (
    SERVED,
    WORK,
)
from northgate.engine.solver.context import Back, Forth
from northgate.engine.solver.flow import Flow
from northgate.engine.solver.passes.one_pass import OnePass
from northgate.engine.solver.totals.by_call import ByCall
from northgate.engine.solver.totals.by_place import ByPlace, accepts
from northgate.engine.solver.totals.mechanisms import by_mechanism
from northgate.engine.solver.totals.opening import Opening
from northgate.engine.solver.totals.solved import Solved
from northgate.plan.models.drills import CAUSES


def flow_of(one_pass: OnePass, forth: Forth, back: Back) -> Flow:
    """The flow of a state that is solved."""
    network = one_pass.context.network
    solved = Solved(
        one_pass.context, forth.share, forth.ends, forth.sent, forth.queue, back, one_pass.backward.over
    )  # fmt: skip
    calls = ByCall(solved)
    places, opening = ByPlace(solved, calls), Opening(solved, one_pass.going_on, one_pass.forward)
    again = opening.connections(1)
    probed = len(network.names.checks) + len(network.probed.onward) > 0
    return Flow(
        network=network,
        state=one_pass.state,
        choice=one_pass.unloaded.choice,
        queue=forth.queue,
        pair_share=forth.share,
        pair_fate=back.pair,
        attempts=one_pass.attempts,
        opening=opening.sessions(),
        astray=opening.astray(),
        connecting=opening.by_free(opening.connections(0), again),
        reconnecting=again,
        ending=one_pass.connected.ends_at_first_failure,
        bound_there=opening.bound_there,
        served_there=opening.served_there,
        row_part=one_pass.unloaded.row_part,
        row_fate=back.row,
        entry_fate=back.entry,
        entry_accepts=one_pass.unloaded.derived(accepts) if probed else np.zeros(len(calls.becomes)),
        call_served=calls.by_call[:, SERVED],
        call_cause=calls.by_call[:, : len(CAUSES)],
        mechanism_rps=by_mechanism(solved, calls.ended),
        pair_served=places.pair_served,
        front_excess=solved.over,
        bandwidth_used=one_pass.backward.bandwidth_used,
        zone_served=places.zone_served,
        latency_sum=float(calls.by_call[:, WORK].sum()),
        work_out=places.places,
    )
