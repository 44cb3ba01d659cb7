"""What requests meet under a truth, whoever is loaded how."""

import numpy as np
from msgspec import Struct

from northgate.engine.base import Bools, Floats, Ints
from northgate.engine.network import CLIENTS_JUDGE, NO_PATH, Network
from northgate.engine.truth.faults import Truth
from northgate.engine.truth.paths import Blocked, Paths

ANSWERS, REFUSES, SILENT, BARRED = 0, 1, 2, 3


class Encounter(Struct, frozen=True):
    """What requests meet under a truth, whoever is loaded how.

    `met` is ANSWERS, REFUSES, SILENT or BARRED per pair, as its front's own packets meet it. Outcome classes that fare
    alike under this truth share a fate: `fate[o]` is that of class o, `fate_met[f, p]` what its requests meet;
    `bad_page[f, p]`: whether its page answers what its judge does not like at pair p. `budget_s[f, p]`: how long its
    requests may take there in all (s): the client's time-out less his round trip to the pair's front; `response_s[p]`:
    how long the front waits for the answer. `connect_s[f]`: how long its connects wait (s). `row_blocked`: the rows of
    `Network.arrivals` that never arrive; `row_turned`: those at which clients turn away from what they are shown.
    """

    met: Ints
    fate: Ints
    fate_met: Ints
    fate_segment: Ints
    bad_page: Bools
    budget_s: Floats
    response_s: Floats
    connect_s: Floats
    row_blocked: Bools
    row_turned: Bools

    def patience_s(self, waits: int = 0) -> Floats:
        """How long requests wait at a pair (s), after so many connects that took their time-out: (fates, pairs)."""
        return np.minimum(self.budget_s - waits * self.connect_s[:, None], self.response_s[None, :])


def encounter(paths: Paths, truth: Truth) -> Encounter:
    """What requests meet under a truth."""
    network = paths.network
    calls, service = network.calls, network.members.service[network.pairs.member]
    blocked = paths.under(truth.gone_rules)
    segment = np.zeros(len(calls.outcome_who), dtype=np.int64)
    segment[calls.outcome] = calls.segment
    look = segment if len(blocked.pairs) > 1 else np.zeros_like(segment)
    kinds, kind = _bad_pages(network, truth)
    looks = np.stack(
        [
            kind, calls.outcome_timeout_s, calls.outcome_who, look, segment * (calls.outcome_who > 0),
            calls.outcome_trip, calls.outcome_connect_s,
        ],
        axis=1,
    )  # fmt: skip
    fates, first, fate = np.unique(looks, axis=0, return_index=True, return_inverse=True)
    if not len(fates):
        return _nobody_asks(network, truth, blocked)
    bad = np.zeros((len(fates), len(service)), dtype=bool)
    if len(network.services.port):
        bad = kinds[:, fates[:, 0].astype(np.int64)].T[:, service] & ~network.members.leads_on[network.pairs.member]
    met = as_met(network, truth, service)
    fate_met = np.where(blocked.pairs[fates[:, 3].astype(np.int64)], BARRED, met[None, :])
    return Encounter(
        met=np.where(blocked.pairs.all(axis=0), BARRED, met),
        fate=fate.ravel(),
        fate_met=np.ascontiguousarray(fate_met),
        fate_segment=segment[first],
        bad_page=np.ascontiguousarray(bad),
        budget_s=np.ascontiguousarray(budgets_s(network, fates[:, 1], fates[:, 5].astype(np.int64))),
        response_s=network.pairs.response_timeout_s,
        connect_s=np.ascontiguousarray(fates[:, 6]),
        row_blocked=blocked.rows,
        row_turned=_turned_away(network, truth),
    )


def _turned_away(network: Network, truth: Truth) -> Bools:
    """Per row of the arrivals: whether the client turns away from an expired certificate."""
    arrivals, entries = network.arrivals, network.entries
    made = np.zeros(len(arrivals.entry), dtype=bool)
    for index, balancer in enumerate(network.plan.balancers if truth.expired else ()):
        for number, listener in enumerate(balancer.listeners):
            if listener.certificate in truth.expired:
                mine = (entries.balancer == index) & (entries.listener == number)
                made |= mine[arrivals.entry]
    by_tls = [request.scheme in ("https", "tls") for request in network.calls.requests]
    return made & np.array(by_tls, dtype=bool)[entries.call[arrivals.entry]] if made.any() else made


def _nobody_asks(network: Network, truth: Truth, blocked: Blocked) -> Encounter:
    """Of a plan without clients and probes of names: one fate, which nobody has."""
    pairs = len(network.pairs.front)
    met = as_met(network, truth, network.members.service[network.pairs.member])
    return Encounter(
        met=met,
        fate=np.zeros(0, dtype=np.int64),
        fate_met=met[None, :],
        fate_segment=np.zeros(1, dtype=np.int64),
        bad_page=np.zeros((1, pairs), dtype=bool),
        budget_s=np.full((1, pairs), np.inf),
        response_s=network.pairs.response_timeout_s,
        connect_s=np.zeros(1),
        row_blocked=blocked.rows,
        row_turned=_turned_away(network, truth),
    )


def budgets_s(network: Network, timeout_s: Floats, trip: Ints) -> Floats:
    """How long requests may take at each pair in all (s), the client's round trip to its front left out; of shape
    (sorts, pairs) for sorts of requests with such time-outs (s) and rows of `Calls.trips_s`.

    At fronts behind other balancers it is what is left there of the client's, and as long as the balancer before waits
    for an answer.
    """
    trips_s = network.calls.trips_s[trip][:, network.pairs.region]
    budget_s = timeout_s[:, None] - np.where(network.pairs.first, trips_s, 0.0)
    for into, before in network.pairs.behind:
        left = np.minimum(budget_s[:, before], network.pairs.response_timeout_s[before])
        budget_s[:, into] = left.max(axis=1, keepdims=True)
    return budget_s


def _bad_pages(network: Network, truth: Truth) -> tuple[Bools, Ints]:
    """The different tables of disliked pages, as columns by service, and which is each outcome class's own."""
    calls, status = network.calls, truth.service_status
    wants = sorted(set(zip(calls.outcome_path.tolist(), calls.outcome_judge.tolist(), strict=True)))
    columns = np.zeros((len(status), max(len(wants), 1)), dtype=bool)
    for number, (path, judge) in enumerate(wants):
        if path != NO_PATH:
            columns[:, number] = _not_liked(network, status[:, path], judge)
    kinds, kind = _alike(columns)
    mine = [wants.index(one) for one in zip(calls.outcome_path.tolist(), calls.outcome_judge.tolist(), strict=True)]
    return kinds, kind[np.array(mine, dtype=np.int64)]


def _not_liked(network: Network, status: Ints, judge: int) -> Bools:
    if judge == CLIENTS_JUDGE:
        return np.asarray(status >= 400)
    probe = network.plan.probes[judge]
    if probe.protocol == "tcp":
        return np.zeros(len(status), dtype=bool)
    found, which = np.unique(status, return_inverse=True)
    return ~np.array([probe.expects(int(one)) for one in found], dtype=bool)[which.ravel()]


def _alike(pages: Bools) -> tuple[Bools, Ints]:
    """The different columns of a table, and which of them each column is; a table of one answer is quickly told."""
    if not pages.any():
        return pages[:, :1], np.zeros(pages.shape[1], dtype=np.int64)
    kinds, kind = np.unique(pages, axis=1, return_inverse=True)
    return kinds, kind.ravel()


def as_met(network: Network, truth: Truth, service: Ints) -> Ints:
    """What each pair's front meets at these services (-1: nothing serves there, so the machine refuses)."""
    pairs = network.pairs
    silent = truth.machine_silent[pairs.machine]
    silent = silent | truth.cut[network.fronts.zone[pairs.front], network.machines.zone[pairs.machine]]
    refuses = (service < 0) | np.append(truth.service_refuses, False)[service]
    refuses &= ~network.members.leads_on[pairs.member]
    silent &= ~network.members.leads_on[pairs.member]
    return np.where(silent, SILENT, np.where(refuses, REFUSES, ANSWERS))
