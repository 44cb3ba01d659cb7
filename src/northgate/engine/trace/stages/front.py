"""At an address: which front of its balancer takes the request."""

from collections.abc import Sequence

import numpy as np

from northgate.engine.base import Floats, Ints
from northgate.engine.matching import Request
from northgate.engine.network import Leaf, outside_of
from northgate.engine.trace.answer import Candidate, Hop
from northgate.engine.trace.format import per_cent
from northgate.engine.trace.stages.way import Context, End, Here, Hops, Way
from northgate.plan.problems import pointer

MOST_BALANCERS = 8


class FrontStage:
    """Which front takes a request, with those that might have."""

    def __init__(self, context: Context) -> None:
        self.context, self.flow, self.network, self.plan = context, context.flow, context.network, context.plan

    def ways(self, leaf: Leaf, request: Request, here: Here) -> list[Way[int]]:
        """The fronts to which an address leads, or what becomes of the request without any."""
        if leaf.balancer < 0:
            return [self._outside(self.network.names.end(leaf) or request.host, here)]
        if here.depth >= MOST_BALANCERS:
            words = "balancers stand behind each other without end"
            return [Way(1.0, end=End(words, error="too_many_balancers"))]
        fronts = np.flatnonzero(self.network.fronts.balancer == leaf.balancer)
        shares = self._shares(leaf, fronts, here.sender.area)
        if not shares.any():
            return [self._none(leaf, here)]
        kept = self.context.kept_at("front", leaf.balancer)
        if kept in fronts[shares > 0].tolist():
            shares = (fronts == kept).astype(np.float64)
        return [self._way(leaf, fronts, shares, at, here) for at in np.flatnonzero(shares).tolist()]

    def _outside(self, host: str, here: Here) -> Way[int]:
        if host in self.flow.state.truth.lost_outside:
            return self._nobody(host, f"nobody answers at {host}, outside the plan", None, here)
        hop = Hop(kind="service", about=host, ok=True, because="no part of the plan has this address: it answers")
        end = End(f"{host} answers, outside the plan", status=200, target=host, zone=outside_of(self.plan))
        return Way(1.0, end=end, hops=lambda: [hop])

    def _none(self, leaf: Leaf, here: Here) -> Way[int]:
        name, because = self.plan.balancers[leaf.balancer].name, "no front is in the address"
        return self._nobody(self._address(leaf), because, name, here)

    def _nobody(self, address: str, because: str, balancer: str | None, here: Here) -> Way[int]:
        """A connect that nobody takes."""
        name, timeout_s = balancer or address, here.sender.connect_timeout_s
        hop = Hop(
            kind="address", about=address, ok=False, because=because, latency_ms=timeout_s * 1000,
            link=f"balancer:{balancer}" if balancer else None,
        )  # fmt: skip
        end = End(f"{name}: {because}", error="timed_out", cause="dead_front", connect="quiet")
        return Way(1.0, end=end, takes_s=timeout_s, hops=lambda: [hop])

    def _way(self, leaf: Leaf, fronts: Ints, shares: Floats, at: int, here: Here) -> Way[int]:
        front = int(fronts[at])
        dead = bool(self.flow.state.truth.front_dead[front])
        takes_s = here.sender.connect_timeout_s if dead else self.trip_s(front, here)
        hops = self._hops(leaf, fronts, shares, front, takes_s)
        if not dead:
            return Way(float(shares[at]), front, takes_s=takes_s, hops=hops)
        name = self.plan.balancers[leaf.balancer].name
        reason = f"the {self.network.front_name(front)} front of {name} is dead and still in its address"
        end = End(reason, error="timed_out", cause="dead_front", connect="quiet")
        return Way(float(shares[at]), end=end, takes_s=takes_s, hops=hops)

    def through(self, front: int) -> list[Way[None]]:
        """What becomes of an answer on its way back, through what its balancer's bandwidth lets through."""
        excess = float(self.flow.front_excess[front])
        if excess <= 0:
            return [Way(1.0)]
        name = self.network.balancer_of(front)
        because = f"{per_cent(excess)} of its answers are more than the bandwidth of {name} lets through"
        hop = Hop(kind="service", about=name, ok=False, because=because, detail="overloaded", link=f"balancer:{name}")
        end = End(because, error="overloaded", cause="overloaded", target=name)
        return [Way(1 - excess), Way(excess, end=end, hops=lambda: [hop])]

    def trip_s(self, front: int, here: Here) -> float:
        """The client's round trip to a front, as far as it is known (s); nothing behind another balancer."""
        if here.source is not None:
            return 0.0
        region = int(self.network.zone_region[self.network.fronts.zone[front]])
        found = self._distance_s(here.sender.area, region)
        return found if np.isfinite(found) else 0.0

    def _distance_s(self, area: int, region: int) -> float:
        """The round trip from an area to a region (s); inf where it is not known."""
        if area < 0 or region >= len(self.plan.regions):
            return 0.0
        return self.plan.areas[area].latency_ms.get(self.plan.regions[region].name, np.inf) / 1000

    def _shares(self, leaf: Leaf, fronts: Ints, area: int) -> Floats:
        """The share of each front of a leaf's balancer."""
        present = self.flow.state.in_address[fronts].astype(np.float64)
        if leaf.front >= 0:
            # Those who were told a front's own address come to it, in the answer or not.
            present = (fronts == leaf.front).astype(np.float64)
        if self.plan.balancers[leaf.balancer].address_kind == "anycast" and present.any():
            region = self.network.zone_region[self.network.fronts.zone[fronts]]
            trips = np.array([self._distance_s(area, int(one)) for one in region])
            near = np.where(present > 0, trips, np.inf)
            # Regions that are equally near, or equally unknown: the first in the plan.
            first = min(int(one) for one in region[(present > 0) & (near == near.min())])
            present *= region == first
        return present / present.sum() if present.any() else present

    # Words

    def _address(self, leaf: Leaf) -> str:
        addresses = self.network.book.balancers[self.plan.balancers[leaf.balancer].name]
        first = int(np.flatnonzero(self.network.fronts.balancer == leaf.balancer)[0])
        return addresses[leaf.front - first] if leaf.front >= 0 else addresses[0]

    def _hops(self, leaf: Leaf, fronts: Ints, shares: Floats, front: int, takes_s: float) -> Hops:
        balancer, zone = self.plan.balancers[leaf.balancer], self.network.front_name(front)
        dead, living = bool(self.flow.state.truth.front_dead[front]), int((shares > 0).sum())

        def hops() -> Sequence[Hop]:
            why = self.context.history.why_front(front, dead=True) if dead else self._why(balancer.address_kind, living)
            return [
                Hop(
                    kind="address", about=f"{self._address(leaf)} · {zone} front", ok=not dead, because=why,
                    detail=f"one of {living} fronts" if living > 1 else "the only front", latency_ms=takes_s * 1000,
                    candidates=self._candidates(leaf, fronts, shares, front),
                    link=f"front:{balancer.name}/{zone}", where=pointer(("balancers", leaf.balancer)),
                )
            ]  # fmt: skip

        return hops

    def _candidates(self, leaf: Leaf, fronts: Ints, shares: Floats, chosen: int) -> list[Candidate]:
        dead = self.flow.state.truth.front_dead
        return [
            Candidate(
                name=self.network.front_name(one), zone=self.network.front_name(one), share=float(share),
                chosen=one == chosen, truth="dead" if dead[one] else "living",
                excluded=None if share else self._why_not(one, leaf),
            )
            for one, share in zip(fronts.tolist(), shares, strict=True)
        ]  # fmt: skip

    def _why(self, kind: str, living: int) -> str:
        words = {
            "shared": f"one address, spread evenly over {living} front{'s' if living > 1 else ''}",
            "per-zone": "this address is this front's own",
            "anycast": "the nearest region that has a living front",
            "floating": "this front holds the address, the others stand by",
        }
        return words[kind] + self.context.history.lately_left()

    def _why_not(self, front: int, leaf: Leaf) -> str:
        if not self.flow.state.in_address[front]:
            return self.context.history.why_front_left(front)
        return "has an address of its own" if leaf.front >= 0 else "another region is nearer"
