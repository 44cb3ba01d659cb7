"""One moment while it is solved: forward from entries to fronts, lanes, cells and pairs, through the queues, and back.

Requests go forward one level of balancers after the other; what becomes of them goes back the same way, as shares of
what is sent.
"""

from dataclasses import replace
from functools import cached_property

import numpy as np

from northgate.engine.balancing import busy_shares, hash_table
from northgate.engine.base import (
    BAD_STATUS,
    BLOCKED,
    DEAD_FRONT,
    FAILS,
    KINDS,
    LATE,
    NONE_HEALTHY,
    OVERLOADED,
    QUIET,
    REFUSED,
    SERVED,
    SPENT,
    TIMED_OUT,
    UNMET,
    WORK,
    Bools,
    Floats,
    Ints,
    sum_columns,
    total_by,
)
from northgate.engine.formulas import LastStops, Queue, last_stops, last_stops_in_order, queue_under, too_late
from northgate.engine.network import Network
from northgate.engine.solver.backward import Back
from northgate.engine.solver.connections import Connected
from northgate.engine.solver.forward import Sent, Stop
from northgate.engine.solver.retries.attempts import Repeats, sessions_of_free
from northgate.engine.solver.retries.kinds import capped, with_trip
from northgate.engine.solver.standing import standing_at
from northgate.engine.solver.state import Moment, Tried
from northgate.engine.truth import ANSWERS, BARRED, REFUSES, SILENT


class Passing:
    """One moment while it is solved."""

    def __init__(self, network: Network, moment: Moment) -> None:
        self.network, self.moment = network, moment
        self.standing = standing_at(network, moment)
        self.frame, self.choice = self.standing.frame, self.standing.choice
        self.fates, self.fate_of_call = self.standing.fates, self.standing.fate_of_call
        self.routes, self.cells, self.busy = self.frame.routes, self.frame.cells, self.frame.busy
        self.told = moment.told
        self.repeats = Repeats(self.standing, moment)
        self.connected = Connected(network, moment, self.repeats.of_client)
        self.repeats.free = self.connected.free
        # Per front: the share of its answers that its balancer's bandwidth does not let through.
        self.over = np.zeros(len(network.fronts.zone))
        # What becomes of calls that are followed by class, by how many silent targets they have met before.
        self.after_waits: dict[tuple[int, int], Floats] = {}
        if self.again and moment.attempts is not None and moment.attempts.fits(self.tried):
            self.take(moment.attempts)

    @property
    def again(self) -> bool:
        """Whether any call may be tried more than once."""
        return self.repeats.any

    def go(self, share: Floats) -> tuple[Sent, Queue, Back]:
        """One pass with these shares of those who are free to be sent anywhere, of shape (fates or 1, pairs): forward
        to targets, through their queues, and back."""
        ends, stops = self.trying(self.mixed(share), share)
        sent = self.forward(ends)
        queue = self.queues(ends, sent)
        back = self.backward(ends, share, sent, queue, stops)
        return sent, queue, replace(back, later=self._later(ends, share, sent, queue, stops, back))

    def _later(
        self, ends: Floats, share: Floats, sent: Sent, queue: Queue, stops: list[Stop], back: Back
    ) -> tuple[Floats, ...]:  # fmt: skip
        """The book after one, two, ... connects that took their time-out."""
        waits = self.repeats.longest_wait() if self.again else 0
        if not waits or not self._quiet(back):
            return ()
        late = self._late(queue, 0)
        if not self.frame.with_others and all(
            (self._late(queue, number) == late).all() for number in range(1, waits + 1)
        ):
            return ()
        made = tuple(self.backward(ends, share, sent, queue, stops, number).book for number in range(1, waits + 1))
        self.after_waits.clear()
        self._after_waits(queue, back.pair, 0)
        return made

    def _quiet(self, back: Back) -> bool:
        """Whether any connect takes its time-out."""
        return any(back.book[:, UNMET + cause].any() for cause in QUIET)

    def _late(self, queue: Queue, waits: int) -> Bools:
        """Per fate and pair: whether an answer comes too late, after so many connects that took their time-out."""
        machine = self.network.pairs.machine
        patience_s = self.moment.encounter.patience_s(waits)
        return too_late(queue.latency_s[machine], queue.slope[machine], patience_s)

    @property
    def tried(self) -> Tried:
        """How often calls connect, as things stand."""
        repeats, connected = self.repeats, self.connected
        return Tried(repeats.mult, repeats.after_one, connected.tries, connected.anew)

    def tries_wanted(self, back: Back) -> Tried:
        """How often calls would connect, given what becomes of one."""
        repeats, connected = self.repeats, self.connected
        mult = repeats.against_once(repeats.ended(back.books)[0])
        open_now = connected.outcome(back.pair)
        lost = connected.ended_under_calls(open_now)
        for kind, ended in zip(connected.kinds, lost, strict=True):
            repeats.lose_connections(kind.call, ended)
        after_one = repeats.ended(back.books, 1)[0] if lost.any() else repeats.after_one
        return Tried(mult, after_one, connected.attempts(open_now), connected.by_call(lost))

    def take(self, tried: Tried) -> None:
        """From now on calls connect that often."""
        self.repeats.take(tried.book, tried.after_one)
        self.connected.tries, self.connected.anew = tried.over_open, tried.anew
        self.repeats.anew = tried.anew

    def trying(self, first: Floats, drawn: Floats, *, classes: bool = True) -> tuple[Floats, list[Stop]]:
        """Where requests end that go on to other targets when connects fail, given where they are first sent;
        `classes`: those that are held and repeated as their classes go, else like all that are drawn anew."""
        if not self.frame.with_others:
            return first, []
        ends, stops = np.repeat(first, self.fates, axis=0) if len(first) == 1 else first.copy(), []
        met = self.moment.encounter.fate_met
        for cell, tries in self.frame.with_others:
            mine = self.network.cells.pairs[cell]
            bad = (met[:, mine] != ANSWERS) & ~self.frame.leads_on[mine]
            held = {one.fate: one for one in self.repeats.stuck if cell in one.spent} if classes else {}
            for followed, one in held.items():
                found = self.repeats.ends_at(one, cell, drawn[min(followed, len(drawn) - 1), mine])
                ends[followed, mine] = found.share
                stops.append(Stop(followed, mine, bad[followed], found))
            for fate in np.flatnonzero((ends[:, mine] * bad).sum(axis=1) > 0):
                if int(fate) in held:
                    continue
                silent = met[fate, mine] != REFUSES
                own = drawn[min(int(fate), len(drawn) - 1), mine]
                found = self._by_hash(cell, int(fate), bad[fate], silent, tries, ends[fate, mine], own)
                ends[fate, mine] = found.share
                stops.append(Stop(int(fate), mine, bad[fate], found))
        return ends, stops

    def _by_hash(
        self, cell: int, fate: int, bad: Bools, silent: Bools, tries: int, first: Floats, drawn: Floats
    ) -> LastStops:  # fmt: skip
        """Of a hash's keys each goes on in its own order; everybody else as they are drawn."""
        segment = self.network.segments[int(self.moment.encounter.fate_segment[fate])]
        if self.network.cells.method[cell] != "source-hash" or not len(segment.keys) or (first != drawn).any():
            return last_stops(first, drawn, bad, silent, tries)
        weight = self.choice.pair_weight[self.network.cells.pairs[cell]]
        return last_stops_in_order(hash_table(self.network).orders(cell, segment, weight, tries), bad, silent)

    # Who is chosen

    def mixed(self, share: Floats) -> Floats:
        """The shares of all requests: of those that a session binds, while the front believes its target in use, and
        of the others."""
        held, network, stuck = self.moment.held, self.network, self.repeats.stuck
        if not stuck and (held is None or not len(held.sessions)):
            return share
        made = np.repeat(share, self.fates, axis=0) if len(share) == 1 else share.copy()
        for number, (fates, cells) in enumerate(self.of_sessions):
            for fate, call in fates.items():
                of_kind = sessions_of_free(network, self.moment, number, call)
                for cell in cells:
                    mine = network.cells.pairs[int(cell)]
                    bound = of_kind[network.pairs.member[mine]] * self.moment.in_use[mine]
                    free = max(1 - float(bound.sum()), 0.0)
                    made[fate, mine] = bound + free * made[fate, mine]
        self.repeats.mix(made)
        return made

    @cached_property
    def of_sessions(self) -> list[tuple[dict[int, int], Ints]]:
        """Per kind of session: the fates of its client's calls, each with one of them, and the cells that keep it;
        without those calls whose classes are followed."""
        network, by_class = self.network, {one.fate for one in self.repeats.stuck}
        if self.moment.held is None:
            return []
        made = []
        for kind in network.kept.sessions:
            calls = np.flatnonzero(network.calls.client == kind.client)
            fates = {int(self.fate_of_call[call]): int(call) for call in calls}
            made.append(({fate: call for fate, call in fates.items() if fate not in by_class}, kind.cells))
        return made

    def busy_shares(self, share: Floats, sent: Sent, queue: Queue, back: Back) -> Floats:
        """The shares that would follow from the load that these shares make."""
        network, met = self.network, self.moment.encounter.met
        silent = (met == SILENT) | (met == BARRED)
        hold = np.where(met == ANSWERS, queue.latency_s[network.pairs.machine], 0.0)
        hold = np.where(silent, network.pairs.connect_timeout_s, hold)
        onward = self.frame.leads_on
        if onward.any():
            worked, served = back.pair[WORK].mean(axis=0), back.pair[SERVED].mean(axis=0)
            hold = np.where(onward, np.divide(worked, served, out=np.zeros_like(hold), where=served > 0), hold)
        made = busy_shares(
            network, self.choice.pair_weight, hold, met == REFUSES, silent, sent.cell.sum(axis=0), share[0]
        )
        return np.where(self.frame.by_busy, made[None, :], share)

    # Forward

    def forward(self, share: Floats) -> Sent:
        """Every request's way to the pairs; what leads on from there is sent again, a level deeper."""
        network = self.network
        entries, inner = network.entries, self.frame.inner
        often = self.connected.free[entries.call] * self.repeats.entry_connects
        if self.connected.anew.any():
            often = often + self.connected.anew[entries.call] * self.repeats.entry_connects_after_one
        rps = np.where(self.frame.of_client, self.moment.call_rps[entries.call] * often, 0.0)
        sent = self.to_cells(rps)
        for _ in range(network.balancers.levels - 1 if len(self.frame.inner) else 0):
            rps[inner] = self._passed_on(share, sent)[inner] * self.told[inner]
            sent = self.to_cells(rps)
        return sent

    def to_cells(self, rps: Floats) -> Sent:
        """Rates of entries (requests/s) on their way to cells."""
        frame, standing, network = self.frame, self.standing, self.network
        row = rps[frame.entry] * standing.row_part
        living = np.where(standing.arrives, row, 0.0)[frame.routed]
        by_route = total_by(standing.flat_route, living, self.fates * self.routes).reshape(self.fates, self.routes)
        by_lane = by_route[:, network.weighted.route] * self.choice.lane_share
        return Sent(rps.copy(), row, by_route, by_lane, sum_columns(network.weighted.cell, by_lane, self.cells))

    def _passed_on(self, share: Floats, sent: Sent) -> Floats:
        """Per entry behind a target: the rate at which its call comes through that target."""
        pairs, entries, onward = self.network.pairs, self.network.entries, self.frame.onward
        rate = sent.cell[:, pairs.cell[onward]] * np.broadcast_to(share, (self.fates, share.shape[1]))[:, onward]
        if self.connected.any:
            rate = rate + self.connected.arriving(self.fates)[:, onward]
        count = len(self.network.members.group)
        by_member = sum_columns(pairs.member[onward], rate, count)
        return by_member[self.fate_of_call[entries.call], np.maximum(entries.member, 0)]

    def queues(self, share: Floats, sent: Sent) -> Queue:
        """How the machines' queues stand under what reaches them."""
        network, machines = self.network, self.network.machines
        answers = self.standing.answers
        if len(share) == 1 and self.standing.all_alike:
            arriving = sent.cell.sum(axis=0)[network.pairs.cell] * share[0] * answers[0]
        else:
            arriving = (sent.cell[:, network.pairs.cell] * share * answers).sum(axis=0)
        if self.connected.any:
            arriving = arriving + (self.connected.arriving(self.fates) * answers).sum(axis=0)
        if len(self.frame.onward):
            arriving[self.frame.onward] = 0.0
        offered = total_by(network.pairs.machine, arriving, len(machines.names))
        slowness = self.moment.truth.slowness
        return queue_under(
            machines.capacity / slowness, machines.service_s * slowness, machines.queue_s, offered,
            self.moment.backlog_s,
        )  # fmt: skip

    # Back

    def backward(
        self, share: Floats, drawn: Floats, sent: Sent, queue: Queue, stops: list[Stop], waits: int = 0
    ) -> Back:  # fmt: skip
        """What becomes of requests, from the deepest level up, of those that `waits` connects before took their
        time-out."""
        pair = self._at_machines(queue, waits)
        self._after_waits(queue, pair, waits)
        for stop in stops:
            self._after_others(pair, queue, stop, waits)
        back = self._to_rows(share, drawn, pair, sent, waits)
        for _ in range(self.network.balancers.levels - 1 if len(self.frame.inner) else 0):
            self._take_back(pair, back, self.frame.onward, waits)
            back = self._to_rows(share, drawn, pair, sent, waits)
        return back

    def _find_excess(self, row: Floats, sent: Sent, pair: dict[int, Floats]) -> None:
        """Answers beyond a balancer's bandwidth are lost: the excess share 1 - 1/u of what would be served."""
        limit = self.network.balancers.bandwidth_mbps
        if not np.isfinite(limit).any():
            return
        balancer = self.network.fronts.balancer
        megabits = self.network.calls.megabits
        served = row[:, SERVED] * sent.row * megabits[self.frame.call]
        if self.connected.any:
            self.connected.over = np.zeros(len(balancer))
            bound = self.connected.ended(self.connected.outcome(pair))
            served = served + bound.row[:, SERVED] * megabits[self.frame.call]
        demand = total_by(balancer[self.frame.front], served, len(limit))
        over = np.zeros(len(limit))
        beyond = demand > limit
        over[beyond] = 1 - limit[beyond] / demand[beyond]
        self.over = self.repeats.over = self.connected.over = over[balancer]

    def _at_machines(self, queue: Queue, waits: int) -> dict[int, Floats]:
        """Per kind what becomes of a request of each fate at each pair; kinds that do not occur are left out."""
        pairs, encounter = self.network.pairs, self.moment.encounter
        latency, excess = (values[pairs.machine] for values in (queue.latency_s, queue.excess))
        standing, late = self.standing, self._late(queue, waits)
        some_late, some_excess, some_bad = late.any(), excess.any(), encounter.bad_page.any()
        taken = np.where(standing.answers, 1 - excess, 0.0) if some_excess else standing.answers.astype(np.float64)
        served = np.where(late | encounter.bad_page, 0.0, taken) if some_late or some_bad else taken
        made = {SERVED: served, WORK: served * latency}
        if some_late:
            made[LATE] = np.where(late, taken, 0.0)
            made[TIMED_OUT] = made[LATE] if standing.silent is None else made[LATE] + standing.silent
        elif standing.silent is not None:
            made[TIMED_OUT] = standing.silent.copy()
        if some_excess:
            made[OVERLOADED] = np.where(standing.answers, excess, 0.0)
        if some_bad:
            made[BAD_STATUS] = np.where(encounter.bad_page & ~late, taken, 0.0)
        for kind, met in ((REFUSED, standing.refuses), (BLOCKED, standing.blocked)):
            if met is not None:
                made[kind] = met.copy()
        self._failing(made, latency, waits)
        return made

    def _failing(self, pair: dict[int, Floats], latency_s: Floats, waits: int) -> None:
        """What of the failures is a failed connect of the client's, as it is at layer 4, and how long the others
        take."""
        network, standing, encounter = self.network, self.standing, self.moment.encounter
        at_4 = network.fronts.layer[network.pairs.front] == 4
        quiet = [(TIMED_OUT, standing.silent), (BLOCKED, standing.blocked)]
        for cause, met in [*quiet, (REFUSED, standing.refuses)]:
            if met is not None and at_4.any():
                pair[UNMET + cause] = met * at_4
        spent = [met * ~at_4 * network.pairs.connect_timeout_s for _, met in quiet if met is not None]
        if LATE in pair:
            patience_s = np.minimum(np.maximum(encounter.patience_s(waits), 0.0), encounter.response_s)
            spent.append(pair[LATE] * np.where(np.isfinite(patience_s), patience_s, 0.0))
        if BAD_STATUS in pair:
            spent.append(pair[BAD_STATUS] * latency_s)
        if spent:
            pair[SPENT] = np.sum(spent, axis=0)

    def _after_waits(self, queue: Queue, pair: dict[int, Floats], waits: int) -> None:
        """What becomes of calls whose classes are followed, by how many silent targets they have met before."""
        network, encounter = self.network, self.moment.encounter
        for one in self.repeats.stuck:
            for cell in one.spent:
                mine = network.cells.pairs[cell]
                machine = network.pairs.machine[mine]
                values = np.zeros((self.repeats.others[cell] + 1, len(mine), KINDS))
                wait_s = np.arange(len(values))[:, None] * network.pairs.connect_timeout_s[mine]
                latency_s = queue.latency_s[machine] + wait_s
                late = self._late_after(one.fate, mine, latency_s, wait_s, queue, waits)
                for kind, value in pair.items():
                    values[:, :, kind] = value[one.fate, mine]
                takes = self.repeats.takes[one.fate, mine] & ~self.frame.leads_on[mine]
                taken = np.where(late, 1 - queue.excess[machine], 0.0)
                on_time = np.where(late | encounter.bad_page[one.fate, mine], 0.0, 1 - queue.excess[machine])
                for kind, value in (
                    (SERVED, on_time), (WORK, on_time * latency_s), (TIMED_OUT, taken), (LATE, taken),
                    (BAD_STATUS, np.where(late, 0.0, 1 - queue.excess[machine]) - on_time),
                ):  # fmt: skip
                    values[:, :, kind] = np.where(takes, value, values[:, :, kind])
                budget_s = np.maximum(encounter.budget_s[one.fate, mine] - waits * encounter.connect_s[one.fate], 0.0)
                values[:, :, SPENT] += np.where(takes, (values[:, :, FAILS].sum(axis=2)) * wait_s, 0.0)
                values[:, :, SPENT] = np.minimum(values[:, :, SPENT], budget_s * values[:, :, FAILS].sum(axis=2))
                self.after_waits[one.fate, cell] = values

    def _late_after(
        self, fate: int, mine: Ints, latency_s: Floats, wait_s: Floats, queue: Queue, waits: int
    ) -> Bools:  # fmt: skip
        """Whether answers of a cell's pairs come too late after a front has waited so long for silent ones; its own
        patience for an answer begins anew with each."""
        encounter = self.moment.encounter
        slope = queue.slope[self.network.pairs.machine[mine]]
        budget_s = encounter.budget_s[fate, mine] - waits * encounter.connect_s[fate]
        bounds_s = np.minimum(budget_s, encounter.response_s[mine] + wait_s)
        return too_late(latency_s, slope, bounds_s)

    def _after_others(self, pair: dict[int, Floats], queue: Queue, stop: Stop, waits: int) -> None:
        """What becomes of requests that have waited for silent targets before: those connect time-outs count."""
        network, encounter, found = self.network, self.moment.encounter, stop.found
        good = ~stop.bad & (found.share > 0)
        mine, share, waited = stop.pairs[good], found.share[good], found.waited[:, good]
        machine = network.pairs.machine[mine]
        wait_s = np.arange(len(waited))[:, None] * network.pairs.connect_timeout_s[mine]
        latency_s = queue.latency_s[machine] + wait_s
        late = self._late_after(stop.fate, mine, latency_s, wait_s, queue, waits)
        taken = 1 - queue.excess[machine]
        on_time = np.where(late, 0.0, waited)
        liked = np.where(encounter.bad_page[stop.fate, mine], 0.0, taken / share)
        values = {
            SERVED: on_time.sum(axis=0) * liked,
            WORK: (on_time * latency_s).sum(axis=0) * liked,
            TIMED_OUT: taken * np.where(late, waited, 0.0).sum(axis=0) / share,
            BAD_STATUS: on_time.sum(axis=0) * (taken / share - liked),
            LATE: np.where(late[0], taken, 0.0),
        }
        for kind, value in values.items():
            pair.setdefault(kind, np.zeros((self.fates, len(network.pairs.front))))[stop.fate, mine] = value

    def _to_rows(self, share: Floats, drawn: Floats, pair: dict[int, Floats], sent: Sent, waits: int) -> Back:
        network, frame = self.network, self.frame
        cell = np.zeros((KINDS, self.fates, self.cells))
        row = np.zeros((len(frame.entry), KINDS))
        fate = self.fate_of_call[frame.call]
        if self.routes:
            kinds = list(pair)
            values = (np.stack([pair[kind] for kind in kinds]) * share).reshape(len(kinds) * self.fates, -1)
            by_cell = sum_columns(network.pairs.cell, values, self.cells)
            by_route = sum_columns(
                network.weighted.route, by_cell[:, network.weighted.cell] * self.choice.lane_share, self.routes
            )
            cell[kinds] = by_cell.reshape(len(kinds), self.fates, self.cells)
            of_row = by_route.reshape(len(kinds), self.fates, self.routes)[:, fate, frame.some_route]
            row[:, kinds] = np.where(frame.routed, of_row, 0.0).T
            refused = np.where(frame.routed, self.choice.route_refused[frame.some_route], 0.0)
            row[:, NONE_HEALTHY] += refused
            row[:, UNMET + NONE_HEALTHY] += refused * frame.at_4
        self._without_pool(row)
        with_trip(row, frame.trip_s)
        if not waits:
            self._find_excess(row, sent, pair)
        capped(row, self.over[frame.front])
        entry = self._to_entries(row)
        return Back(pair, cell, row, entry, self.repeats.outcomes(entry, drawn, pair, row, self.after_waits))

    def _without_pool(self, row: Floats) -> None:
        """What becomes of requests that no pool is asked for: the balancer answers itself, or nobody takes them."""
        frame = self.frame
        row[frame.fixed, np.where(frame.fixed_cause >= 0, frame.fixed_cause, SERVED)] = 1.0
        row[frame.unheard, UNMET + REFUSED] = 1.0
        far = np.flatnonzero(frame.too_far & ~frame.routed)
        row[far] = 0.0
        row[far, TIMED_OUT] = 1.0
        lost_ways = ((self.moment.encounter.row_blocked, BLOCKED), (self.standing.dead, DEAD_FRONT))
        for lost, kind in lost_ways:
            row[lost] = 0.0
            row[lost, kind] = row[lost, UNMET + kind] = 1.0

    def _to_entries(self, row: Floats) -> Floats:
        """What becomes of an entry's requests: at its fronts, or outside; without any front they meet a dead one."""
        entries, frame = self.network.entries, self.frame
        made = np.zeros((len(entries.call), KINDS))
        np.add.at(made, frame.entry, row * self.standing.row_part[:, None])
        made[frame.outside, SERVED] = 1.0
        made[frame.nowhere, entries.fixed_cause[frame.nowhere]] = 1.0
        stranded = self.standing.stranded
        made[stranded, DEAD_FRONT] = made[stranded, UNMET + DEAD_FRONT] = 1.0
        return made

    def _take_back(self, pair: dict[int, Floats], back: Back, onward: Ints, waits: int) -> None:
        """What becomes of requests that are passed on is what becomes of them at the next balancer."""
        network, entries = self.network, self.network.entries
        members = len(network.members.group)
        inner = self.frame.inner
        flat = self.fate_of_call[entries.call[inner]] * members + entries.member[inner]
        met = np.zeros((KINDS, self.fates, members))
        for kind in range(KINDS):
            values = back.entry[inner, kind] * self.told[inner]
            met[kind] = total_by(flat, values, self.fates * members).reshape(self.fates, members)
        mean = np.divide(met[WORK], met[SERVED], out=np.zeros_like(met[WORK]), where=met[SERVED] > 0)
        member = network.pairs.member[onward]
        late = mean[:, member] > self.moment.encounter.patience_s(waits)[:, onward]
        at_4 = network.fronts.layer[network.pairs.front[onward]] == 4
        # To a layer 7 balancer a failed connect is a failure like others, after its own time-out.
        quiet = np.sum([met[UNMET + cause] for cause in QUIET], axis=0)[:, member]
        met[SPENT][:, member] += np.where(at_4, 0.0, quiet * network.pairs.connect_timeout_s[onward])
        for kind in range(KINDS):
            value = pair.setdefault(kind, np.zeros((self.fates, len(network.pairs.front))))
            value[:, onward] = np.where(at_4 | (kind < UNMET), met[kind][:, member], 0.0)
        for kind in (TIMED_OUT, LATE):
            pair[kind][:, onward] += np.where(late, pair[SERVED][:, onward], 0.0)
        for kind in (SERVED, WORK):
            pair[kind][:, onward] = np.where(late, 0.0, pair[kind][:, onward])
