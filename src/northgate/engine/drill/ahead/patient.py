"""Whether those who ask at machines get their answers before they give up."""

import numpy as np

from northgate.engine.base import NEVER, Floats, same
from northgate.engine.processes import Backlogs
from northgate.engine.solver import Flow


class Patient:
    """Who asks at machines under a flow, and whether answers come as long as somebody waits for them; rates jump where
    they no longer do."""

    def __init__(self, backlogs: Backlogs, flow: Flow) -> None:
        self._machine, self._asks_s = backlogs.asks_s(flow)
        self._first = self.spare_s(flow) > 0

    def spare_s(self, flow: Flow) -> Floats:
        """By how much they come sooner than each gives up (s)."""
        return np.asarray(self._asks_s - flow.queue.latency_s[self._machine])

    def nearest_s(self, flow: Flow) -> float:
        """That which is least, one way or the other; inf where nobody waits."""
        spare_s = self.spare_s(flow)
        return float(spare_s[np.abs(spare_s).argmin()]) if len(spare_s) else NEVER

    def lasts(self, flow: Flow, backlog_s: Floats | None = None) -> bool:
        """Whether the same wait as at first; `backlog_s`: with other backlogs than its own."""
        more_s = 0.0 if backlog_s is None else (backlog_s - flow.state.backlog_s)[self._machine]
        return same(self.spare_s(flow) > more_s, self._first)
