"""What probes meet under a truth."""

import numpy as np
from msgspec import Struct

from northgate.engine.base import Bools
from northgate.engine.network import Network
from northgate.engine.truth.encounter import ANSWERS, BARRED, SILENT, as_met
from northgate.engine.truth.faults import Truth
from northgate.engine.truth.paths import Paths
from northgate.plan.models.groups import Probe

SPEAKS = {"http": ("http",), "https": ("https",), "tcp": ("tcp", "http", "https", "tls")}


class ProbeView(Struct, frozen=True):
    """What probes of each pair meet, leaving latency aside: silence, and whether an answer would be a pass."""

    silent: Bools
    passes: Bools


def probe_view(paths: Paths, truth: Truth) -> ProbeView:
    """What the probes of each pair meet; pairs without a probe pass."""
    network = paths.network
    members, pairs = network.members, network.pairs
    met = as_met(network, truth, members.probe_service[pairs.member])
    met = np.where(paths.under(truth.gone_rules).probes, BARRED, met)
    met = np.where((network.machines.outside & ~truth.machine_silent)[pairs.machine], ANSWERS, met)
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
        watched = np.array([other is probe for other in network.groups.probe], dtype=bool)[members.group]
        result[watched] = liked[probe.name][members.probe_service[watched]]
    # What stands outside answers whatever it is asked.
    return result | network.machines.outside[members.machine]


def _likes(network: Network, truth: Truth, probe: Probe) -> Bools:
    """Per service: whether a probe would like its answer."""
    fitting = network.services.speaks(SPEAKS[probe.protocol])
    if probe.protocol == "tcp":
        return fitting
    found, which = np.unique(truth.service_status[:, network.paths.index(probe.path)], return_inverse=True)
    return np.asarray(fitting & np.array([probe.expects(int(status)) for status in found], dtype=bool)[which])
