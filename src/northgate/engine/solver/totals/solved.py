"""A state that is solved, before anything is added up."""

from msgspec import Struct

from northgate.engine.base import (
    Floats,
    cached,
)
from northgate.engine.formulas import Queue
from northgate.engine.solver.connections import Bound
from northgate.engine.solver.context import Back, Context, Sent


class Solved(Struct, frozen=True, dict=True):
    """A state that is solved: `free_share` of those who are free to be sent anywhere, `share` of all, where they end;
    `over` per front the share of its answers that its balancer's bandwidth does not let through."""

    context: Context
    free_share: Floats
    share: Floats
    sent: Sent
    queue: Queue
    back: Back
    over: Floats

    @cached
    def bound(self) -> Bound | None:
        """What becomes of calls over connections that are open already; None where there are none."""
        connected = self.context.connected
        return connected.ended(self.back.kinds, self.back.values) if connected.any else None
