"""What the parts of a plan really do, given the faults in force."""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from northgate.engine.network import CLIENTS_JUDGE, NO_PATH, Network
from northgate.engine.routing import page_status
from northgate.engine.types import Bools, Floats, Ints
from northgate.engine.ways import ways_of
from northgate.plan.drills import Part
from northgate.plan.groups import Probe

ANSWERS, REFUSES, SILENT, BLOCKED = 0, 1, 2, 3
SPEAKS = {"http": ("http",), "https": ("https",), "tcp": ("tcp", "http", "https", "tls")}


@dataclass(frozen=True)
class Truth:
    """The state of everything, whoever believes what; arrays over the network's indices.

    `slowness` multiplies service times and divides capacities; `cut[z, y]` means that packets between the two zones
    vanish.
    """

    machine_silent: Bools
    slowness: Floats
    service_refuses: Bools
    service_status: Ints
    front_dead: Bools
    cut: Bools
    gone_rules: frozenset[tuple[str, int]]
    page_faults: tuple[Part, ...]


@dataclass(frozen=True)
class Encounter:
    """What requests meet under a truth, whoever is loaded how.

    `met` is ANSWERS, REFUSES, SILENT or BLOCKED per pair, as its front's own packets meet it. Outcome classes that fare
    alike under this truth share a fate: `fate[o]` is that of class o, `fate_met[f, p]` what its requests meet;
    `bad_page[f, p]`: whether its page answers what its judge does not like at pair p. `budget_s[f, p]`: how long its
    requests may take there in all (s): the client's time-out less his round trip to the pair's front; `response_s[p]`:
    how long the front waits for the answer. `connect_s[f]`: how long its connects wait (s). `row_blocked`: the rows of
    `entry_fronts` that never arrive.
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

    def patience_s(self, waits: int = 0) -> Floats:
        """How long requests wait at a pair (s), after so many connects that took their time-out: (fates, pairs)."""
        return np.minimum(self.budget_s - waits * self.connect_s[:, None], self.response_s[None, :])


def healthy(network: Network) -> Truth:
    """The truth without any fault."""
    machines, zones = len(network.machines.names), len(network.zones)
    return Truth(
        machine_silent=np.zeros(machines, dtype=bool),
        slowness=np.ones(machines),
        service_refuses=np.zeros(len(network.services.port), dtype=bool),
        service_status=network.services.status,
        front_dead=np.zeros(len(network.fronts.zone), dtype=bool),
        cut=np.zeros((zones, zones), dtype=bool),
        gone_rules=frozenset(),
        page_faults=(),
    )


def truth_under(network: Network, faults: Sequence[Part]) -> Truth:
    """The union of the faults in force; slow factors multiply."""
    truth = healthy(network)
    pages = [fault for fault in faults if fault.kind == "page"]
    for fault in faults:
        truth = _with_fault(network, truth, fault)
    return replace(truth, service_status=_status_under(network, pages), page_faults=tuple(pages)) if pages else truth


def _with_fault(network: Network, truth: Truth, fault: Part) -> Truth:
    return replace(truth, **_EFFECTS[fault.kind](network, truth, fault))


_Changes = dict[str, Any]


def _machines_lost(network: Network, truth: Truth, fault: Part) -> _Changes:
    return {"machine_silent": truth.machine_silent | _machines_of(network, fault)}


def _place_lost(network: Network, truth: Truth, fault: Part) -> _Changes:
    lost = _zones_of(network, (fault.zone or fault.region or "",))
    return {
        "machine_silent": truth.machine_silent | (lost[network.machines.zone] & network.machines.real),
        "front_dead": truth.front_dead | lost[network.fronts.zone],
    }


def _front_lost(network: Network, truth: Truth, fault: Part) -> _Changes:
    return {"front_dead": truth.front_dead | _front(network, fault)}


def _process_lost(network: Network, truth: Truth, fault: Part) -> _Changes:
    return {"service_refuses": truth.service_refuses | _process(network, fault)}


def _slowed(network: Network, truth: Truth, fault: Part) -> _Changes:
    return {"slowness": truth.slowness * np.where(_machines_of(network, fault), fault.factor or 1.0, 1.0)}


def _link_cut(network: Network, truth: Truth, fault: Part) -> _Changes:
    one, other = (_zones_of(network, (end,)) for end in fault.link or ())
    return {"cut": truth.cut | np.outer(one, other) | np.outer(other, one)}


def _rule_gone(_network: Network, truth: Truth, fault: Part) -> _Changes:
    return {"gone_rules": truth.gone_rules | {(fault.firewall or "", fault.rule or 0)}}


def _nothing(_network: Network, _truth: Truth, _fault: Part) -> _Changes:
    """Pages are overridden together, in `_status_under`."""
    return {}


_EFFECTS: dict[str, Callable[[Network, Truth, Part], _Changes]] = {
    "instance": _machines_lost,
    "fault_domain": _machines_lost,
    "maintenance_wave": _machines_lost,
    "zone": _place_lost,
    "region": _place_lost,
    "front": _front_lost,
    "process": _process_lost,
    "slow": _slowed,
    "link": _link_cut,
    "page": _nothing,
    "firewall": _rule_gone,
}


def _machines_of(network: Network, fault: Part) -> Bools:
    names = network.machines.names
    mask = np.zeros(len(names), dtype=bool)
    if fault.fault_domain or fault.maintenance_wave is not None:
        for index, machine in enumerate(network.plan.machines):
            mask[index] = (
                machine.fault_domain == fault.fault_domain
                if fault.fault_domain
                else machine.maintenance_wave == fault.maintenance_wave
            )
        return mask
    mask[network.machine_index(fault.instance or fault.slow or fault.process or "")] = True
    return mask


def _zones_of(network: Network, names: Iterable[str]) -> Bools:
    """The zones with these names, or in the regions with these names."""
    wanted = set(names)
    in_region = np.array([network.regions[region] in wanted for region in network.zone_region], dtype=bool)
    return in_region | np.array([zone in wanted for zone in network.zones], dtype=bool)


def _front(network: Network, fault: Part) -> Bools:
    assert fault.front is not None
    return np.array(
        [
            network.balancer_of(front) == fault.front.balancer and network.front_name(front) == fault.front.zone
            for front in range(len(network.fronts.zone))
        ],
        dtype=bool,
    )


def _process(network: Network, fault: Part) -> Bools:
    on_machine = network.services.machine == network.machine_index(fault.process or "")
    return on_machine & (network.services.port == fault.port) if fault.port else on_machine


def _status_under(network: Network, faults: Sequence[Part]) -> Ints:
    """The status table with pages overridden: a fault's page answers its status, the others as before."""
    status = network.services.status.copy()
    for service in np.flatnonzero(network.machines.real[network.services.machine]):
        pages = network.services.pages[service]
        name = network.machines.names[int(network.services.machine[service])]
        changed = {fault.page or "": fault.status or 0 for fault in faults if fault.instance in (None, name)}
        serving = {page: code for page, code in changed.items() if _serves(pages, page)}
        if serving:
            status[service] = [page_status({**pages, **serving}, path) for path in network.paths]
    return status


def _serves(pages: dict[str, int], page: str) -> bool:
    return any(page.startswith(known) for known in pages)


def encounter(network: Network, truth: Truth) -> Encounter:
    """What requests meet under a truth."""
    calls, service = network.calls, network.members.service[network.pairs.member]
    blocked = ways_of(network).under(truth.gone_rules)
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
    bad = np.zeros((len(fates), len(service)), dtype=bool)
    if len(network.services.port):
        bad = kinds[:, fates[:, 0].astype(np.int64)].T[:, service] & ~network.members.leads_on[network.pairs.member]
    trips_s = calls.trips_s[fates[:, 5].astype(np.int64)][:, network.pair_region]
    trip_s = np.where(network.pair_first, trips_s, 0.0)
    met = _as_met(network, truth, service)
    fate_met = np.where(blocked.pairs[fates[:, 3].astype(np.int64)], BLOCKED, met[None, :])
    return Encounter(
        met=np.where(blocked.pairs.all(axis=0), BLOCKED, met),
        fate=fate.ravel(),
        fate_met=fate_met,
        fate_segment=segment[first],
        bad_page=bad,
        budget_s=_behind_others(network, fates[:, 1][:, None] - trip_s),
        response_s=network.pair_response_timeout_s,
        connect_s=fates[:, 6],
        row_blocked=blocked.rows,
    )


def _behind_others(network: Network, budget_s: Floats) -> Floats:
    """Budgets by fate and pair, those at fronts behind other balancers too: what is left there of the client's, and as
    long as the balancer before waits for an answer."""
    for into, before in network.pairs_behind:
        left = np.minimum(budget_s[:, before], network.pair_response_timeout_s[before])
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


def _as_met(network: Network, truth: Truth, service: Ints) -> Ints:
    """What each pair's front meets at these services (-1: nothing serves there, so the machine refuses)."""
    pairs = network.pairs
    silent = truth.machine_silent[pairs.machine]
    silent = silent | truth.cut[network.fronts.zone[pairs.front], network.machines.zone[pairs.machine]]
    refuses = (service < 0) | np.append(truth.service_refuses, False)[service]
    refuses &= ~network.members.leads_on[pairs.member]
    silent &= ~network.members.leads_on[pairs.member]
    return np.where(silent, SILENT, np.where(refuses, REFUSES, ANSWERS))


@dataclass(frozen=True)
class ProbeView:
    """What probes of each pair meet, leaving latency aside: silence, and whether an answer would be a pass."""

    silent: Bools
    passes: Bools


def probe_view(network: Network, truth: Truth) -> ProbeView:
    """What the probes of each pair meet; pairs without a probe pass."""
    members, pairs = network.members, network.pairs
    met = _as_met(network, truth, members.probe_service[pairs.member])
    met = np.where(ways_of(network).under(truth.gone_rules).probes, BLOCKED, met)
    met = np.where(network.outside[pairs.machine], ANSWERS, met)
    expected = _expected(network, truth)[pairs.member]
    return ProbeView(silent=met >= SILENT, passes=(met == ANSWERS) & expected)


def _expected(network: Network, truth: Truth) -> Bools:
    """Per member: whether its probe would like what the service it asks answers."""
    members = network.members
    result = np.ones(len(members.group), dtype=bool)
    if not len(network.services.port):
        return np.zeros(len(members.group), dtype=bool)
    liked = {probe.name: _likes(network, truth, probe) for probe in network.plan.probes}
    for probe in network.plan.probes:
        watched = np.array([other is probe for other in network.group_probes], dtype=bool)[members.group]
        result[watched] = liked[probe.name][members.probe_service[watched]]
    # What stands outside answers whatever it is asked.
    return result | network.outside[members.machine]


def _likes(network: Network, truth: Truth, probe: Probe) -> Bools:
    """Per service: whether a probe would like its answer."""
    fitting = network.service_speaks(SPEAKS[probe.protocol])
    if probe.protocol == "tcp":
        return fitting
    found, which = np.unique(truth.service_status[:, network.paths.index(probe.path)], return_inverse=True)
    return fitting & np.array([probe.expects(int(status)) for status in found], dtype=bool)[which]
