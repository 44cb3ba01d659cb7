"""Who may be tried more than once: repeated, or at another address of a set."""

import numpy as np

from northgate.engine.base import (
    Bools,
    Floats,
    Ints,
    cached,
)
from northgate.engine.solver.retries.lumps import Lumps
from northgate.engine.solver.state import State
from northgate.engine.solver.unloaded import Unloaded


class Returning:
    """The calls of one state that may be tried more than once, and where connects are taken.

    `of_client[c]`: how often client group c repeats a failed call. `takes[f, p]`: whether a connect of fate f is taken
    at pair p, `silent[f, p]` whether one that is not takes its time-out. `others`: the cells whose calls may go on to
    other targets, and how often.
    """

    def __init__(self, unloaded: Unloaded, state: State) -> None:
        self.unloaded, self.frame = unloaded, unloaded.frame
        self.network, self.state, self.choice = unloaded.network, state, unloaded.choice
        self.entry, self.front, self.route = self.frame.entry, self.frame.front, self.frame.route
        self.of_client, self.row_part = self.frame.retries, unloaded.row_part
        self.takes, self.silent = unloaded.takes, unloaded.not_refused
        self.others = dict(self.frame.with_others)
        self.lumps = Lumps(len(self.network.pairs.front))

    @cached
    def calls(self) -> Bools:
        """Per call: whether it may be tried more than once: repeated, or at another address of a set."""
        made = self.frame.tried_again
        goes_on = self.unloaded.goes_on
        if goes_on.any():
            holder, several = self.state.answers.holder, self.state.answers.several
            made = made | (goes_on & (holder >= 0) & several[holder] if len(several) else False)
        return np.asarray(made)

    @property
    def goes_on_by_key(self) -> Bools:
        """As in `Frame`."""
        return self.frame.goes_on_by_key

    @property
    def goes_on(self) -> Bools:
        """As in `Frame`."""
        return self.frame.goes_on

    def most_waits(self, call: Ints) -> Floats:
        """How many connects of one attempt may begin and take their time-out."""
        calls = self.network.calls
        wait_s = np.maximum(calls.connect_timeout_s[call], 1e-9)
        return np.maximum(np.ceil(calls.timeout_s[call] / wait_s - 1e-9), 1.0)
