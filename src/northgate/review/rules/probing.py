"""Probes: whether they ask what is served, how soon they notice, and what they cost."""

from collections.abc import Iterator

import numpy as np

from northgate.engine.formulas import down_bounds
from northgate.engine.matching import page_status
from northgate.engine.truth import SPEAKS
from northgate.plan.models.groups import Probe, TargetGroup
from northgate.plan.models.machines import Instance, Service
from northgate.review.context import Context, per_cent, place
from northgate.review.registry import Found, finding

# A pause of a process that one need not notice (s); what is noticed later than SLOW_S is noticed late; probes of more
# than this share of what a target can do are a load.
PAUSE_S, SLOW_S, NOTABLE = 2.0, 90.0, 0.05
# An answer may take so many times as long as when nobody else asks, before a probe takes it for dead.
MARGIN = 3.0


def _watched(context: Context) -> Iterator[tuple[int, TargetGroup, int, Probe]]:
    """Every used group that has a probe: its place, itself, the probe's place, and the probe."""
    probes = {probe.name: (index, probe) for index, probe in enumerate(context.plan.probes)}
    for index, group in context.used_groups:
        if group.probe in probes:
            yield index, group, *probes[group.probe]


def _kinds(context: Context, group: TargetGroup) -> Iterator[tuple[Instance, int]]:
    """One instance of every kind among a group's targets, that serves alike, and the port that requests ask."""
    ports = {target.instance or target.fleet or target.tagged: target.port for target in group.targets}
    fleets = {name: fleet.name for fleet in context.plan.fleets for name in fleet.instance_names()}
    seen = set()
    for machine in context.targets(group):
        marks = [machine.name, fleets.get(machine.name), *machine.tags]
        port = next((ports[mark] for mark in marks if ports.get(mark)), None) or group.port
        key = (tuple(service.model_dump_json() for service in machine.serves), port)
        if key not in seen:
            seen.add(key)
            yield machine, port


def _serving(machine: Instance, port: int, *, udp: bool = False) -> Service | None:
    return next((one for one in machine.serves if one.port == port and (one.protocol == "udp") == udp), None)


@finding("empty-group", "stops")
def empty_group(context: Context) -> Iterator[Found]:
    """A group to which a listener sends has no targets: nobody registered them. Whatever is sent there fails."""
    for index, group in context.used_groups:
        machines = context.targets(group)
        others = any(target.address or target.host or target.balancer or target.tagged for target in group.targets)
        growing = any(fleet.scale and fleet.name in {t.fleet for t in group.targets} for fleet in context.plan.fleets)
        if not machines and not others and not growing:
            where = place("target_groups", index, "targets")
            fitting = _fitting(context, group)
            yield Found(
                where, group.name, f"{group.name} is in use and has no targets: whatever is sent there fails",
                f"register {', '.join(next(iter(one.values())) for one in fitting)}" if fitting else "register targets",
                tuple({"op": "add", "path": f"{where}/-", "value": one} for one in fitting),
            )  # fmt: skip


def _fitting(context: Context, group: TargetGroup) -> list[dict[str, str]]:
    """Fleets and instances that serve a group's port and are in no group."""
    taken = {target.fleet or target.instance for one in context.plan.target_groups for target in one.targets}
    fleets = [
        {"fleet": fleet.name}
        for fleet in context.plan.fleets
        if fleet.name not in taken and any(service.port == group.port for service in fleet.instance.serves)
    ]
    instances = [
        {"instance": one.name}
        for one in context.plan.instances
        if one.name not in taken and any(service.port == group.port for service in one.serves)
    ]
    return [*fleets, *instances]


@finding("port-not-served", "stops")
def port_not_served(context: Context) -> Iterator[Found]:
    """Nothing on a target serves the port that requests ask, or not by their protocol: they are refused."""
    for index, group in context.used_groups:
        kinds = list(_kinds(context, group))
        every = {one.port for machine, _ in kinds for one in machine.serves}
        for machine, port in kinds:
            service = _serving(machine, port, udp=group.protocol == "udp")
            where = place("target_groups", index, "port")
            served = sorted({one.port for one in machine.serves})
            patch = ({"op": "replace", "path": where, "value": served[0]},) if every == set(served[:1]) else ()
            if service is None:
                yield Found(
                    where, group.name,
                    f"requests ask {machine.name} on port {port}, and "
                    + (f"it serves {', '.join(map(str, served))}" if served else "it serves nothing"),
                    f"ask port {served[0]}" if patch else "let it serve that port, or ask another", patch,
                )  # fmt: skip
            elif group.protocol in ("http", "https") and service.protocol != group.protocol:
                yield Found(
                    place("target_groups", index, "protocol"), group.name,
                    f"requests speak {group.protocol} to port {port} of {machine.name}, which speaks "
                    f"{service.protocol}",
                    f"speak {service.protocol}",
                    ({"op": "add", "path": place("target_groups", index, "protocol"), "value": service.protocol},)
                    if service.protocol in ("http", "https") else (),
                )  # fmt: skip


@finding("probe-port", "stops")
def probe_port(context: Context) -> Iterator[Found]:
    """A probe asks a port that a target does not serve: the target is never in use."""
    for _, group, number, probe in _watched(context):
        for machine, port in _kinds(context, group):
            asked = port if probe.port == "same" else probe.port
            if _serving(machine, asked) is None and (probe.port != "same" or _serving(machine, asked, udp=True)):
                served = [str(service.port) for service in machine.serves if service.protocol != "udp"]
                same = probe.port != "same" and _serving(machine, port) is not None
                where = place("probes", number, "port")
                yield Found(
                    where, probe.name,
                    f"probe {probe.name} asks port {asked} of {machine.name}, which serves "
                    f"{', '.join(served) or 'nothing by tcp'}: it is never in use in {group.name}",
                    f"ask the port of requests, {port}" if same else "ask a port that it serves",
                    ({"op": "add", "path": where, "value": "same"},) if same else (),
                )  # fmt: skip


@finding("probe-protocol", "stops")
def probe_protocol(context: Context) -> Iterator[Found]:
    """A probe speaks another protocol than the port that it asks: the target is never in use."""
    for _, group, number, probe in _watched(context):
        for machine, port in _kinds(context, group):
            service = _serving(machine, port if probe.port == "same" else probe.port)
            if service is not None and service.protocol not in SPEAKS[probe.protocol]:
                where = place("probes", number, "protocol")
                spoken = service.protocol if service.protocol in ("http", "https") else "tcp"
                yield Found(
                    where, probe.name,
                    f"probe {probe.name} speaks {probe.protocol} to port {service.port} of {machine.name}, which "
                    "speaks "
                    f"{service.protocol}: it is never in use in {group.name}",
                    f"speak {spoken}", ({"op": "add", "path": where, "value": spoken},),
                )  # fmt: skip


@finding("probe-path", "stops")
def probe_path(context: Context) -> Iterator[Found]:
    """A probe asks a page that a target answers with another status than is expected: the target is never in use."""
    for _, group, number, probe in _watched(context):
        for machine, port in _kinds(context, group):
            serving = _serving(machine, port if probe.port == "same" else probe.port)
            if probe.protocol == "tcp" or serving is None or serving.protocol not in SPEAKS[probe.protocol]:
                continue
            status = page_status(serving.pages, probe.path)
            if not probe.expects(status):
                good = [path for path, answers in serving.pages.items() if probe.expects(answers)]
                where = place("probes", number, "path")
                yield Found(
                    where, probe.name,
                    f"probe {probe.name} asks {probe.path} of {machine.name}, which answers {status}, and expects "
                    f"{', '.join(probe.expect)}: it is never in use in {group.name}",
                    f"ask {good[0]}" if good else f"let it answer {probe.path}, or expect {status}",
                    ({"op": "add", "path": where, "value": good[0]},) if good else (),
                )  # fmt: skip


@finding("no-probe", "risks")
def no_probe(context: Context) -> Iterator[Found]:
    """Nobody watches a group in use: a target that is dead goes on getting its share of requests."""
    probes = [probe.name for probe in context.plan.probes if probe.port == "same"]
    for index, group in context.used_groups:
        if group.probe is None and group.targets:
            where = place("target_groups", index, "probe")
            yield Found(
                where, group.name, f"nobody watches {group.name}: a dead target goes on getting requests",
                f"watch it by probe {probes[0]}" if len(probes) == 1 else "watch it by a probe",
                ({"op": "add", "path": where, "value": probes[0]},) if len(probes) == 1 else (),
            )  # fmt: skip


@finding("probe-elsewhere", "risks")
def probe_elsewhere(context: Context) -> Iterator[Found]:
    """A probe asks another port than requests do: it says yes while the service is broken, or no while it works."""
    for _, group, number, probe in _watched(context):
        if probe.port not in ("same", group.port):
            where = place("probes", number, "port")
            yield Found(
                where, probe.name,
                f"probe {probe.name} asks port {probe.port}, and requests of {group.name} go to port {group.port}: "
                "the one "
                "says nothing about the other",
                "ask the port of requests", ({"op": "add", "path": where, "value": "same"},),
            )  # fmt: skip


@finding("probe-twitchy", "risks")
def probe_twitchy(context: Context) -> Iterator[Found]:
    """A probe is so impatient that a pause of two seconds puts a target out, and one that strikes all empties the
    group."""
    for index, probe in enumerate(context.plan.probes):
        watched = [group.name for _, group, number, _ in _watched(context) if number == index]
        quickest_s = (probe.unhealthy_after - 1) * probe.interval_s + probe.timeout_s
        if watched and quickest_s < PAUSE_S:
            where = place("probes", index, "unhealthy_after")
            wanted = int(np.ceil((PAUSE_S - probe.timeout_s) / probe.interval_s)) + 1
            yield Found(
                where, probe.name,
                f"probe {probe.name} has a target out after {quickest_s:.3g} s of silence: one pause of {PAUSE_S:g} s "
                f"empties {', '.join(watched)}",
                f"out after {wanted} fails", ({"op": "replace", "path": where, "value": wanted},),
            )  # fmt: skip


@finding("probe-hasty", "risks", "flow")
def probe_hasty(context: Context) -> Iterator[Found]:
    """A probe waits little longer than a target takes under today's load: a little more of it, and targets fall out
    one after the other."""
    assert context.flow is not None
    network, latency_s = context.flow.network, context.flow.queue.latency_s
    for index, group, number, probe in _watched(context):
        mine = network.members.machine[network.members.group == index]
        mine = mine[network.machines.real[mine]]
        slowest_s = float(latency_s[mine].max(initial=0.0))
        if probe.timeout_s < MARGIN * slowest_s:
            where = place("probes", number, "timeout_s")
            yield Found(
                where, probe.name,
                f"probe {probe.name} gives up after {probe.timeout_s:g} s, and targets of {group.name} take "
                f"{slowest_s * 1000:.3g} ms now",
                f"give up after {np.ceil(10 * slowest_s):g} s or later",
            )  # fmt: skip


@finding("probe-slow", "risks")
def probe_slow(context: Context) -> Iterator[Found]:
    """A probe needs a minute and a half or more to notice a dead target, which gets its share of requests until "
    "then."""
    for index, probe in enumerate(context.plan.probes):
        watched = [group.name for _, group, number, _ in _watched(context) if number == index]
        latest_s = down_bounds(probe, at_once=False, answer_s=0.0).latest_s
        if watched and latest_s >= SLOW_S:
            yield Found(
                place("probes", index, "interval_s"), probe.name,
                f"probe {probe.name} notices a dead target of {', '.join(watched)} after up to {latest_s:g} s",
                "ask more often, or be content with fewer fails",
            )  # fmt: skip


@finding("probe-load", "advice", "flow")
def probe_load(context: Context) -> Iterator[Found]:
    """The fronts' probes together are a notable part of what a target can do."""
    assert context.network is not None
    network = context.network
    for index, group, number, probe in _watched(context):
        fronts = len(np.unique(network.cells.front[network.cells.group == index]))
        per_s = fronts / probe.interval_s
        for machine, _ in _kinds(context, group):
            if machine.capacity_rps and per_s > NOTABLE * machine.capacity_rps:
                yield Found(
                    place("probes", number, "interval_s"), probe.name,
                    f"{fronts} fronts ask {machine.name} {per_s:.3g} times a second, "
                    f"{per_cent(per_s / machine.capacity_rps)} of "
                    "what it can do",
                    "ask less often",
                )  # fmt: skip
