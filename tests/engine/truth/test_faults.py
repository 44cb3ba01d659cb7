"""Kinds of faults: the plan's and the engine's are the same, and each makes a difference."""

import numpy as np
import pytest

from northgate.engine.truth.encounter import encounter
from northgate.engine.truth.faults import EFFECTS, healthy, truth_under
from northgate.engine.truth.paths import Paths
from northgate.plan.models.faults import FAULTS, Part
from tests.support.plans import network_of, plan_data


def everything():
    """A plan in which there is something for every kind of fault to hit."""
    data = plan_data()
    data["fleets"][0]["instance"] |= {"fault_domain": "rack-1", "maintenance_wave": 1, "firewall": "app"}
    rule = {"protocol": "tcp", "ports": ["8080"], "from": "any"}
    data["firewalls"] = [{"name": "app", "allow_in": [rule]}]
    data["target_groups"][0]["targets"] += [{"address": "198.51.100.7"}, {"host": "partner.beckwater.example"}]
    return network_of(data)


def test_every_kind_of_the_plan_has_an_effect_and_every_effect_a_kind():
    assert EFFECTS.keys() == FAULTS.keys()


@pytest.mark.parametrize("kind", FAULTS)
def test_its_sample_is_one_of_it_and_has_its_name(kind):
    part = Part.model_validate(FAULTS[kind].sample)
    assert part.kind == kind
    name = part.front.balancer if part.front else part.link[0] if part.link else str(getattr(part, kind))
    assert name in part.words


@pytest.mark.parametrize("kind", FAULTS)
def test_its_sample_changes_what_is_true(kind):
    network = everything()
    paths, before = Paths.of(network), healthy(network)
    after = truth_under(network, [Part.model_validate(FAULTS[kind].sample)])
    changed = [
        name for name in before.__struct_fields__ if not np.array_equal(getattr(before, name), getattr(after, name))
    ]
    assert changed
    if kind not in ("slow", "front"):
        # Those show in how long an answer takes, and in who comes to a front at all.
        met, other = encounter(paths, before), encounter(paths, after)
        assert (met.fate_met != other.fate_met).any() or (met.bad_page != other.bad_page).any() or "page" in kind
