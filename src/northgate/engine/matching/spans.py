"""Spans of addresses."""

import ipaddress
from functools import lru_cache

Range = tuple[int, int, int]
"""First and last address as numbers, after the version (4 or 6)."""


def within(span: Range, cidr: str) -> bool:
    """Whether all addresses of a span are in a network."""
    version, low, high = span_of(cidr)
    return span[0] == version and low <= span[1] and span[2] <= high


@lru_cache(maxsize=4096)
def span_of(text: str) -> Range:
    """The addresses of a network, or of one address."""
    network = ipaddress.ip_network(text)
    return network.version, int(network.network_address), int(network.broadcast_address)


def narrowest(span: Range) -> str:
    """The smallest network that holds a span."""
    version, low, high = span
    kind = ipaddress.IPv4Address if version == 4 else ipaddress.IPv6Address
    bits = 32 if version == 4 else 128
    prefix = bits - (low ^ high).bit_length()
    return str(ipaddress.ip_network((kind(low), prefix), strict=False))


def is_address(text: str) -> bool:
    """Whether a text is an IP address."""
    try:
        ipaddress.ip_address(text)
    except ValueError:
        return False
    return True
