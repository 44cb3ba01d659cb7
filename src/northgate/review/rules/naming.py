"""Names: what they answer, who watches that, and for how long old answers are held."""

from collections.abc import Iterator, Sequence

from northgate.engine.formulas import down_bounds
from northgate.engine.matching import request_for
from northgate.plan.editing import Patch
from northgate.plan.models.traffic import DnsEntry
from northgate.review.context import Context, place
from northgate.review.registry import Found, finding

# Clients do not wait for a name longer than this, times their own patience.
PATIENT = 10


@finding("name-without-answers", "stops")
def name_without_answers(context: Context) -> Iterator[Found]:
    """A name answers nothing: whoever asks it gets nowhere."""
    for index, name in enumerate(context.plan.names):
        if not name.answers:
            yield Found(
                place("names", index, "answers"), name.name, f"{name.name} answers nothing", "let it lead to a balancer"
            )


@finding("answers-never-withdrawn", "risks")
def answers_never_withdrawn(context: Context) -> Iterator[Found]:
    """A name has several answers and no probe: one that is dead goes on being answered."""
    names = context.plan.names
    unwatched = [
        at for at, name in enumerate(names) if not name.probe and len(name.answers) > 1 and name.choose != "all"
    ]
    probes = _passing(context, unwatched)
    for index in unwatched:
        name, probe = names[index], probes.get(index)
        yield Found(
            place("names", index, "probe"), name.name,
            f"{name.name} has {len(name.answers)} answers and no probe: a dead one is never withdrawn",
            f"watch them by probe {probe}" if probe else "watch them by a probe that asks a port of its own",
            tuple(_watching(context, index, probe)) if probe else (),
        )  # fmt: skip


def _passing(context: Context, names: Sequence[int]) -> dict[int, str]:
    """The first probe of the plan that passes at all answers of each of these names while nothing has failed, where one
    does: all names are tried at once, probe by probe."""
    found = dict[int, str]()
    for probe in [one.name for one in context.plan.probes if one.port != "same"] if context.plan.areas else []:
        left = [index for index in names if index not in found]
        if not left:
            break
        flow = context.flow_after([each for index in left for each in _watching(context, index, probe)])
        found |= {index: probe for index in left if flow and flow.state.healthy[index].all()}
    return found


def _watching(context: Context, index: int, probe: str) -> Patch:
    """The edit by which a probe watches a name, from everywhere."""
    areas = [area.name for area in context.plan.areas]
    return [
        {"op": "add", "path": place("names", index, "probe"), "value": probe},
        {"op": "add", "path": place("names", index, "probed_from"), "value": areas},
    ]


@finding("name-slow", "risks")
def name_slow(context: Context) -> Iterator[Found]:
    """From the loss of an answer until everyone has let it go passes the probe's blind time and then the TTL: a
    multiple of how long clients wait."""
    probes = {probe.name: probe for probe in context.plan.probes}
    for index, name in enumerate(context.plan.names):
        probe = probes.get(name.probe or "")
        if probe is None or len(name.answers) < 2:
            continue
        blind_s = down_bounds(probe, at_once=False, answer_s=0.0).latest_s
        patience = [
            client.timeout_s * (1 + client.retries)
            for client in context.plan.clients
            if any(request_for(call.url).host == name.name.lower().rstrip(".") for call in client.calls)
        ]
        waits_s = max(patience, default=0.0)
        if waits_s and blind_s + name.ttl_s > PATIENT * waits_s:
            yield Found(
                place("names", index, "ttl_s"), name.name,
                f"a lost answer of {name.name} is led to for up to {blind_s + name.ttl_s:g} s ({blind_s:g} until its "
                "probe "
                f"has noticed, {name.ttl_s:g} of TTL); clients wait {waits_s:g} s",
                "shorten the TTL, or let the probe ask more often",
            )  # fmt: skip


@finding("nowhere-else", "risks")
def nowhere_else(context: Context) -> Iterator[Found]:
    """A probe watches a name that has a single answer and no last resort: when it is out there is nothing else to
    answer, so that the probe changes nothing."""
    for index, name in enumerate(context.plan.names):
        if name.probe and len(name.answers) == 1 and name.when_none_healthy is None:
            yield Found(
                place("names", index, "answers"), name.name,
                f"probe {name.probe} watches {name.name}, which has nothing else to answer",
                "add a second answer, or a last resort",
            )  # fmt: skip


@finding("probed-from-nowhere", "risks")
def probed_from_nowhere(context: Context) -> Iterator[Found]:
    """A name has a probe and nobody from where it is sent: no answer is ever withdrawn."""
    areas = [area.name for area in context.plan.areas]
    for index, name in enumerate(context.plan.names):
        if name.probe and not name.probed_from:
            where = place("names", index, "probed_from")
            yield Found(
                where, name.name, f"probe {name.probe} of {name.name} is sent from nowhere", "send it from every area",
                ({"op": "add", "path": where, "value": areas},) if areas else (),
            )  # fmt: skip


@finding("area-unanswered", "risks")
def area_unanswered(context: Context) -> Iterator[Found]:
    """A name answers by area, and no answer is meant for an area from which clients ask, nor is there a last resort."""
    for index, name in enumerate(context.plan.names):
        if name.choose != "area" or name.when_none_healthy is not None:
            continue
        known = {area for answer in name.answers for area in answer.areas}
        everyone = any(not answer.areas for answer in name.answers)
        for client in context.plan.clients:
            asks = any(request_for(call.url).host == name.name.lower().rstrip(".") for call in client.calls)
            if asks and client.area not in known and not everyone:
                yield Found(
                    place("names", index, "answers"), name.name,
                    f"{client.name} ask {name.name} from {client.area or 'no area'}, and no answer is meant for them",
                    "mean an answer for that area, or give a last resort",
                )  # fmt: skip


@finding("standby-small", "risks", "flow")
def standby_small(context: Context) -> Iterator[Found]:
    """A name's next answer, or a pool's next choice, can do less than clients ask of the one that it takes over "
    "from."""
    for index, name in enumerate(context.plan.names):
        yield from _small_answers(context, index, name)
    for index, pool in context.used_pools:
        for number in range(1, len(pool.tiers)):
            before, after = (
                sum(_capacity(context, group.name) for group in context.groups_of(pool, at))
                for at in (number - 1, number)
            )
            asked = _asked_of(context, [group.name for group in context.groups_of(pool, number - 1)])
            if asked > after and before >= asked:
                yield Found(
                    place("pools", index, "tiers", number), pool.name,
                    f"choice {number + 1} of pool {pool.name} can do {after:,.0f} requests a second, and inherits "
                    f"{asked:,.0f}",
                    "give it more targets, or an answer that takes less work",
                )  # fmt: skip


def _small_answers(context: Context, index: int, name: DnsEntry) -> Iterator[Found]:
    """The answers of a name by order that are smaller than what they inherit."""
    if name.choose != "order" or len(name.answers) < 2 or context.flow is None:
        return
    asked = [_asked_through(context, answer.balancer) for answer in name.answers]
    for number in range(1, len(name.answers)):
        balancer = name.answers[number].balancer
        room, inherits = _room_behind(context, balancer), asked[number] + sum(asked[:number])
        if balancer and asked[number - 1] and inherits > room:
            yield Found(
                place("names", index, "answers", number), name.name,
                f"when {name.answers[number - 1].balancer} is lost, {balancer} gets {inherits:,.0f} requests a "
                "second and "
                f"its targets can do {room:,.0f}",
                f"give {balancer} more targets, or answer with a page that takes less work",
            )  # fmt: skip


def _asked_through(context: Context, balancer: str | None) -> float:
    """The requests a second that clients make of a balancer."""
    flow, places = context.flow, {one.name: at for at, one in enumerate(context.plan.balancers)}
    if flow is None or balancer not in places:
        return 0.0
    mine = flow.network.entries.balancer == places[balancer]
    return float(flow.places.entry_rps[mine].sum())


def _room_behind(context: Context, balancer: str | None) -> float:
    """The requests a second that the targets behind a balancer can do, as far as its fronts reach."""
    if context.network is None:
        return 0.0
    network = context.network
    fronts = [at for at in range(len(network.fronts.zone)) if network.balancer_of(at) == balancer]
    machines = {int(m) for p, m in enumerate(network.pairs.machine) if int(network.pairs.front[p]) in fronts}
    return float(sum(network.machines.capacity[machine] for machine in machines if not network.machines.spare[machine]))


def _capacity(context: Context, group: str) -> float:
    targets = context.targets(context.groups[group][1])
    return sum(one.capacity_rps if one.capacity_rps is not None else float("inf") for one in targets)


def _asked_of(context: Context, groups: list[str]) -> float:
    """The requests a second that these groups get."""
    if context.flow is None:
        return 0.0
    network = context.flow.network
    numbers = [context.groups[name][0] for name in groups]
    mine = [group in numbers for group in network.pairs.group.tolist()]
    return float(context.flow.places.pair_rps[mine].sum()) if mine else 0.0


@finding("answer-believed-dead", "stops", "flow")
def answer_believed_dead(context: Context) -> Iterator[Found]:
    """The probe of a name fails at an answer though nothing has failed: that answer is never given."""
    assert context.flow is not None
    for index, name in enumerate(context.plan.names):
        if not name.probe or not name.probed_from:
            continue
        for number, healthy in enumerate(context.flow.state.healthy[index].tolist()):
            if not healthy:
                answer = name.answers[number]
                end = answer.balancer or answer.instance or answer.address or answer.host
                yield Found(
                    place("names", index, "answers", number), name.name,
                    f"probe {name.probe} of {name.name} fails at {end} though nothing has failed: clients are not "
                    "led there",
                    "trace the probe: let it ask what is served there, and expect what that answers",
                )  # fmt: skip
