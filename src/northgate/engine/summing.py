"""What the rates of a solved moment add up to: what readings ask for, and by place when somebody looks there."""

from functools import cached_property

import numpy as np

from northgate.engine.connected import Bound
from northgate.engine.flow import (
    BAD_STATUS,
    BLOCKED,
    DEAD_FRONT,
    KINDS,
    LATE,
    NONE_HEALTHY,
    OVERLOADED,
    REFUSED,
    RESET,
    SERVED,
    TIMED_OUT,
    WORK,
    Flow,
    Places,
)
from northgate.engine.load import Queue
from northgate.engine.passing import Back, Passing, Sent
from northgate.engine.types import Floats, Ints, total_by
from northgate.plan.drills import CAUSES


def flow_of(passing: Passing, share: Floats, sent: Sent, queue: Queue, back: Back) -> Flow:
    """The flow of a moment that is solved; `share` is of those who are free to be sent anywhere."""
    return _Sums(passing, share, sent, back).flow(queue)


class _Sums:
    """Sums over one solved moment."""

    def __init__(self, passing: Passing, share: Floats, sent: Sent, back: Back) -> None:
        self.passing, self.network, self.moment = passing, passing.network, passing.moment
        self.frame, self.standing = passing.frame, passing.standing
        self.repeats, self.connected = passing.repeats, passing.connected
        self.free_share, self.sent, self.back = share, sent, back
        self.share, _ = passing.trying(passing.mixed(share), share)
        self.through = 1 - passing.over
        self.calls, self.becomes, self.lost = self._calls()
        # What becomes of calls over connections that are open already.
        self.bound: Bound | None = None
        if self.connected.any:
            self.bound = self.connected.ended(self.connected.outcome(back.pair))

    def flow(self, queue: Queue) -> Flow:
        """What readings ask for."""
        network, frame, zones = self.network, self.frame, len(self.network.zones)
        by_call = np.zeros((len(self.moment.call_rps), KINDS))
        np.add.at(by_call, network.entries.call[frame.of_client], self.ended[frame.of_client])
        by_call[:, DEAD_FRONT] += self.lost
        fixed = np.where(frame.routed, 0.0, self.row_kind[:, SERVED])
        fixed_zone = total_by(network.fronts.zone[frame.front], fixed, zones)
        if len(frame.outside):
            fixed_zone[-1] += float(self.sent.entry[frame.outside].sum())
        accepts = self._accepts() if network.checks else np.zeros(len(network.entries.call))
        return Flow(
            network=network,
            moment=self.moment,
            choice=self.passing.choice,
            queue=queue,
            pair_share=self.free_share,
            attempts=self.passing.tried,
            opening=self._opening(),
            connecting=self._connecting(),
            ending=self.connected.ends_at_first_failure(),
            fate_cell_rps=self.sent.cell,
            row_part=self.standing.row_part,
            row_fate=self.back.row,
            entry_fate=self.back.entry,
            entry_accepts=accepts,
            call_served=by_call[:, SERVED],
            call_cause=by_call[:, : len(CAUSES)],
            mechanism_rps=self._mechanisms(self.ended, self.lost),
            pair_served=self.pair_served,
            zone_served=total_by(network.machines.zone[network.pairs.machine], self.at_machines, zones) + fixed_zone,
            latency_sum=float(by_call[:, WORK].sum()) + self._round_trips(self.row_kind[:, SERVED]),
            work_out=self.places,
        )

    @cached_property
    def over_open(self) -> Floats:
        """Per entry and kind what becomes of calls over open connections (calls/s)."""
        made = np.zeros_like(self.becomes)
        if self.bound is not None:
            np.add.at(made, self.frame.entry, self.bound.row)
        return made

    @cached_property
    def ended(self) -> Floats:
        """Per entry and kind what becomes of calls in the end (calls/s)."""
        return self.becomes if self.bound is None else self.becomes + self.over_open

    @cached_property
    def row_kind(self) -> Floats:
        """Per row and kind what becomes of attempts (requests/s)."""
        made = self.back.row * self.sent.row[:, None]
        return made if self.bound is None else made + self.bound.row

    @cached_property
    def pair_served(self) -> Floats:
        """Per pair what is served (requests/s)."""
        served, share, cell = self.back.pair[SERVED], self.share, self.network.pairs.cell
        if len(share) > 1:
            made = (self.sent.cell[:, cell] * share * served).sum(axis=0)
        else:
            made = (self.sent.cell[:, cell] * served).sum(axis=0) * share[0]
        made = made * self.through[self.network.pairs.front]
        return made if self.bound is None else made + self.bound.served.sum(axis=0)

    @cached_property
    def at_machines(self) -> Floats:
        """The same, where a machine serves; nothing where a balancer passes it on."""
        return np.where(self.frame.leads_on, 0.0, self.pair_served) if len(self.frame.onward) else self.pair_served

    def _opening(self) -> Floats:
        """Per fate and pair the share of requests without a session that would be served there."""
        shape = (self.passing.fates, len(self.network.pairs.front))
        if not self.network.session_kinds:
            return np.broadcast_to(0.0, shape)
        opens, _ = self.passing.trying(self.free_share, self.free_share, classes=False)
        free = self.repeats.free_factor(self.passing.fates) if self.repeats.stuck else 1.0
        return np.broadcast_to(opens * self.back.pair[SERVED] * free, shape)

    def _accepts(self) -> Floats:
        """Per entry the share of connections that a living front takes which believes some target in use."""
        entries, frame = self.network.entries, self.frame
        found = np.where(frame.routed, 1.0, entries.listener[frame.entry] >= 0)
        if frame.routes:
            found -= np.where(frame.routed, self.passing.choice.route_refused[frame.some_route], 0.0)
        at_front = np.where(self.standing.arrives, found, 0.0) * self.standing.row_part
        return total_by(frame.entry, at_front, len(entries.call)) + (entries.balancer < 0)

    # By place

    def places(self) -> Places:
        """Rates by place on the way."""
        network, frame, routes = self.network, self.frame, self.network.routes
        cell_rps, lane_rps = self.sent.cell.sum(axis=0), self.sent.lane.sum(axis=0)
        pair_rps = (self.sent.cell[:, network.pairs.cell] * self.share).sum(axis=0)
        cell_served = (self.back.cell[SERVED] * self.sent.cell).sum(axis=0) * self.through[routes.cell_front]
        lane_served = (self.sent.lane * self.back.cell[SERVED][:, routes.lane_cell]).sum(axis=0)
        lane_served = lane_served * self.through[routes.cell_front[routes.lane_cell]]
        tried = self.sent.row
        if self.bound is not None:
            open_now, coming = self.connected, self.connected.coming
            cell_ok = open_now.by_cell(self.bound.served)
            tried, pair_rps = tried + self.bound.row_rps, pair_rps + coming.sum(axis=0)
            cell_rps, cell_served = cell_rps + open_now.by_cell(coming).sum(axis=0), cell_served + cell_ok.sum(axis=0)
            lane_rps = lane_rps + open_now.by_lane(open_now.by_cell(coming))
            lane_served = lane_served + open_now.by_lane(cell_ok)
        fronts, zone = len(network.fronts.zone), network.machines.zone[network.pairs.machine]
        elsewhere = np.where(network.pairs.same_zone, 0.0, self.at_machines)
        return Places(
            front_rps=total_by(frame.front, tried, fronts),
            front_dead_rps=total_by(frame.front, np.where(self.standing.dead, tried, 0.0), fronts),
            front_served=total_by(frame.front, self.row_kind[:, SERVED], fronts),
            entry_rps=self._ended(self.calls, self.back.entry) + self.over_open[:, : SERVED + 1].sum(axis=1),
            entry_served=self.ended[:, SERVED],
            cell_rps=cell_rps,
            cell_served=cell_served,
            lane_rps=lane_rps,
            lane_served=lane_served,
            pair_rps=pair_rps,
            zone_from_elsewhere=total_by(zone, elsewhere, len(network.zones)),
        )

    # By call

    def _calls(self) -> tuple[Floats, Floats, Floats]:
        """The calls/s by entry that go no way that is open already; what becomes of them by kind; and per call what is
        lost to dead fronts at every address."""
        entries, repeats, moment = self.network.entries, self.repeats, self.moment
        share, back, told = self.free_share, self.back, self.moment.told
        rate = moment.call_rps[entries.call]
        calls = np.where(self.frame.of_client, rate * told * self.connected.free[entries.call], self.sent.entry)
        becomes, lost = repeats.of_calls(back.entry, share, back.pair, back.row)
        becomes, lost = becomes * calls[:, None], moment.call_rps * lost * self.connected.free
        if self.connected.anew.any():
            # Those whose connection has ended under them: one attempt is spent.
            more = np.where(self.frame.of_client, rate * told * self.connected.anew[entries.call], 0.0)
            then, gone = repeats.of_calls(back.entry, share, back.pair, back.row, spent=1)
            calls, becomes = calls + more, becomes + then * more[:, None]
            lost = lost + moment.call_rps * gone * self.connected.anew
        return calls, becomes, lost

    def _connecting(self) -> Floats:
        """Per kind of connection and pair: the share of calls that would open one there, by sources without one."""
        routes, made = self.network.routes, np.zeros(self.connected.rps.shape)
        frame, standing, share, back = self.frame, self.standing, self.free_share, self.back
        for number, kind in enumerate(self.connected.kinds):
            fate = int(self.connected.fate[number])
            entry = frame.entry[kind.rows]
            part = self.moment.told[entry] * self.repeats.attempts[entry] * standing.row_part[kind.rows]
            part *= standing.arrives[kind.rows]
            by_route = total_by(frame.route[kind.rows], part, frame.routes)
            by_lane = by_route[routes.lane_route] * self.passing.choice.lane_share
            by_cell = total_by(routes.lane_cell, by_lane, frame.cells)
            drawn = share[min(fate, len(share) - 1)]
            made[number] = by_cell[self.network.pairs.cell] * drawn * back.pair[SERVED][fate]
        return made

    def _ended(self, tried: Floats, entry: Floats) -> Floats:
        """Calls per second by the entry where they end: one that goes on to the next address is counted there, one
        that meets dead fronts to the end where it did, so that each call is counted once."""
        if not self.repeats.in_sets.any():
            return tried
        call, count = self.network.entries.call, len(self.moment.call_rps)
        dead = np.where(self.repeats.in_sets, tried * entry[:, DEAD_FRONT], 0.0)
        whole = total_by(call, dead, count)[call]
        assert self.moment.lost is not None
        lost = np.where(self.repeats.in_sets, self.moment.call_rps[call] * np.nan_to_num(self.moment.lost)[call], 0.0)
        return tried - dead + np.divide(lost * dead, whole, out=np.zeros_like(dead), where=whole > 0)

    def _mechanisms(self, fails: Floats, lost: Floats) -> Floats:
        """Failing calls per second by mechanism, in the order of `MECHANISMS`; `fails` per entry and kind."""
        entries, told = self.network.entries, self.moment.told
        fresh = told if self.moment.fresh is None else self.moment.fresh
        old = np.divide(np.clip(told - fresh, 0, None), told, out=np.zeros_like(told), where=told > 0)
        mine = np.flatnonzero(self.frame.of_client)
        fails, old, pool = fails[mine], old[mine], entries.pool[mine] >= 0
        of_old = fails[:, : len(CAUSES)].sum(axis=1) * old
        kept = fails * (1 - old)[:, None]
        waits = kept[:, REFUSED] + kept[:, TIMED_OUT] - kept[:, LATE] + kept[:, RESET] + kept[:, BAD_STATUS]
        share_old = self._old_of_calls(old, mine)
        return np.array(
            [
                waits[pool].sum(),
                kept[:, DEAD_FRONT].sum() + (lost * (1 - share_old)).sum(),
                of_old.sum() + (lost * share_old).sum(),
                (kept[:, OVERLOADED] + kept[:, LATE]).sum(),
                kept[:, NONE_HEALTHY].sum(),
                kept[:, BLOCKED].sum(),
                waits[~pool].sum(),
            ]
        )

    def _old_of_calls(self, old: Floats, mine: Ints) -> Floats:
        """Per call the share of its tries that old answers lead."""
        call, count = self.network.entries.call[mine], len(self.moment.call_rps)
        told = self.moment.told[mine]
        whole = total_by(call, told, count)
        return np.divide(total_by(call, told * old, count), whole, out=np.zeros(count), where=whole > 0)

    def _round_trips(self, row_served: Floats) -> float:
        """Served rate times the client's round trip, summed (requests, as rate times seconds)."""
        network = self.network
        region = network.zone_region[network.fronts.zone[self.frame.front]]
        of_client = np.where(self.frame.of_client[self.frame.entry], row_served, 0.0)
        return float(of_client @ network.calls.round_trip_s[self.frame.call, region])
