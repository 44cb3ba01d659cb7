"""In a balancer: the tier of a pool that serves, and the group that takes the request."""

from collections.abc import Sequence

import numpy as np

from northgate.engine.base import Floats, Ints
from northgate.engine.formulas import METHODS
from northgate.engine.trace.answer import Candidate, Hop
from northgate.engine.trace.format import per_cent
from northgate.engine.trace.stages.way import Context, End, Hops, Way
from northgate.engine.trace.words import tier_words
from northgate.plan.problems import pointer


class PoolStage:
    """Whether anybody of a pool takes the request, and then which group does."""

    def __init__(self, context: Context) -> None:
        self.context, self.flow, self.network, self.plan = context, context.flow, context.network, context.plan

    def route(self, front: int, pool: str) -> int:
        """The route of a front and a pool."""
        place = [one.name for one in self.plan.pools].index(pool)
        routes = self.network.routes
        return int(np.flatnonzero((routes.front == front) & (routes.pool == place))[0])

    def ways(self, front: int, pool: str) -> list[Way[int]]:
        """To the route of a pool, or to the end of those that find nobody there."""
        route = self.route(front, pool)
        refused = float(self.flow.choice.route_refused[route])
        serving = self._serving(route)
        if not self.flow.choice.weighted_share[serving].any():
            refused = 1.0
        label = self.context.paths.front(front).label
        reason = f"nobody of {pool} is believed in use by {label}"
        if not self.network.weighted.weight[serving].any():
            reason = f"all groups of {pool} that may serve have the weight 0"
        end = End(reason, error="reset", cause="none_healthy", connect="away")
        if self.network.fronts.layer[front] == 7:
            end = End(reason, status=503, error="none_healthy", cause="none_healthy")
        ways = [
            Way(1 - refused, route, hops=self._hops(route, pool, none=False)),
            Way(refused, end=end, hops=self._hops(route, pool, none=True)),
        ]
        return [way for way in ways if way.share > 0]

    def groups(self, route: int) -> list[Way[int]]:
        """The cells to which a route leads."""
        network, weighted = self.network, self._taking(route)
        shares = self.flow.choice.weighted_share[weighted]
        shares = shares / shares.sum()
        return [
            Way(float(share), int(network.weighted.cell[one]), hops=self._group_hops(route, weighted, number))
            for number, (one, share) in enumerate(zip(weighted, shares, strict=True))
            if share > 0
        ]

    def _serving(self, route: int) -> Ints:
        """The weighted groups of the tier that serves a route."""
        network, tier = self.network, int(self.flow.choice.route_tier[route])
        return np.flatnonzero((network.weighted.route == route) & (network.weighted.tier == tier))

    def _taking(self, route: int) -> Ints:
        """The weighted groups that may take something: of the tier that serves, and of those on which what it has no
        room for goes."""
        beyond = (self.network.weighted.route == route) & (self.flow.choice.weighted_share > 0)
        return np.union1d(self._serving(route), np.flatnonzero(beyond))

    # Words

    def _hops(self, route: int, pool: str, *, none: bool) -> Hops:
        def hops() -> Sequence[Hop]:
            place, serving = int(self.network.routes.pool[route]), int(self.flow.choice.route_tier[route])
            tier = int(self.network.tiers.number[serving])
            known, whole = self._health(self._serving(route))
            asked = self._asked_for(place, tier)
            because = f"tier {tier + 1}: {known:g} of {whole:g} targets believed in use, {asked} asked for"
            if not self.network.weighted.weight[self._serving(route)].any():
                because = f"all groups of tier {tier + 1} have the weight 0"
            elif known == 0:
                because = f"no tier has a target in use, so tier {tier + 1} decides what happens"
            return [
                Hop(
                    kind="pool", about=f"{pool} · tier {tier + 1}", ok=not none, because=because,
                    detail=tier_words(tier, len(self.plan.pools[place].tiers)),
                    candidates=self._tiers(route, serving), where=pointer(("pools", place, "tiers", tier)),
                    link=f"pool:{pool}",
                )
            ]  # fmt: skip

        return hops

    def _group_hops(self, route: int, weighted: Ints, chosen: int) -> Hops:
        def hops() -> Sequence[Hop]:
            groups, cells = self.plan.target_groups, self.network.weighted.cell[weighted]
            place = int(self.network.cells.group[cells[chosen]])
            shares = self.flow.choice.weighted_share[weighted]
            pool = self.plan.pools[int(self.network.routes.pool[route])].name
            share, several = per_cent(float(shares[chosen])), len(weighted) > 1
            return [
                Hop(
                    kind="group", about=groups[place].name, ok=True, detail=METHODS[groups[place].balance].because,
                    because=self._why(route, pool, share, int(weighted[chosen])) if several else "its only group",
                    candidates=self._groups(cells, shares, self.network.weighted.weight[weighted], chosen),
                    link=f"group:{groups[place].name}", where=pointer(("target_groups", place)),
                )
            ]  # fmt: skip

        return hops

    def _why(self, route: int, pool: str, share: str, weighted: int) -> str:
        """Why a group takes its share: by weight, or as far as it is filled."""
        network = self.network
        tier = int(network.tiers.number[network.weighted.tier[weighted]])
        fill = self.plan.pools[int(network.routes.pool[route])].tiers[tier].fill
        if fill is None:
            serves = int(self.flow.choice.route_tier[route]) == int(network.weighted.tier[weighted])
            return f"{share} of {pool}, " + ("by weight" if serves else "what the tiers before it have no room for")
        to = f"{fill.utilisation:.0%} busy" if fill.utilisation else f"{fill.rps_per_target:g}/s at each target"
        return f"{share} of {pool}: filled up to {to}, in order, and by weight beyond".replace("%", " %")

    def _groups(self, cells: Ints, shares: Floats, weights: Floats, chosen: int) -> list[Candidate]:
        groups = self.plan.target_groups
        return [
            Candidate(
                name=groups[int(self.network.cells.group[cell])].name, share=float(share), chosen=number == chosen,
                excluded=None if share else self._why_not(int(cell), float(weight)),
            )
            for number, (cell, share, weight) in enumerate(zip(cells, shares, weights, strict=True))
        ]  # fmt: skip

    def _why_not(self, cell: int, weight: float) -> str:
        return "weight 0" if not weight else f"{self.flow.choice.cell_targets[cell]:g} targets, none in use"

    def _health(self, weighted: Ints) -> tuple[float, float]:
        cells = self.network.weighted.cell[weighted]
        return float(self.flow.choice.cell_in_use[cells].sum()), float(self.flow.choice.cell_targets[cells].sum())

    def _asked_for(self, pool: int, tier: int) -> str:
        bound = self.plan.pools[pool].tiers[tier].min_healthy
        return per_cent(bound.share) if bound.share is not None else f"{bound.count}"

    def _tiers(self, route: int, serving: int) -> list[Candidate]:
        tiers, found = self.network.tiers, []
        for one in np.flatnonzero(tiers.route == route).tolist():
            known, whole = self._health(np.flatnonzero(self.network.weighted.tier == one))
            asked = self._asked_for(int(self.network.routes.pool[route]), int(tiers.number[one]))
            why = None
            if one != serving:
                why = "an earlier tier serves" if one > serving else f"only {known:g} of {whole:g} are in use"
            found.append(
                Candidate(
                    name=f"tier {tiers.number[one] + 1}", share=float(one == serving), chosen=one == serving,
                    excluded=why, note=f"{known:g} of {whole:g} in use, {asked} asked for",
                )
            )  # fmt: skip
        return found
