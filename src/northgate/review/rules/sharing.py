"""Who gets how much: weights, hashes, sessions, repeats, capacity and bandwidth."""

from collections.abc import Iterator

import numpy as np

from northgate.plan.models.groups import TargetGroup
from northgate.review.context import Context, per_cent, place
from northgate.review.registry import Found, finding

# A target that carries so many times the mean of its group is skewed; sources should be so many times as many as
# targets.
SKEWED, FEW_SOURCES = 1.5, 10
# A target, or a balancer's bandwidth, is nearly full from here on.
NEARLY_FULL = 0.8
# Sessions that last longer than this keep a returned zone idle for that long (s).
LONG_SESSION_S = 900
# So many attempts for one call, all told, make a storm of a small overload.
STORM = 6


@finding("weights-zero", "stops")
def weights_zero(context: Context) -> Iterator[Found]:
    """All targets of a group in use, or all groups of a pool's choice, have the weight 0: nobody is ever chosen."""
    for index, group in context.used_groups:
        if group.targets and all(target.weight == 0 for target in group.targets):
            where = place("target_groups", index, "targets")
            yield Found(
                where, group.name, f"all targets of {group.name} have the weight 0: nobody is chosen",
                "give them a weight",
                tuple({"op": "add", "path": f"{where}/{at}/weight", "value": 1} for at in range(len(group.targets))),
            )  # fmt: skip
    for index, pool in context.used_pools:
        for number, tier in enumerate(pool.tiers):
            if all(weight == 0 for weight in tier.groups.values()):
                yield Found(
                    place("pools", index, "tiers", number, "groups"), pool.name,
                    f"all groups of choice {number + 1} of pool {pool.name} have the weight 0: it never serves",
                    "give one of them a weight",
                )  # fmt: skip


@finding("weights-cancel", "advice")
def weights_cancel(context: Context) -> Iterator[Found]:
    """All weights of a group or of a choice are the same, and not 1: they say nothing, as only shares count."""
    for index, group in context.used_groups:
        weights = [target.weight for target in group.targets]
        if len(weights) > 1 and len(set(weights)) == 1 and weights[0] not in (0, 1):
            where = place("target_groups", index, "targets")
            yield Found(
                where, group.name,
                f"all {len(weights)} targets of {group.name} have the weight {weights[0]:g}: each gets as much as "
                "with 1",
                "leave the weights out",
                tuple({"op": "replace", "path": f"{where}/{at}/weight", "value": 1} for at in range(len(weights))),
            )  # fmt: skip


@finding("group-loses-share", "risks")
def group_loses_share(context: Context) -> Iterator[Found]:
    """Groups share a choice by weight, and the share of one that is empty fails, while the others could take it."""
    for index, pool in context.used_pools:
        for number, tier in enumerate(pool.tiers):
            shared = [name for name, weight in tier.groups.items() if weight > 0]
            if tier.empty_group == "fail" and len(shared) > 1:
                where = place("pools", index, "tiers", number, "empty_group")
                total = sum(tier.groups.values())
                shares = " and ".join(f"{per_cent(tier.groups[name] / total)} to {name}" for name in shared)
                yield Found(
                    where, pool.name,
                    f"pool {pool.name} sends {shares}; when one of them is empty, its share fails",
                    "share it out among the others", ({"op": "replace", "path": where, "value": "share-out"},),
                )  # fmt: skip


def _hashed(context: Context) -> Iterator[tuple[int, TargetGroup]]:
    for index, group in context.used_groups:
        if group.balance == "source-hash" or group.affinity.by == "source":
            yield index, group


@finding("few-sources", "risks", "flow")
def few_sources(context: Context) -> Iterator[Found]:
    """A group keeps each source at one target, and has few sources for its targets: some targets get several of them,
    and others none."""
    assert context.network is not None
    network = context.network
    for index, group in _hashed(context):
        cells = np.flatnonzero(network.cells.group == index)
        calls = np.flatnonzero(network.kept.at_cells[:, cells].any(axis=1))
        clients = {int(network.calls.client[call]) for call in calls} - {len(context.plan.clients)}
        sources = sum(context.plan.clients[client].sources for client in clients)
        count = len(context.targets(group))
        if clients and count > 1 and sources < FEW_SOURCES * count:
            yield Found(
                place("target_groups", index, "balance"), group.name,
                f"{group.name} keeps each source at one of {count} targets, and only {sources} sources ask it: "
                "shares are "
                "uneven",
                "choose targets by turns, or keep sessions by cookie",
            )  # fmt: skip


@finding("hash-skew", "risks", "flow")
def hash_skew(context: Context) -> Iterator[Found]:
    """A hash sends one target much more than the mean of its group."""
    assert context.flow is not None
    network, rps = context.flow.network, context.flow.places.pair_rps
    for index, group in _hashed(context):
        mine = network.members.group == index
        by_member = np.bincount(network.pairs.member, weights=rps, minlength=len(mine))[mine]
        weight = network.members.weight[mine]
        fair = by_member.sum() * weight / weight.sum() if weight.sum() else weight
        skew = np.divide(by_member, fair, out=np.ones(len(fair)), where=fair > 0)
        if len(skew) > 1 and skew.max() >= SKEWED:
            name = network.machines.names[int(network.members.machine[mine][int(skew.argmax())])]
            yield Found(
                place("target_groups", index, "balance"), group.name,
                f"by the hash of its sources {name} gets {skew.max():.2g} times its share of {group.name}",
                "choose targets by turns, or by how busy they are",
            )  # fmt: skip


@finding("sessions-stay", "risks")
def sessions_stay(context: Context) -> Iterator[Found]:
    """Sessions last long, and each request renews them: after a zone has returned, clients stay where they fled to, and
    it is idle for that long or for good."""
    for index, group in context.used_groups:
        affinity = group.affinity
        zones = {target.zone for target in context.targets(group)}
        if affinity.by != "none" and affinity.renews and affinity.lasts_s > LONG_SESSION_S and len(zones) > 1:
            where = place("target_groups", index, "affinity", "renews")
            yield Found(
                where, group.name,
                f"sessions of {group.name} last {affinity.lasts_s:g} s and each request renews them: a zone that has "
                "returned gets new clients only",
                "let sessions end by their time", ({"op": "add", "path": where, "value": False},),
            )  # fmt: skip


@finding("drain-short", "risks")
def drain_short(context: Context) -> Iterator[Found]:
    """A target that leaves keeps its connections for less time than one lasts: some are cut in the middle."""
    for index, group in context.used_groups:
        slowest_s = max((one.service_ms / 1000 for one in context.targets(group)), default=0.0)
        layers = {doing.balancer.layer for doing, other in context.led_groups if other.name == group.name}
        lasts_s = slowest_s
        if layers == {4}:
            lasts_s = max((client.connection_s for client in context.plan.clients), default=0.0)
        if group.drain_s < lasts_s:
            where = place("target_groups", index, "drain_s")
            yield Found(
                where, group.name,
                f"a target of {group.name} that leaves has {group.drain_s:g} s, and what goes through it lasts up to "
                f"{lasts_s:g} s",
                f"give it {np.ceil(lasts_s):g} s", ({"op": "add", "path": where, "value": float(np.ceil(lasts_s))},),
            )  # fmt: skip


@finding("repeats-multiply", "risks")
def repeats_multiply(context: Context) -> Iterator[Found]:
    """Clients repeat what fails, and balancers try other targets for each attempt: a small overload becomes a storm."""
    others = max((group.try_others for _, group in context.used_groups), default=0)
    for index, client in enumerate(context.plan.clients):
        attempts = (1 + client.retries) * (1 + others)
        if client.retries and attempts >= STORM:
            yield Found(
                place("clients", index, "retries"), client.name,
                f"one failing call of {client.name} is tried up to {attempts} times ({1 + client.retries} by the "
                "client, "
                f"each at up to {1 + others} targets)",
                "repeat less, or let balancers try fewer others",
            )  # fmt: skip


@finding("overloaded", "stops", "flow")
def overloaded(context: Context) -> Iterator[Found]:
    """Targets are offered more than they can do though nothing has failed."""
    assert context.flow is not None
    yield from _busy(context, low=1.0, high=np.inf, words="more than it can do")


@finding("nearly-full", "advice", "flow")
def nearly_full(context: Context) -> Iterator[Found]:
    """Targets are used by four fifths or more though nothing has failed: waits grow steeply from here on."""
    yield from _busy(context, low=NEARLY_FULL, high=1.0, words="with little to spare")


def _busy(context: Context, low: float, high: float, words: str) -> Iterator[Found]:
    assert context.flow is not None
    network, used = context.flow.network, context.flow.queue.utilisation
    for index, group in enumerate(context.plan.target_groups):
        mine = network.members.machine[network.members.group == index]
        if not len(mine):
            continue
        busiest = int(mine[used[mine].argmax()])
        if low <= used[busiest] < high:
            yield Found(
                place("target_groups", index, "targets"), group.name,
                f"{network.machines.names[busiest]} of {group.name} is offered {per_cent(used[busiest])} of its "
                "capacity, "
                f"{words}",
                "register more targets",
            )  # fmt: skip


@finding("bandwidth", "risks", "flow")
def bandwidth(context: Context) -> Iterator[Found]:
    """A balancer's answers take most of its bandwidth, or more than it has."""
    assert context.flow is not None
    network = context.flow.network
    rps = context.flow.places.entry_served
    megabits = rps * network.calls.megabits[network.entries.call]
    for index, balancer in enumerate(context.plan.balancers):
        takes = float(megabits[network.entries.balancer == index].sum())
        if balancer.bandwidth_mbps and takes > NEARLY_FULL * balancer.bandwidth_mbps:
            yield Found(
                place("balancers", index, "bandwidth_mbps"), balancer.name,
                f"answers of {balancer.name} take {takes:,.0f} Mbit/s of {balancer.bandwidth_mbps:,.0f}",
                f"give it {np.ceil(takes / 0.5 / 10) * 10:,.0f} Mbit/s",
            )  # fmt: skip
