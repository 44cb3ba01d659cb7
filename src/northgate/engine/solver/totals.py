"""What the rates of a solved moment add up to: what readings ask for, and by place when somebody looks there."""

from functools import cached_property

import numpy as np

from northgate.engine.base import (
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
    Floats,
    total_by,
)
from northgate.engine.formulas import Queue
from northgate.engine.solver.backward import Back
from northgate.engine.solver.connections import Bound
from northgate.engine.solver.flow import Flow, Places
from northgate.engine.solver.forward import Sent
from northgate.engine.solver.one_pass import Passing
from northgate.engine.solver.retries.classes import Stuck
from northgate.plan.drills import CAUSES


def flow_of(passing: Passing, share: Floats, sent: Sent, queue: Queue, back: Back) -> Flow:
    """The flow of a moment that is solved; `share` is of those who are free to be sent anywhere."""
    return Sums(passing, share, sent, back).flow(queue)


class Sums:
    """Sums over one solved moment."""

    def __init__(self, passing: Passing, share: Floats, sent: Sent, back: Back) -> None:
        self.passing, self.network, self.moment = passing, passing.network, passing.moment
        self.frame, self.standing = passing.frame, passing.standing
        self.repeats, self.connected = passing.repeats, passing.connected
        self.free_share, self.sent, self.back = share, sent, back
        self.share, _ = passing.trying(passing.mixed(share), share)
        self.through = 1 - passing.over
        self.becomes = self._becomes()
        # What becomes of calls over connections that are open already.
        self.bound: Bound | None = None
        if self.connected.any:
            self.bound = self.connected.ended(self.connected.outcome(back.pair))

    def flow(self, queue: Queue) -> Flow:
        """What readings ask for."""
        network, frame, zones = self.network, self.frame, len(self.network.zones)
        by_call = np.zeros((len(self.moment.call_rps), KINDS))
        np.add.at(by_call, network.entries.call[frame.of_client], self.ended[frame.of_client])
        fixed = np.where(frame.routed, 0.0, self.row_kind[:, SERVED])
        fixed_zone = total_by(network.fronts.zone[frame.front], fixed, zones)
        if len(frame.outside):
            fixed_zone[-1] += float(self.becomes[frame.outside, SERVED].sum())
        accepts = (
            self._accepts() if len(network.names.checks) + len(network.probed.onward) else np.zeros(len(self.becomes))
        )
        return Flow(
            network=network,
            moment=self.moment,
            choice=self.passing.choice,
            queue=queue,
            pair_share=self.free_share,
            attempts=self.passing.tried,
            opening=self._opening(),
            connecting=self._connecting(0),
            reconnecting=self._connecting(1),
            ending=self.connected.ends_at_first_failure(),
            bound_there=self.bound_there,
            served_there=self.served_there,
            row_part=self.standing.row_part,
            row_fate=self.back.row,
            entry_fate=self.back.entry,
            entry_accepts=accepts,
            call_served=by_call[:, SERVED],
            call_cause=by_call[:, : len(CAUSES)],
            mechanism_rps=self._mechanisms(self.ended),
            pair_served=self.pair_served,
            front_excess=self.passing.over,
            zone_served=total_by(network.machines.zone[network.pairs.machine], self.at_machines, zones) + fixed_zone,
            latency_sum=float(by_call[:, WORK].sum()),
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
    def in_time(self) -> tuple[Floats, Floats]:
        """Of what is served of a first connect, by row and by front: the share that is served in time of all connects,
        those after waits for other addresses too. So what is counted by place agrees with what is counted by call, even
        where attempts do not settle."""
        rows, fronts = np.ones(len(self.frame.entry)), np.ones(len(self.network.fronts.zone))
        if not self.passing.again:
            return rows, fronts
        at_once = self.back.entry[:, SERVED] * self.sent.entry
        entries = np.divide(self.becomes[:, SERVED], at_once, out=np.ones_like(at_once), where=at_once > 0)
        for _ in range(self.network.balancers.levels):
            rows = entries[self.frame.entry]
            served = np.where(self.frame.routed, self.back.row[:, SERVED] * self.sent.row, 0.0)
            whole, well = (total_by(self.frame.front, value, len(fronts)) for value in (served, served * rows))
            fronts = np.divide(well, whole, out=np.ones_like(whole), where=whole > 0)
            if len(self.frame.inner):
                entries = np.where(self.frame.of_client, entries, self._in_time_behind(fronts))
        return rows, fronts

    def _in_time_behind(self, fronts: Floats) -> Floats:
        """Per entry behind a target: which share is served in time of what its fronts pass on."""
        pairs, entries = self.network.pairs, self.network.entries
        count = len(self.network.members.group)
        rate = (self.sent.cell[:, pairs.cell] * self.share).sum(axis=0)
        whole, well = (total_by(pairs.member, value, count) for value in (rate, rate * fronts[pairs.front]))
        part = np.divide(well, whole, out=np.ones(count), where=whole > 0)
        return np.asarray(part[np.maximum(entries.member, 0)])

    @cached_property
    def row_kind(self) -> Floats:
        """Per row and kind what becomes of attempts (requests/s)."""
        made = self.back.row * self.sent.row[:, None]
        made[:, SERVED] *= self.in_time[0]
        return made if self.bound is None else made + self.bound.row

    @cached_property
    def pair_served(self) -> Floats:
        """Per pair what is served (requests/s)."""
        served, share, cell = self.back.pair[SERVED], self.share, self.network.pairs.cell
        if len(share) > 1:
            made = (self.sent.cell[:, cell] * share * served).sum(axis=0)
        else:
            made = (self.sent.cell[:, cell] * served).sum(axis=0) * share[0]
        made = made * (self.through * self.in_time[1])[self.network.pairs.front]
        return made if self.bound is None else made + self.bound.served.sum(axis=0)

    @cached_property
    def at_machines(self) -> Floats:
        """The same, where a machine serves; nothing where a balancer passes it on."""
        return np.where(self.frame.leads_on, 0.0, self.pair_served) if len(self.frame.onward) else self.pair_served

    def _opening(self) -> Floats:
        """Per kind of session and member: how often a second a source without a session opens one there."""
        network, members = self.network, len(self.network.members.group)
        made = np.zeros((len(network.kept.sessions), members))
        if not len(made):
            return made
        opens, _ = self.passing.trying(self.free_share, self.free_share, classes=False)
        opens = np.broadcast_to(opens, (self.passing.fates, opens.shape[1]))
        cell_rps = self._all_to_cells if len(self.connected.kinds) else self.sent.cell
        connected, _ = self.repeats.ended(self.back.books) if self.repeats.stuck else (np.zeros(0), None)
        stuck = {one.fate: one for one in self.repeats.stuck}
        for number, kind in enumerate(network.kept.sessions):
            sources = network.plan.clients[kind.client].sources
            fates = np.unique(self.passing.fate_of_call[network.calls.client == kind.client])
            for cell in kind.cells.tolist():
                mine = network.cells.pairs[cell]
                rate = np.zeros(len(mine))
                for fate in fates.tolist():
                    served = self.back.pair[SERVED][fate]
                    if fate in stuck:
                        one = stuck[fate]
                        drawn = self.free_share[min(fate, len(self.free_share) - 1)]
                        often = self.repeats.opening(one, cell, drawn, served, connected)
                        rate += self.moment.call_rps[one.call] * often
                    else:
                        rate += cell_rps[fate, cell] * opens[fate, mine] * served[mine]
                np.add.at(made[number], network.pairs.member[mine], rate / sources)
        return made

    @cached_property
    def _all_to_cells(self) -> Floats:
        """What would reach the cells, by fate, if nobody had an open connection (requests/s)."""
        entries = self.network.entries
        every = self.moment.call_rps[entries.call] * self.repeats.entry_connects
        return self.passing.to_cells(np.where(self.frame.of_client, every, self.sent.entry)).cell

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
        network, frame = self.network, self.frame
        cell_rps, lane_rps = self.sent.cell.sum(axis=0), self.sent.lane.sum(axis=0)
        pair_rps = (self.sent.cell[:, network.pairs.cell] * self.share).sum(axis=0)
        cell_served = (self.back.cell[SERVED] * self.sent.cell).sum(axis=0) * self.through[network.cells.front]
        lane_served = (self.sent.lane * self.back.cell[SERVED][:, network.weighted.cell]).sum(axis=0)
        lane_served = lane_served * self.through[network.cells.front[network.weighted.cell]]
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
            entry_rps=self.ended[:, : SERVED + 1].sum(axis=1),
            entry_served=self.ended[:, SERVED],
            cell_rps=cell_rps,
            cell_served=cell_served,
            lane_rps=lane_rps,
            lane_served=lane_served,
            pair_rps=pair_rps,
            zone_from_elsewhere=total_by(zone, elsewhere, len(network.zones)),
        )

    # By call

    def _becomes(self) -> Floats:
        """What becomes of the calls/s by entry that go no way that is open already, by kind; of what targets pass on,
        what becomes of attempts."""
        network, repeats, moment, back = self.network, self.repeats, self.moment, self.back
        call = network.entries.call
        calls = np.where(self.frame.of_client, moment.call_rps[call] * self.connected.free[call], 0.0)
        ends = repeats.by_entry(repeats.ended(back.books)[1])
        becomes = ends * calls[:, None]
        if self.connected.anew.any():
            # Those whose connection has ended under them: one attempt is spent, and all the patience that it had.
            then = repeats.by_entry(repeats.ended(back.books, spent=1)[1])
            then[:, WORK] += then[:, SERVED] * network.calls.timeout_s[call]
            more = np.where(self.frame.of_client, moment.call_rps[call] * self.connected.anew[call], 0.0)
            becomes = becomes + then * more[:, None]
        inner = self.frame.inner
        becomes[inner] = back.entry[inner] * self.sent.entry[inner, None]
        return becomes

    def _connecting(self, spent: int) -> Floats:
        """Per kind of connection and pair: the share of calls that would open one there, by sources without one, or
        with one that has just ended under a call (`spent` 1)."""
        network, frame, standing, repeats = self.network, self.frame, self.standing, self.repeats
        made = np.zeros(self.connected.rps.shape)
        if spent and not self.connected.anew.any():
            return made
        connected = repeats.connects_after_one if spent else repeats.connects
        often, stuck = repeats.by_entry(connected), {one.call: one for one in repeats.stuck}
        for number, kind in enumerate(self.connected.kinds):
            fate = int(self.connected.fate[number])
            part = often[frame.entry[kind.rows]] * standing.row_part[kind.rows]
            part = part * standing.arrives[kind.rows]
            by_route = total_by(frame.route[kind.rows], part, frame.routes)
            by_lane = by_route[network.weighted.route] * self.passing.choice.lane_share
            by_cell = total_by(network.weighted.cell, by_lane, frame.cells)
            share = self.share[min(fate, len(self.share) - 1)]
            if self.led[number]:
                # Who is not bound is drawn; the others are in `bound_there`.
                drawn = self.free_share[min(fate, len(self.free_share) - 1)]
                share = drawn * self._unbound(number)
            elif kind.call in stuck:
                share = self._spread(stuck[kind.call], connected)
            made[number] = by_cell[self.network.pairs.cell] * share * self.back.pair[SERVED][fate]
        return made

    @cached_property
    def led(self) -> list[bool]:
        """Per kind of connection: whether sessions lead all connections, as each front reaches all targets to which its
        sources are bound, and believes them in use."""
        return [self._is_led(number) for number in range(len(self.connected.kinds))]

    def _is_led(self, number: int) -> bool:
        session = self.network.kept.connections[number].session
        if session < 0 or self.moment.held is None:
            return False
        mine = np.flatnonzero(self.connected.kinds[number].weighted_of_cell >= 0)
        bound = total_by(self.network.pairs.cell, self._session_shares(number), self.frame.cells)[mine]
        return bool(np.allclose(bound, self.moment.held.sessions[session].sum(), rtol=0, atol=1e-9))

    def _session_shares(self, number: int) -> Floats:
        """Per pair the share of sources that the session of a kind of connection binds to its target, as its front
        believes it in use."""
        assert self.moment.held is not None
        held = self.moment.held.sessions[self.network.kept.connections[number].session]
        return np.asarray(held[self.network.pairs.member] * self.moment.in_use)

    def _unbound(self, number: int) -> Floats:
        """Per pair the share of sources that no session binds at its front and that have no connection either."""
        cell, bound = self.network.pairs.cell, self._session_shares(number)
        free = 1 - total_by(cell, bound, self.frame.cells)
        strays = np.maximum(self.connected.held[number] - self.bound_there[number], 0.0).sum()
        return np.asarray(np.maximum(free - strays, 0.0)[cell])

    @cached_property
    def bound_there(self) -> Floats:
        """As `Opens.bound` says."""
        network, frame, standing = self.network, self.frame, self.standing
        made = np.full(self.connected.rps.shape, np.nan)
        for number, kind in enumerate(self.connected.kinds):
            if not self.led[number]:
                continue
            part = self.moment.told[frame.entry[kind.rows]] * standing.row_part[kind.rows]
            by_route = total_by(frame.route[kind.rows], part, frame.routes)
            by_lane = by_route[network.weighted.route] * self.passing.choice.lane_share
            by_cell = total_by(network.weighted.cell, by_lane, frame.cells)
            made[number] = by_cell[self.network.pairs.cell] * self._session_shares(number)
        return made

    @cached_property
    def served_there(self) -> Floats:
        """As `Opens.served` says: a repeat comes to the same target again."""
        made = np.zeros(self.connected.rps.shape)
        front = self.network.pairs.front
        for number, fate in enumerate(self.connected.fate):
            dead = self.moment.truth.front_dead[front] | self.connected.blocked[number]
            served = np.where(dead, 0.0, self.back.pair[SERVED][fate])
            made[number] = 1 - (1 - served) ** (1 + self.connected.retries[number])
        return made

    def _spread(self, one: Stuck, connected: Floats) -> Floats:
        """Per pair the share of its cell, of so many connects by row of the book."""
        drawn = self.free_share[min(one.fate, len(self.free_share) - 1)]
        made = drawn.copy()
        for cell in one.pins:
            made[self.network.cells.pairs[cell]] = self.repeats.spread(one, cell, drawn, connected)
        return made

    def _mechanisms(self, fails: Floats) -> Floats:
        """Failing calls per second by mechanism, in the order of `MECHANISMS`; `fails` per entry and kind."""
        entries, told = self.network.entries, self.moment.told
        fresh = told if self.moment.fresh is None else self.moment.fresh
        old = np.divide(np.clip(told - fresh, 0, None), told, out=np.zeros_like(told), where=told > 0)
        mine = np.flatnonzero(self.frame.of_client)
        fails, old, pool = fails[mine], old[mine], entries.pool[mine] >= 0
        of_old = fails[:, : len(CAUSES)].sum(axis=1) * old
        kept = fails * (1 - old)[:, None]
        waits = kept[:, REFUSED] + kept[:, TIMED_OUT] - kept[:, LATE] + kept[:, RESET] + kept[:, BAD_STATUS]
        return np.array(
            [
                waits[pool].sum(),
                kept[:, DEAD_FRONT].sum(),
                of_old.sum(),
                (kept[:, OVERLOADED] + kept[:, LATE]).sum(),
                kept[:, NONE_HEALTHY].sum(),
                kept[:, BLOCKED].sum(),
                waits[~pool].sum(),
            ]
        )
