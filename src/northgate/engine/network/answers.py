"""What names answer: which answers are chosen, and what is held of them."""

import numpy as np
from msgspec import Struct

from northgate.engine.base import Bools, Floats, Ints, cached
from northgate.plan.models.traffic import DnsEntry


def answer_shares(
    entry: DnsEntry, healthy: Bools, latency_s: Floats, area: str | None, addresses: Floats, given: Bools | None = None
) -> Floats:  # fmt: skip
    """The share of those who ask that is told each answer, the last resort being one past the last; sums to 1.

    `healthy` per answer; `latency_s` per answer from the area of those who ask; `addresses`: how many addresses each
    answer consists of now. With none healthy the last resort answers, without one all are taken for healthy.
    `given`: the answers that the record has now (None: all).
    """
    count = len(entry.answers)
    share = np.zeros(count + 1)
    there = np.ones(count, dtype=bool) if given is None else given
    usable = healthy & there
    if not usable.any():
        if entry.when_none_healthy or not there.any():
            share[count] = 1.0
            return share
        usable = there
    share[:count] = _chosen(entry, np.flatnonzero(usable), latency_s, area, addresses)
    return share


def _chosen(entry: DnsEntry, usable: np.ndarray, latency_s: Floats, area: str | None, addresses: Floats) -> Floats:
    share = np.zeros(len(entry.answers))
    if entry.choose == "order":
        share[usable[0]] = 1.0
        if len(usable) > 1:
            share[usable[:2]] = 1 - entry.standby_share, entry.standby_share
    elif entry.choose == "nearest":
        share[usable[int(latency_s[usable].argmin())]] = 1.0
    elif entry.choose == "share":
        weight = np.array([entry.answers[index].weight for index in usable], dtype=np.float64)
        share[usable] = weight / weight.sum() if weight.sum() > 0 else 1 / len(usable)
    else:
        told = usable
        if entry.choose == "area":
            meant = [i for i in usable if area is not None and area in entry.answers[i].areas]
            told = np.array(meant or [i for i in usable if not entry.answers[i].areas] or usable, dtype=np.int64)
        many = addresses[told]
        share[told] = many / many.sum() if many.sum() > 0 else 1 / len(told)
    return share


# The sets that an asker is told, as places among its leaves, each with the share of those who are told it.
Sets = dict[tuple[int, ...], float]


class Answers(Struct, frozen=True, eq=False, dict=True):
    """What is held at one moment: `dns_share` per entry, the share of its call's connects that set out for it if each
    call connects once; `sets` per holder, `holder` per call (-1: it asks no name)."""

    dns_share: Floats
    holder: Ints
    sets: tuple[Sets, ...]

    @cached
    def several(self) -> Bools:
        """Per holder: whether any of its sets has more than one address."""
        return np.array([any(len(leaves) > 1 for leaves in one) for one in self.sets], dtype=bool)
