"""What puzzles people about where requests go: each explained, with what to change if it is not wanted."""

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np

from northgate.engine.formulas import METHODS
from northgate.engine.solver import Flow
from northgate.engine.trace.answer import Explained, RemedyAnswer
from northgate.engine.trace.format import per_cent
from northgate.engine.trace.history import History, told_now
from northgate.plan.problems import pointer

# A target that gets so many times another's share is worth a word.
UNEVEN = 1.5


def explanations(flow: Flow, history: History, cells: Sequence[int], area: int, host: str) -> list[Explained]:
    """What is to be said of the names and cells that traced requests met."""

    def explained(puzzle: str, words: str, change: tuple[str, str, Any] | None = None) -> Explained:
        remedy = None
        if change:
            said, path, value = change
            remedy = RemedyAnswer(words=said, patch=[{"op": "replace", "path": path, "value": value}])
        return Explained(puzzle=puzzle, words=words, remedy=remedy)

    found: list[Explained] = [explained(*one) for one in _region(flow, area, host)]
    said: set[tuple[str, str]] = set()
    for cell in cells:
        for one in (*_stays(flow, cell), *_nothing_yet(flow, history, cell), *_uneven(flow, cell)):
            if (one[0], one[1]) not in said:
                said.add((one[0], one[1]))
                found.append(explained(*one))
    return found


Said = tuple[str, str] | tuple[str, str, tuple[str, str, Any]]


def _stays(flow: Flow, cell: int) -> Iterator[Said]:
    """Why refreshing lands on the same target, or takes turns."""
    group_index = int(flow.network.cells.group[cell])
    group = flow.network.plan.target_groups[group_index]
    at = pointer(("target_groups", group_index))
    at_layer_7 = flow.network.fronts.layer[flow.network.cells.front[cell]] == 7
    same, turns = "Why does refreshing always land on the same target?", "Why does refreshing take turns?"
    if group.affinity.by == "source":
        yield same, f"{group.name} keeps each source on one target for {group.affinity.lasts_s:g} s", (
            "keep no sessions", f"{at}/affinity/by", "none",
        )  # fmt: skip
    elif group.balance == "source-hash":
        yield same, f"{group.name} hashes the source address: one address always falls to the same target", (
            "choose by round robin", f"{at}/balance", "round-robin",
        )  # fmt: skip
    elif group.affinity.by == "cookie" and at_layer_7:
        yield same, (
            f"{group.name} keeps a session by cookie for {group.affinity.lasts_s:g} s: a browser that holds one stays, "
            "one without takes part in the choice each time"
        ), ("keep no sessions", f"{at}/affinity/by", "none")  # fmt: skip
    elif group.balance == "round-robin":
        unseen = group.affinity.by == "cookie"
        yield (
            turns,
            (
                f"{group.name} gives its targets turns by weight, and "
                + (
                    "its sessions are by cookie, which a balancer of layer 4 never sees"
                    if unseen
                    else "keeps no session"
                )
            ),
            (
                ("keep sessions by cookie", f"{at}/affinity/by", "cookie")
                if at_layer_7
                else ("keep sessions by source", f"{at}/affinity/by", "source")
            ),
        )
    elif group.balance == "flow-hash":
        yield turns, f"{group.name} hashes each connection: a new one falls anew, one that is kept stays where it is", (
            "hash the source alone", f"{at}/balance", "source-hash",
        )  # fmt: skip


def _nothing_yet(flow: Flow, history: History, cell: int) -> Iterator[Said]:
    """Why a target that answers gets nothing, or little."""
    network, state = flow.network, flow.state
    mine = network.cells.pairs[cell]
    group = network.plan.target_groups[int(network.cells.group[cell])]
    probe = network.groups.probe[int(network.cells.group[cell])]
    for pair in mine[(state.encounter.met[mine] == 0) & ~state.in_use[mine]][:1]:
        name = network.machines.names[int(network.pairs.machine[pair])]
        passes = probe.healthy_after if probe else 0
        yield (
            f"Why does {name} get nothing?",
            f"it answers, but is believed out: {history.why_out(int(pair))}; it comes back with {passes} passed probes",
        )
    cold = mine[(state.warmth[mine] < 1) & state.in_use[mine]]
    for pair in cold[:1]:
        name = network.machines.names[int(network.pairs.machine[pair])]
        yield (
            f"Why does {name} get so little?",
            (
                f"{group.name} starts targets slowly: its weight counts {per_cent(float(state.warmth[pair]))} yet, "
                f"and rises over {group.slow_start_s:g} s"
            ),
        )


def _uneven(flow: Flow, cell: int) -> Iterator[Said]:
    """Why one target gets much more than another."""
    network = flow.network
    group_index = int(network.cells.group[cell])
    group = network.plan.target_groups[group_index]
    members = np.flatnonzero(network.members.group == group_index)
    rps = np.bincount(network.pairs.member, weights=flow.places.pair_rps, minlength=len(network.members.group))[members]
    used = rps > 1e-9
    if used.sum() < 2:
        return
    most, least = int(members[used][rps[used].argmax()]), int(members[used][rps[used].argmin()])
    times = float(rps[used].max() / rps[used].min())
    if times < UNEVEN:
        return
    names = [network.machines.names[int(network.members.machine[one])] for one in (most, least)]
    weights = [float(network.members.weight[one]) for one in (most, least)]
    at = pointer(("target_groups", group_index))
    puzzle = f"Why does {names[0]} get {times:.2g} times as much as {names[1]}?"
    senders = [_senders(flow, one) for one in (most, least)]
    if abs(weights[0] / max(weights[1], 1e-9) - times) < 0.01 * times:
        yield puzzle, f"their weights are {weights[0]:g} and {weights[1]:g}"
    elif group.balance == "source-hash":
        sources = sum(len(segment.keys) for segment in network.segments)
        yield puzzle, (
            f"{group.name} hashes {sources} source addresses over {int(used.sum())} targets: so few fall unevenly"
        ), ("choose by round robin", f"{at}/balance", "round-robin")  # fmt: skip
    elif senders[0] != senders[1]:
        words = [" and ".join(sorted(some)) for some in senders]
        yield puzzle, f"{names[0]} serves {words[0]}, {names[1]} serves {words[1]}, and these get different traffic"
    elif group.reach in ("zone", "prefer-zone"):
        zones = network.machines.zone[network.members.machine[[most, least]]]
        counts = [int((network.machines.zone[network.members.machine[members]] == zone).sum()) for zone in zones]
        yield puzzle, (
            f"each front gets an equal part and keeps to its own zone, where {counts[0]} and {counts[1]} share it"
        ), ("let every front use its whole region", f"{at}/reach", "region")  # fmt: skip
    elif METHODS[group.balance].depends_on_load:
        yield puzzle, f"{group.name} sends to those that are less busy, and {names[0]} is done sooner with a request"
    else:
        yield puzzle, "it is believed in use at more fronts"


def _senders(flow: Flow, member: int) -> set[str]:
    """The balancers that send to a target."""
    network = flow.network
    return {network.balancer_of(int(front)) for front in network.pairs.front[network.pairs.member == member]}


def _region(flow: Flow, area: int, host: str) -> Iterator[Said]:
    """Why clients of one area are led elsewhere than others."""
    network, plan = flow.network, flow.network.plan
    name = network.names.index(host)
    if name is None or area < 0 or len(plan.areas) < 2:
        return
    entry = plan.names[name]
    mine = told_now(flow, name, area)
    for other in range(len(plan.areas)):
        if told_now(flow, name, other) != mine:
            how = {"nearest": "each area to its nearest answer", "area": "each area to the answers meant for it"}
            words = how.get(entry.choose, "areas differently")
            yield f"Why does {plan.areas[area].name} see another region than {plan.areas[other].name}?", (
                f"{entry.name} leads {words}"
            ), ("give every area the same order", f"{pointer(('names', name))}/choose", "order")  # fmt: skip
            return
