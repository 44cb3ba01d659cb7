"""A way through an instance's own address, told as what it is: there is no balancer in between."""

from collections.abc import Sequence

from northgate.engine.network import ITSELF
from northgate.engine.trace.answer import Hop

# Stages that only a balancer has.
_OF_BALANCERS = ("listener", "rule", "pool", "group")


def plainly(hops: Sequence[Hop]) -> list[Hop]:
    """Without the stages of the balancer that stands for an instance's own address."""
    return [_told(hop) for hop in hops if not (_is_own(hop) and hop.ok and hop.kind in _OF_BALANCERS)]


def _is_own(hop: Hop) -> bool:
    return ITSELF in (hop.link or "") or (hop.kind == "listener" and ITSELF in hop.because)


def _told(hop: Hop) -> Hop:
    if not _is_own(hop):
        return hop
    instance = (hop.link or hop.because).partition(":")[2].partition(ITSELF)[0] or hop.because.partition(ITSELF)[0]
    link = f"instance:{instance}"
    if hop.kind == "address":
        detail, because = "its own address", f"{instance} is asked itself: no balancer stands before it"
        return hop.model_copy(update={"detail": detail, "because": because, "candidates": [], "link": link})
    if hop.kind == "listener":
        because = hop.because.replace(f"{ITSELF} listens on tcp", " serves port")
        return hop.model_copy(update={"because": because, "where": None, "link": link})
    return hop.model_copy(update={"because": "the only one that is asked", "link": link})
