"""Who may be tried more than once: repeated, or at another address of a set."""

from functools import cached_property

import numpy as np

from northgate.engine.base import (
    Bools,
    Floats,
    Ints,
    floats,
    total_by,
)
from northgate.engine.solver.retries.lumps import Lumps
from northgate.engine.solver.state import State
from northgate.engine.solver.unloaded import Unloaded
from northgate.engine.truth import ANSWERS, REFUSES


class Returning:
    """The calls of one state that may be tried more than once, and where connects are taken.

    `of_client[c]`: how often client group c repeats a failed call. `takes[f, p]`: whether a connect of fate f is taken
    at pair p, `silent[f, p]` whether one that is not takes its time-out. `others`: the cells whose calls may go on to
    other targets, and how often.
    """

    def __init__(self, unloaded: Unloaded, state: State) -> None:
        self.unloaded, self.frame = unloaded, unloaded.frame
        self.network, self.state, self.choice = unloaded.network, state, unloaded.choice
        arrivals, clients = self.network.arrivals, self.network.plan.clients
        self.entry, self.front, self.route = arrivals.entry, arrivals.front, arrivals.route
        self.of_client: Floats = floats([*(client.retries for client in clients), 0])
        self.row_part = unloaded.row_part
        met = state.encounter.fate_met
        self.takes: Bools = (met == ANSWERS) | self.network.members.leads_on[self.network.pairs.member]
        self.silent: Bools = met != REFUSES
        self.others = dict(self.frame.with_others)
        self.lumps = Lumps(len(self.network.pairs.front))

    @cached_property
    def calls(self) -> Bools:
        """Per call: whether it may be tried more than once: repeated, or at another address of a set."""
        made = (self.of_client[self.network.calls.client] > 0) | self.goes_on_by_key
        holder = self.state.answers.holder
        for number in np.unique(holder[holder >= 0]):
            if any(len(leaves) > 1 for leaves in self.state.answers.sets[int(number)]):
                made |= (holder == number) & self.goes_on & self._may_fail_to_connect
        return np.asarray(made)

    @cached_property
    def goes_on_by_key(self) -> Bools:
        """Per call: whether a session may hold it at a target, after which it goes on to others by its key."""
        network = self.network
        both = np.zeros(len(network.cells.front), dtype=bool)
        for cell in self.others:
            both[cell] = cell in network.cells.by_key
        kept = np.zeros_like(both)
        for kind in network.kept.sessions:
            kept[kind.cells] = True
        of_client = network.calls.client < len(network.plan.clients)
        return np.asarray(of_client & (network.kept.at_cells[:, both & kept]).any(axis=1))

    @cached_property
    def goes_on(self) -> Bools:
        """Per call: whether its client takes the next address after a failed connect."""
        takes = np.array([*(client.tries_next_address for client in self.network.plan.clients), False], dtype=bool)
        return takes[self.network.calls.client]

    @cached_property
    def _may_fail_to_connect(self) -> Bools:
        """Per call: whether a connect of it may fail: at a dead front, at none, behind a firewall, at layer 4."""
        network, entries = self.network, self.network.entries
        at_row = ~self.unloaded.arrives | (network.fronts.layer[self.front] == 4)
        at_row = (at_row | (entries.listener[self.entry] < 0)) & (self.row_part > 0)
        at_entry = total_by(self.entry, at_row, len(entries.call)) > 0
        at_entry[self.unloaded.stranded] = True
        at_entry &= entries.member < 0
        return total_by(entries.call, at_entry, len(network.calls.client)) > 0

    def most_waits(self, call: Ints) -> Floats:
        """How many connects of one attempt may begin and take their time-out."""
        calls = self.network.calls
        wait_s = np.maximum(calls.connect_timeout_s[call], 1e-9)
        return np.maximum(np.ceil(calls.timeout_s[call] / wait_s - 1e-9), 1.0)
