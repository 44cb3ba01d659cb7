"""Calls of clients, of those who probe, and where they lead, compiled."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from northgate.engine.base import floats, ints
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
from northgate.engine.network.names import Leaf, NameBook
from northgate.engine.network.routes import actions_of
from northgate.engine.network.sources import Segment
from northgate.engine.network.tables import (
    CLIENTS_JUDGE,
    NO_PATH,
    Calls,
    Entries,
    known_trips_s,
)
from northgate.engine.network.targets import TargetRows
from northgate.plan import Plan
from northgate.plan.addressing import AddressBook
from northgate.plan.balancers import Action, Balancer
from northgate.plan.drills import CAUSES


class CallRows:
    """Calls and entries while they are compiled."""

    def __init__(
        self, plan: Plan, names: NameBook, segments: Sequence[Segment], paths: tuple[str, ...],
        regions: Sequence[str], standing: TargetRows, book: AddressBook,
    ) -> None:  # fmt: skip
        self.plan, self.names, self.segments, self.regions = plan, names, segments, regions
        self.standing, self.book = standing, book
        self._path_at = {path: column for column, path in enumerate(paths)}
        self._areas = {area.name: index for index, area in enumerate(plan.areas)}
        self._pool_at = {pool.name: index for index, pool in enumerate(plan.pools)}
        self._outcomes: dict[tuple[int, float, int, int, int, float], int] = {}
        self._rows: list[tuple[int, int, int, int, float, int, float, float]] = []
        self._trips = self._trips_s()
        self._trip_kind = {row: kind for kind, row in enumerate(dict.fromkeys(self._trips))}
        self._requests: list[Request] = []
        self._entries: list[tuple[int, ...]] = []
        self._by_source = any(
            group.balance == "source-hash" or group.affinity.by != "none" for group in plan.target_groups
        ) or any(seen_source(balancer) == "client" for balancer in plan.balancers)
        self._onward = [number for number, row in enumerate(standing.rows) if row.balancer >= 0 or row.name >= 0]
        # Affinity by source holds at layer 4 too, and there each call has connections of its own.
        at_4 = {action.pool for one in plan.balancers if one.layer == 4 for action in actions_of(one) if action.pool}
        groups = {name for pool in plan.pools if pool.name in at_4 for tier in pool.tiers for name in tier.groups}
        self._sticks_at_4 = any(one.affinity.by == "source" and one.name in groups for one in plan.target_groups)
        # A session's target may take no connect, after which a key decides who comes next: each source has its own.
        self._goes_on_by_key = any(
            one.affinity.by != "none" and one.balance == "source-hash" and one.try_others for one in plan.target_groups
        )
        self.probe_calls: dict[int, int] = {}

    def compiled(self) -> tuple[Calls, Entries]:
        """All calls of clients, then the probes of names; and where they lead."""
        for number, segment in enumerate(self.segments):
            if segment.client < len(self.plan.clients):
                self._client_calls(number, segment)
        self._name_probes()
        self._onward_probes()
        table = np.array(self._entries, dtype=np.int64).reshape(-1, 12)
        return self._calls(), Entries(*(table[:, column] for column in range(12)))

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
                self._leads(call, -1, name, asker, request, segment)
            else:
                leaf = self.names.leaf_of_address(request.host)
                self._leads(call, -1, len(self.plan.names), leaf, request, segment)

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
                    self._leads(call, -1, len(self.plan.names), asker, asked, self.segments[outsider])

    def _onward_probes(self) -> None:
        """The probe of a target that leads on is a call from the front to where it leads, judged by what it expects."""
        probes = {probe.name: index for index, probe in enumerate(self.plan.probes)}
        outsider = len(self.segments) - 1
        for member in self._onward:
            row = self.standing.rows[member]
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
            self._leads_from(call, member, asked, self.segments[outsider])

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

    def _leads(
        self, call: int, member: int, name: int, way: int | Leaf, request: Request, segment: Segment
    ) -> None:  # fmt: skip
        """Adds the entries of a request that may go to any leaf of an asker, or to the one leaf that there is, and of
        what stands behind them."""
        asker, leaves = (-1, (way,)) if isinstance(way, Leaf) else (way, self.names.leaves_for(self.names.askers[way]))
        if not leaves:
            nowhere = (-1, -1, -1, -1, -1, OTHERWISE, -1, CAUSES.index("blocked"), 0)
            self._entries.append((call, member, name, *nowhere))
        for place, leaf in enumerate(leaves):
            listener, rule, pool, cause, status = -1, OTHERWISE, -1, -1, 200
            if leaf.balancer >= 0:
                listener, rule, pool, cause, status = self._taken(
                    self.plan.balancers[leaf.balancer], request, segment if member < 0 else None
                )
            self._entries.append(
                (call, member, name, asker, place, leaf.balancer, leaf.front, listener, rule, pool, cause, status)
            )
            if pool >= 0:
                self._leads_on(call, leaf.balancer, pool, request, segment)

    def _leads_on(self, call: int, balancer: int, pool: int, request: Request, segment: Segment) -> None:
        groups = {name for tier in self.plan.pools[pool].tiers for name in tier.groups}
        for member in self._onward:
            row = self.standing.rows[member]
            if self.plan.target_groups[row.group].name not in groups:
                continue
            if any(entry[0] == call and entry[1] == member for entry in self._entries):
                continue
            scheme = request.scheme
            if self.plan.balancers[balancer].layer == 7:
                scheme = self.plan.target_groups[row.group].protocol
            self._leads_from(call, member, replace(request, scheme=scheme, port=row.port), segment)

    def _leads_from(self, call: int, member: int, request: Request, segment: Segment) -> None:
        """Adds the entries of a request that a target passes on."""
        row, area = self.standing.rows[member], int(self._rows[call][3])
        way = Leaf((), row.balancer, -1) if row.balancer >= 0 else self.names.asker(row.name, area)
        self._leads(call, member, row.name if row.name >= 0 else len(self.plan.names), way, request, segment)

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
            trips_s=known_trips_s(np.array(list(self._trip_kind), dtype=np.float64).reshape(len(self._trip_kind), -1)),
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
