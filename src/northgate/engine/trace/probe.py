"""One probe hop by hop: why a front believes a target in use, or out."""

import numpy as np

from northgate.engine.base import CannotRun
from northgate.engine.matching import page_status, passes
from northgate.engine.network import Network
from northgate.engine.solver import Flow
from northgate.engine.trace.answer import Hop, Outcome, TraceAnswer, remedy_answer
from northgate.engine.trace.history import History
from northgate.engine.truth import SPEAKS, Paths
from northgate.plan import Problem
from northgate.plan.models.groups import Probe
from northgate.plan.problems import did_you_mean, pointer


def trace_probe(
    flow: Flow, group: str, target: str, front: str | None = None, history: History | None = None
) -> TraceAnswer:
    """Follows a probe from a front (`balancer/zone`; by default the first that probes it) to a target of a group.

    Raises CannotRun when there is no such target, or no front that probes it.
    """
    pair = _pair(flow.network, group, target, front)
    return _ProbeTrace(flow, pair, history or History(flow)).answer(group)


def _pair(network: Network, group: str, target: str, front: str | None) -> int:
    groups = [one.name for one in network.plan.target_groups]
    if group not in groups:
        raise CannotRun([Problem("/target_groups", f"there is no target group {group!r}{did_you_mean(group, groups)}")])
    at = pointer(("target_groups", groups.index(group)))
    probed = network.probed.pair
    mine = probed[network.pairs.group[probed] == groups.index(group)]
    names = [network.machines.names[int(machine)] for machine in network.pairs.machine[mine]]
    if target not in names:
        raise CannotRun([Problem(f"{at}/targets", f"nobody probes {target!r} in {group}{did_you_mean(target, names)}")])
    place = {pair: int(network.pairs.front[pair]) for pair, name in zip(mine, names, strict=True) if name == target}
    fronts = {f"{network.balancer_of(one)}/{network.front_name(one)}": int(pair) for pair, one in place.items()}
    if front is not None and front not in fronts:
        raise CannotRun([Problem("/balancers", f"no front {front!r} probes {target}{did_you_mean(front, fronts)}")])
    return fronts[front] if front else next(iter(fronts.values()))


class _ProbeTrace:
    """A probe on its way."""

    def __init__(self, flow: Flow, pair: int, history: History) -> None:
        self.flow, self.network, self.pair, self.history = flow, flow.network, pair, history
        self.member = int(self.network.pairs.member[pair])
        self.machine = int(self.network.pairs.machine[pair])
        self.front = int(self.network.pairs.front[pair])
        found = self.network.groups.probe[int(self.network.members.group[self.member])]
        assert found is not None
        self.probe: Probe = found
        self.paths = Paths.of(self.network)
        self.hops: list[Hop] = []

    def answer(self, group: str) -> TraceAnswer:
        """The probe's hops, and what its result means."""
        ways = self.paths
        front, name = ways.front(self.front).label, self.network.machines.names[self.machine]
        in_use = bool(self.flow.state.in_use[self.pair])
        status, error, because = self._outcome(name)
        passed = error is None
        belief = "in use" if in_use else "out"
        end = f"{name} is believed {belief} by {front}: the probe {'passes' if passed else 'fails'}, {because}"
        if passed != in_use:
            note = self.history.when_noticed(self.pair, wrong=True) if in_use else self.history.why_out(self.pair)
            end += f" ({note or 'that will change'})"
        latency = sum(hop.latency_ms for hop in self.hops)
        place = self.network.plan.probes.index(self.probe)
        request = {
            "probe": self.probe.name, "group": group, "target": name, "front": front, "protocol": self.probe.protocol,
            "port": int(self.network.members.probe_port[self.member]), "path": self.probe.path,
        }  # fmt: skip
        first = Hop(
            kind="probe", about=self.probe.name, ok=True, detail=f"from {front}", because=self._rhythm(),
            link=f"probe:{self.probe.name}", where=pointer(("probes", place)),
        )  # fmt: skip
        zone = self.network.zones[int(self.network.machines.zone[self.machine])]
        outcome = Outcome(
            status=status, error=error, latency_ms=latency, target=name, zone=zone, cause=None if passed else error,
            reason=end,
        )  # fmt: skip
        return TraceAnswer(
            request=request, outcome=outcome, hops=[first, *self.hops], explained=[], answers=[], counts={},
            expected=[], sequence=[],
        )  # fmt: skip

    def _rhythm(self) -> str:
        probe = self.probe
        asks = f"{probe.protocol} {probe.path}" if probe.protocol != "tcp" else "connects"
        return (
            f"{asks} every {probe.interval_s:g} s, gives up after {probe.timeout_s:g} s; out after "
            f"{probe.unhealthy_after} fails, in use after {probe.healthy_after} passes"
        )

    def _outcome(self, name: str) -> tuple[int | None, str | None, str]:
        """Status, error and reason of what the probe finds; adds its hops."""
        state = self.flow.state
        if state.truth.front_dead[self.front]:
            return None, "dead_front", "as its front is dead nobody probes it"
        port = int(self.network.members.probe_port[self.member])
        found = self.paths.to_probe(self.pair, state.truth.gone_rules)
        for check in found:
            if check.kind == "firewall" or not check.ok or self.network.plan.networks:
                self.hops.append(
                    Hop(
                        kind=check.kind, about=check.about, ok=check.ok, because=check.because, detail=f"tcp {port}",
                        latency_ms=0.0 if check.ok else self.probe.timeout_s * 1000, where=check.where or None,
                        link=f"firewall:{check.about}" if check.kind == "firewall" else None,
                        remedy=remedy_answer(check.remedy),
                    )
                )  # fmt: skip
        if not passes(found):
            return None, "blocked", next(check.because for check in found if not check.ok)
        return self._at_service(name, port)

    def _at_service(self, name: str, port: int) -> tuple[int | None, str | None, str]:
        network, truth, queue = self.network, self.flow.state.truth, self.flow.queue
        service = int(network.members.probe_service[self.member])
        cut = truth.cut[network.fronts.zone[self.front], network.machines.zone[self.machine]]
        limit_ms = self.probe.timeout_s * 1000
        if truth.machine_silent[self.machine] or cut:
            because = self.history.why_down(self.pair)
            self._hop(port, "silent", f"{because} · gave up after {self.probe.timeout_s:g} s", limit_ms, ok=False)
            return None, "timed_out", f"{name} is silent"
        if service < 0 or truth.service_refuses[service]:
            because = f"nothing on {name} serves port {port}" if service < 0 else self.history.why_down(self.pair)
            self._hop(port, "refuses", because, 0.0, ok=False)
            return None, "refused", f"{name} refuses on port {port}"
        latency_ms = float(queue.latency_s[self.machine]) * 1000
        if latency_ms > limit_ms:
            self._hop(port, "too late", f"it would answer after {latency_ms:.4g} ms", limit_ms, ok=False)
            return None, "timed_out", f"{name} answers after {latency_ms:.4g} ms, later than {limit_ms:g} ms"
        if network.services.protocol[service] not in SPEAKS[self.probe.protocol]:
            spoken = network.services.protocol[service]
            self._hop(port, spoken, f"it speaks {spoken}, not {self.probe.protocol}", latency_ms, ok=False)
            return None, "refused", f"port {port} speaks {spoken}, not {self.probe.protocol}"
        if self.probe.protocol == "tcp":
            self._hop(port, "accepts", "the connection is taken", latency_ms, ok=True)
            return None, None, "its connection is taken"
        status = self._status(service)
        good = self.probe.expects(status)
        wanted = ", ".join(self.probe.expect)
        self._hop(
            port, f"status {status}", f"{self.probe.path} answers {status}; {wanted} is expected", latency_ms, ok=good
        )
        return status, None if good else "bad_status", f"{self.probe.path} answers {status}, {wanted} is expected"

    def _hop(self, port: int, detail: str, because: str, latency_ms: float, *, ok: bool) -> None:
        name = self.network.machines.names[self.machine]
        self.hops.append(
            Hop(
                kind="service", about=f"{name} · {port}", ok=ok, because=because, detail=detail, latency_ms=latency_ms,
                link=f"instance:{name}",
            )
        )  # fmt: skip

    def _status(self, service: int) -> int:
        columns = {path: column for column, path in enumerate(self.network.paths)}
        table = np.asarray(self.flow.state.truth.service_status)
        if self.probe.path in columns:
            return int(table[service, columns[self.probe.path]])
        return page_status(self.network.services.pages[service], self.probe.path)
