"""Calls of clients, of those who probe, and where they lead, compiled."""

from collections.abc import Sequence

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from northgate.engine.base import columns, finite, floats, ints
from northgate.engine.formulas import METHODS
from northgate.engine.matching import (
    CONNECT,
    OTHERWISE,
    Request,
    certificate_covers,
    listener_for,
    plain_host,
    request_for,
    rule_for,
    seen_source,
)
from northgate.engine.network.names import NOWHERE, Leaf, NameBook
from northgate.engine.network.routes import actions_of
from northgate.engine.network.sources import Segment
from northgate.engine.network.tables import (
    CLIENTS_JUDGE,
    NO_PATH,
    Calls,
    Entries,
)
from northgate.engine.network.targets import TargetRows
from northgate.plan import Plan
from northgate.plan.models.balancers import Action, Balancer
from northgate.plan.models.drills import CAUSES


class Asked(Struct, frozen=True):
    """A request of a call on its way: from an area, by a segment of sources."""

    call: int
    area: int
    request: Request
    segment: Segment


class EntryRows:
    """Where calls lead, while it is compiled."""

    def __init__(self, plan: Plan, names: NameBook, targets: TargetRows) -> None:
        self.plan, self.names, self.targets = plan, names, targets
        self.onward = [number for number, row in enumerate(targets.rows) if row.balancer >= 0 or row.name >= 0]
        self._pool_at = {pool.name: index for index, pool in enumerate(plan.pools)}
        self._rows: list[tuple[int, ...]] = []

    def compiled(self) -> Entries:
        """The entries so far, as a table."""
        return Entries(*columns(np.array(self._rows, dtype=np.int64).reshape(-1, 12)))

    def by_name(self, asked: Asked, name: int, asker: int) -> None:
        """Adds the entries of a request that may go to any leaf of an asker (`name`: one past the last for none), and
        of what stands behind them."""
        self._add(asked, -1, name, asker, self.names.leaves_for(self.names.askers[asker]))

    def by_address(self, asked: Asked) -> None:
        """Adds the entry of a request to an address, and of what stands behind it."""
        self._add(asked, -1, len(self.plan.names), -1, (self.names.leaf_of_address(asked.request.host),))

    def passed_on(self, asked: Asked, member: int) -> None:
        """Adds the entries of a request that a target passes on."""
        row = self.targets.rows[member]
        name = row.name if row.name >= 0 else len(self.plan.names)
        if row.balancer >= 0:
            self._add(asked, member, name, -1, (Leaf((), row.balancer, -1),))
        else:
            asker = self.names.asker(row.name, asked.area)
            self._add(asked, member, name, asker, self.names.leaves_for(self.names.askers[asker]))

    def _add(self, asked: Asked, member: int, name: int, asker: int, leaves: Sequence[Leaf]) -> None:
        nowhere = (-1, OTHERWISE, -1, CAUSES.index("blocked"), 0)
        if not leaves:
            self._rows.append((asked.call, member, name, -1, -1, -1, -1, *nowhere))
        for place, leaf in enumerate(leaves):
            taken = nowhere if leaf.balancer == NOWHERE else (-1, OTHERWISE, -1, -1, 200)
            if leaf.balancer >= 0:
                seen = asked.segment if member < 0 else None
                taken = self._taken(self.plan.balancers[leaf.balancer], asked.request, seen)
            self._rows.append((asked.call, member, name, asker, place, max(leaf.balancer, -1), leaf.front, *taken))
            if taken[2] >= 0:
                self._pass_on(asked, leaf.balancer, taken[2])

    def _pass_on(self, asked: Asked, balancer: int, pool: int) -> None:
        groups = {name for tier in self.plan.pools[pool].tiers for name in tier.groups}
        for member in self.onward:
            row = self.targets.rows[member]
            known = any(entry[0] == asked.call and entry[1] == member for entry in self._rows)
            if self.plan.target_groups[row.group].name not in groups or known:
                continue
            scheme = asked.request.scheme
            if self.plan.balancers[balancer].layer == 7:
                scheme = self.plan.target_groups[row.group].protocol
            self.passed_on(replace(asked, request=replace(asked.request, scheme=scheme, port=row.port)), member)

    def _taken(self, balancer: Balancer, request: Request, segment: Segment | None) -> tuple[int, int, int, int, int]:
        """How a balancer takes a request: listener, rule, pool (-1: none), fixed cause and fixed status."""
        listener = listener_for(balancer, request)
        if listener is None:
            return -1, OTHERWISE, -1, CAUSES.index("refused"), 0
        chosen = balancer.listeners[listener]
        if not certificate_covers(self.plan, chosen.certificate, request.host, request.scheme):
            return listener, OTHERWISE, -1, CAUSES.index("refused"), 0
        rule = rule_for(chosen, request, segment.span if segment else None)
        action = chosen.otherwise if rule == OTHERWISE else chosen.rules[rule].do
        pool = self._pool_at[action.pool] if action.pool else -1
        return listener, rule, pool, _fixed_cause(action), _fixed_status(action)


class CallRows:
    """Calls and entries while they are compiled."""

    def __init__(
        self, plan: Plan, names: NameBook, segments: Sequence[Segment], paths: tuple[str, ...],
        regions: Sequence[str], targets: TargetRows,
    ) -> None:  # fmt: skip
        self.plan, self.names, self.segments, self.regions = plan, names, segments, regions
        self.targets, self._entries = targets, EntryRows(plan, names, targets)
        self._path_at = {path: column for column, path in enumerate(paths)}
        self._areas = {area.name: index for index, area in enumerate(plan.areas)}
        self._outcomes: dict[tuple[int, float, int, int, int, float], int] = {}
        self._rows: list[tuple[int, int, int, int, float, int, float, float]] = []
        self._trips = self._trips_s()
        self._trip_kind = {row: kind for kind, row in enumerate(dict.fromkeys(self._trips))}
        self._requests: list[Request] = []
        self._by_source = any(
            METHODS[group.balance].sticky_by_key or group.affinity.by != "none" for group in plan.target_groups
        ) or any(seen_source(balancer) == "client" for balancer in plan.balancers)
        self._onward = self._entries.onward
        # Affinity by source holds at layer 4 too, as keys do, and there each call has connections of its own.
        at_4 = {action.pool for one in plan.balancers if one.layer == 4 for action in actions_of(one) if action.pool}
        groups = {name for pool in plan.pools if pool.name in at_4 for tier in pool.tiers for name in tier.groups}
        self._sticks_at_4 = any(
            (one.affinity.by == "source" or METHODS[one.balance].sticky_by_key) and one.name in groups
            for one in plan.target_groups
        )
        # A session's target may take no connect, after which a key decides who comes next: each source has its own.
        self._goes_on_by_key = any(
            one.affinity.by != "none" and METHODS[one.balance].sticky_by_key and one.try_others
            for one in plan.target_groups
        )
        self.probe_calls: dict[int, int] = {}

    def compiled(self) -> tuple[Calls, Entries]:
        """All calls of clients, then the probes of names; and where they lead."""
        for number, segment in enumerate(self.segments):
            if segment.client < len(self.plan.clients):
                self._client_calls(number, segment)
        self._name_probes()
        self._onward_probes()
        return self._calls(), self._entries.compiled()

    def _trips_s(self) -> list[tuple[float, ...]]:
        """Per area, and last for who is in none: the round trip to each region (s); inf where it is not known."""
        of_plan = {region.name for region in self.plan.regions}
        made = [
            tuple(area.latency_ms.get(region, np.inf if region in of_plan else 0.0) / 1000 for region in self.regions)
            for area in self.plan.areas
        ]
        return [*made, (0.0,) * len(self.regions)]

    def _client_calls(self, number: int, segment: Segment) -> None:
        client = self.plan.clients[segment.client]
        whole = sum(call.share for call in client.calls)
        area = self._areas.get(client.area or "", -1)
        for position, asked in enumerate(client.calls):
            request = request_for(asked.url, asked.method, asked.headers)
            share = asked.share / whole * segment.share
            call = self._add_call(
                segment.client, position, number, area, share, client.connect_timeout_s, request, client.timeout_s
            )
            name = self.names.index(request.host)
            if name is not None:
                # Who goes by an alias goes by the name behind it too; all askers are known before a network is shared.
                asker, *_ = [self.names.asker(one, area) for one in self.names.names_below(name)]
                self._entries.by_name(Asked(call, area, request, segment), name, asker)
            else:
                self._entries.by_address(Asked(call, area, request, segment))

    def _name_probes(self) -> None:
        """A name's probe is a call from its area to the answer itself, judged by what it expects."""
        probes = {probe.name: index for index, probe in enumerate(self.plan.probes)}
        outsider = len(self.segments) - 1
        for number, entry in enumerate(self.plan.names):
            if entry.probe not in probes:
                continue
            judge = probes[entry.probe or ""]
            probe = self.plan.probes[judge]
            host = plain_host(probe.host or entry.name)
            for answer in range(len(entry.answers)):
                for area_name in entry.probed_from:
                    area = self._areas[area_name]
                    scheme = CONNECT if probe.protocol == "tcp" else probe.protocol
                    asked = Request(scheme, host, int(probe.port), probe.path)
                    call = self._add_call(
                        len(self.plan.clients), 0, outsider, area, 0.0, probe.timeout_s, asked, probe.timeout_s, judge
                    )
                    self.names.add_check(number, answer, area, call)
                    asker = self.names.asker(number, area, answer)
                    self._entries.by_name(
                        Asked(call, area, asked, self.segments[outsider]), len(self.plan.names), asker
                    )

    def _onward_probes(self) -> None:
        """The probe of a target that leads on is a call from the front to where it leads, judged by what it expects."""
        probes = {probe.name: index for index, probe in enumerate(self.plan.probes)}
        outsider = len(self.segments) - 1
        for member in self._onward:
            row = self.targets.rows[member]
            judge = probes.get(self.plan.target_groups[row.group].probe or "")
            if judge is None:
                continue
            probe = self.plan.probes[judge]
            scheme = CONNECT if probe.protocol == "tcp" else probe.protocol
            # Who asks a balancer or an address for no host meets no certificate that could fail to name it.
            named = self.plan.names[row.name].name if row.name >= 0 else ""
            host = plain_host(probe.host or named)
            asked = Request(scheme, host, row.probe_port, probe.path)
            call = self._add_call(
                len(self.plan.clients), 0, outsider, -1, 0.0, probe.timeout_s, asked, probe.timeout_s, judge
            )
            self.probe_calls[member] = call
            self._entries.passed_on(Asked(call, -1, asked, self.segments[outsider]), member)

    def _add_call(
        self, client: int, position: int, segment: int, area: int, share: float, connect_s: float, request: Request,
        timeout_s: float, judge: int = CLIENTS_JUDGE,
    ) -> int:  # fmt: skip
        call = len(self._rows)
        own = self._onward or (self._by_source and client < len(self.plan.clients) and self._follows(client))
        who = call if own else segment if self._by_source else 0
        path = self._path_at[request.path] if request.scheme in ("http", "https") else NO_PATH
        key = (path, timeout_s, judge, who, self._trip_kind[self._trips[area]], connect_s)
        outcome = self._outcomes.setdefault(key, len(self._outcomes))
        self._rows.append((client, position, segment, area, share, outcome, connect_s, timeout_s))
        self._requests.append(request)
        return call

    def _follows(self, client: int) -> bool:
        """Whether calls of a client group are followed one by one: what they hold decides where they go again."""
        asks = self.plan.clients[client]
        return asks.retries > 0 or asks.tries_next_address or self._sticks_at_4 or self._goes_on_by_key

    def _kilobytes(self, client: int, number: int) -> float:
        clients = self.plan.clients
        return clients[client].calls[number].kilobytes if client < len(clients) else 0.0

    def _calls(self) -> Calls:
        rows = self._rows
        area = ints(row[3] for row in rows)
        return Calls(
            client=ints(row[0] for row in rows),
            number=ints(row[1] for row in rows),
            segment=ints(row[2] for row in rows),
            area=area,
            share=floats(row[4] for row in rows),
            outcome=ints(row[5] for row in rows),
            outcome_path=ints(key[0] for key in self._outcomes),
            outcome_timeout_s=floats(key[1] for key in self._outcomes),
            outcome_judge=ints(key[2] for key in self._outcomes),
            outcome_who=ints(key[3] for key in self._outcomes),
            outcome_trip=ints(key[4] for key in self._outcomes),
            outcome_connect_s=floats(key[5] for key in self._outcomes),
            connect_timeout_s=floats(row[6] for row in rows),
            timeout_s=floats(row[7] for row in rows),
            distance_s=np.array(self._trips, dtype=np.float64).reshape(len(self._trips), -1)[area],
            trips_s=finite(np.array(list(self._trip_kind), dtype=np.float64).reshape(len(self._trip_kind), -1)),
            # A kilobyte is 1,000 bytes; what is probed is as good as nothing.
            megabits=floats(self._kilobytes(row[0], row[1]) * 8 / 1000 for row in rows),
            requests=tuple(self._requests),
        )


def _fixed_cause(action: Action) -> int:
    """The cause for which a request fails at the balancer itself; -1 when it does not."""
    return CAUSES.index("bad_status") if action.respond and action.respond.status >= 400 else -1


def _fixed_status(action: Action) -> int:
    """The status that the balancer itself answers; 0 when a pool does."""
    if action.redirect:
        return action.redirect.status
    return action.respond.status if action.respond else 0
