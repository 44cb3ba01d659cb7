"""Beyond which latencies somebody gives up at a machine."""

import numpy as np
import pytest
from hypothesis import given, settings

from northgate.engine.drill.run import undisturbed
from northgate.engine.network.compile import compile_network
from northgate.engine.processes import Backlogs, World
from northgate.engine.truth import Patience
from northgate.plan import plan_from_data
from tests.support.exploring import examples
from tests.support.plans import network_of, plan_data
from tests.support.strategies import plans_with_a_drill


def bounds_of(data, *, comes=True):
    """Of the first machine, when everybody comes, or nobody."""
    network = network_of(data)
    found = Patience(network).bounds_s(np.full(len(network.arrivals.entry), comes))[0]
    return found[np.isfinite(found)].tolist()


def test_bounds_are_every_patience_once():
    data = plan_data()
    data["clients"][0]["timeout_s"] = 4
    assert bounds_of(data) == [4 - 0.012], "less the round trip"
    data["target_groups"][0]["response_timeout_s"] = 3
    assert bounds_of(data) == [3], "the balancer gives up before"
    assert bounds_of(data, comes=False) == []
    assert Patience(network_of(data)).probes_s.tolist() == [[5]] * 6


def test_who_has_waited_for_silent_targets_has_less_patience():
    data = plan_data()
    data["clients"][0]["timeout_s"] = 4
    data["target_groups"][0] |= {"try_others": 2, "connect_timeout_s": 1, "response_timeout_s": 3.5}
    assert bounds_of(data) == pytest.approx([4 - 0.012 - 2, 4 - 0.012 - 1, 3.5])


def test_who_has_waited_for_other_addresses_has_less_patience():
    data = plan_data()
    data["balancers"][0] |= {"address_kind": "per-zone", "addresses": []}
    data["clients"][0] |= {"timeout_s": 4, "connect_timeout_s": 1.5, "tries_next_address": True}
    assert bounds_of(data) == pytest.approx([4 - 0.012 - 3, 4 - 0.012 - 1.5, 4 - 0.012])


class Forgetful(dict):
    """What another thread always forgets just after it was noted."""

    def __setitem__(self, key, value):
        super().__setitem__(key, value)
        self.clear()


def test_who_asks_is_told_though_another_thread_forgets_all_meanwhile(monkeypatch):
    network = network_of(plan_data())
    known, comes = Patience(network), np.ones(len(network.arrivals.entry), dtype=bool)
    wanted = known.bounds_s(comes).tolist()
    monkeypatch.setattr(known, "_known", Forgetful())
    assert known.bounds_s(comes).tolist() == wanted


@settings(max_examples=examples(25))
@given(plans_with_a_drill())
def test_nobodys_patience_is_left_out(data):
    """Every latency beyond which a request that comes to a pair is too late is among the bounds of its machine."""
    network = compile_network(plan_from_data(data))
    flow = undisturbed(network)
    bounds_s, patience_s = Backlogs(World(network)).bounds_s(flow), flow.state.encounter.patience_s()
    entries, arrivals, weighted = network.entries, network.arrivals, network.weighted
    asked = (flow.state.dns_share > 0) & (flow.state.call_rps[entries.call] > 0)
    for row in np.flatnonzero(asked[arrivals.entry] & (flow.row_part > 0) & (arrivals.route >= 0)):
        fate = flow.state.encounter.fate[network.calls.outcome[entries.call[arrivals.entry[row]]]]
        for cell in weighted.cell[weighted.route == arrivals.route[row]]:
            for pair in network.cells.pairs[cell]:
                left_s = patience_s[fate, pair]
                if flow.state.in_use[pair] and 0 < left_s < np.inf:
                    assert left_s in bounds_s[network.pairs.machine[pair]]
