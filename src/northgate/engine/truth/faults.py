"""What the parts of a plan really do, given the faults in force."""

from collections.abc import Callable, Iterable, Sequence
from typing import Any

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from northgate.engine.base import Bools, Floats, Ints
from northgate.engine.matching import page_status
from northgate.engine.network import Network
from northgate.plan.models.faults import Part


class Truth(Struct, frozen=True):
    """The state of everything, whoever believes what; arrays over the network's indices.

    `slowness` multiplies service times and divides capacities; `cut[z, y]` means that packets between the two zones
    vanish. `lost_outside` are addresses and hosts outside the plan where nobody answers, `expired` the certificates
    that are valid no longer.
    """

    machine_silent: Bools
    slowness: Floats
    service_refuses: Bools
    service_status: Ints
    front_dead: Bools
    cut: Bools
    lost_outside: frozenset[str]
    gone_rules: frozenset[tuple[str, int]]
    page_faults: tuple[Part, ...]
    expired: frozenset[str] = frozenset()

    def with_silent(self, machines: Bools) -> "Truth":
        """Truth as it is, but with these machines silent."""
        return replace(self, machine_silent=machines)


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
        lost_outside=frozenset(),
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
    return replace(truth, **EFFECTS[fault.kind](network, truth, fault))


_Changes = dict[str, Any]


def _machines_lost(network: Network, truth: Truth, fault: Part) -> _Changes:
    return {"machine_silent": truth.machine_silent | _machines_of(network, fault)}


def _place_lost(network: Network, truth: Truth, fault: Part) -> _Changes:
    lost = _zones_of(network, (fault.zone or fault.region or "",))
    return {
        "machine_silent": truth.machine_silent | (lost[network.machines.zone] & network.machines.real),
        "front_dead": truth.front_dead | (lost[network.fronts.zone] & ~network.fronts.own),
    }


def _outside_lost(network: Network, truth: Truth, fault: Part) -> _Changes:
    end = fault.address or fault.host or ""
    mine = network.machines.outside & np.array([name == end for name in network.machines.names], dtype=bool)
    return {"machine_silent": truth.machine_silent | mine, "lost_outside": truth.lost_outside | {end}}


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


EFFECTS: dict[str, Callable[[Network, Truth, Part], _Changes]] = {
    "instance": _machines_lost,
    "fault_domain": _machines_lost,
    "maintenance_wave": _machines_lost,
    "address": _outside_lost,
    "host": _outside_lost,
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
    mask[network.machines.index(fault.instance or fault.slow or fault.process or "")] = True
    return mask


def _zones_of(network: Network, names: Iterable[str]) -> Bools:
    """The zones with these names, or in the regions with these names."""
    wanted = set(names)
    in_region = np.array([network.regions[region] in wanted for region in network.zone_region], dtype=bool)
    return np.asarray(in_region | np.array([zone in wanted for zone in network.zones], dtype=bool))


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
    on_machine = network.services.machine == network.machines.index(fault.process or "")
    return np.asarray(on_machine & (network.services.port == fault.port) if fault.port else on_machine)


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
