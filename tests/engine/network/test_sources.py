"""Sources of client groups: as the formula spreads them, in little memory."""

import ipaddress
import tracemalloc

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from northgate.engine.formulas import address_keys
from northgate.engine.network.sources import Segment, source_numbers
from northgate.plan.models.traffic import ClientGroup


def group(cidr, sources):
    calls = [{"url": "https://www.beckwater.example/"}]
    return ClientGroup.model_validate({"name": "walkers", "rps": 1, "sources": sources, "cidr": cidr, "calls": calls})


NETWORKS = ["198.18.0.0/16", "198.18.0.0/30", "0.0.0.0/0", "2001:db8::/32", "2001:db8::/120", "2001:db8:0:1::/64"]


@given(st.sampled_from(NETWORKS), st.integers(1, 3000), st.data())
def test_source_i_is_where_the_formula_puts_it(cidr, sources, data):
    """`base + floor(i * size / sources)`, or `base + i mod size` if there are more sources than addresses."""
    network = ipaddress.ip_network(cidr)
    base, size = int(network.network_address), network.num_addresses
    place = data.draw(st.integers(0, sources - 1))
    wanted = base + (place % size if sources > size else place * size // sources)
    numbers = source_numbers(group(cidr, sources))
    assert len(numbers) == sources
    assert numbers[place] == wanted


@given(st.sampled_from(NETWORKS), st.integers(2, 400), st.integers(0, 1 << 128), st.integers(0, 1 << 128))
def test_those_within_a_span_are_found(cidr, sources, one, other):
    numbers = source_numbers(group(cidr, sources))
    low, high = sorted((one, other))
    assert numbers.within(low, high).tolist() == [low <= numbers[place] <= high for place in range(sources)]
    first, last = numbers[0], numbers[sources // 2]
    assert numbers.within(first, last).tolist() == [first <= numbers[place] <= last for place in range(sources)]


@pytest.mark.parametrize("cidr", NETWORKS)
def test_their_keys_are_those_of_their_addresses(cidr):
    numbers = source_numbers(group(cidr, 50))
    keys = Segment(0, 1.0, 4, numbers).keys
    assert np.array_equal(keys, address_keys([numbers[place] for place in range(50)]))


def test_a_million_sources_take_no_more_than_their_numbers():
    """Eight bytes each, and a few arrays on the way; nothing stays behind when they are given up."""
    tracemalloc.start()
    for _ in range(3):
        source_numbers(group("198.18.0.0/15", 100_000))
    held, most = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    assert most < 100_000 * 8 * 6
    assert held < 100_000
