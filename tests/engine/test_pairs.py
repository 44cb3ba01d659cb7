"""A third witness, besides the engine's own tests and the simulation: closed forms for two mechanisms at a time.

Each form is worked out by hand from the description, for parameters that are drawn: what share of the calls fails at
one second, while nobody has noticed yet. T targets of which b are bad, n fronts of which d are dead, r repeats, k
others tried, a the share of clients on an old answer, h the share of sources whose key falls to bad targets, u offered
over capacity.
"""

import math
import random
from collections.abc import Callable
from itertools import combinations

import pytest

from tests.support.plans import drill_of
from tests.support.worlds import CROWD, RPS, World

Form = Callable[[random.Random], tuple[World, float]]
FORMS: dict[frozenset[str], Form] = {}
MECHANISMS = (
    "repeats", "next address", "sessions", "source hash", "try others", "per-zone", "layer 4", "old answers", "outside",
    "behind", "overload",
)  # fmt: skip


def pair(*mechanisms: str) -> Callable[[Form], Form]:
    """Registers the closed form of a pair of mechanisms."""

    def register(form: Form) -> Form:
        assert frozenset(mechanisms) not in FORMS
        FORMS[frozenset(mechanisms)] = form
        return form

    return register


def all_bad(bad: int, targets: int, tries: int) -> float:
    """The chance that so many different targets, drawn one after the other, are all bad."""
    return math.prod(max(bad - number, 0) / (targets - number) for number in range(tries))


def drawn(chance: random.Random) -> tuple[World, int, int]:
    """A world, how many targets it has, and how many of them will be bad."""
    targets = chance.randint(3, 8)
    return World(targets, chance.randint(1, 3)), targets, chance.randint(1, targets - 1)


def fronts(chance: random.Random) -> tuple[World, int, int]:
    """A world of fronts with addresses of their own, how many there are, and how many of them will be dead."""
    count = chance.randint(2, 5)
    world = World(6, count)
    world.balancer["address_kind"] = "per-zone"
    return world, count, chance.randint(1, count - 1)


BOUND = {"affinity": {"by": "cookie", "renews": True}}


@pair("repeats", "next address")
def _(chance):
    """Patience for m waits: an attempt fails if the first m addresses are all dead."""
    world, count, dead = fronts(chance)
    waits, repeats = chance.randint(1, count), chance.randint(1, 3)
    world.client |= {"retries": repeats, "tries_next_address": True, "timeout_s": 2 * waits - 0.5}
    return world.dead(dead), all_bad(dead, count, waits) ** (repeats + 1)


@pair("repeats", "sessions")
def _(chance):
    """All are bound for good: who is bound to a bad one fails at each attempt."""
    world, targets, bad = drawn(chance)
    world.group |= BOUND
    world.client["retries"] = chance.randint(1, 4)
    return world.bad(bad), bad / targets


@pair("repeats", "source hash")
def _(chance):
    """A repeat keeps its key."""
    world, _, bad = drawn(chance)
    world.client["retries"] = chance.randint(1, 4)
    return world.hashed().bad(bad), world.falls_to_bad(bad)


@pair("repeats", "try others")
def _(chance):
    """An attempt fails if k + 1 different targets are bad; repeats draw anew."""
    world, targets, bad = drawn(chance)
    tries, repeats = chance.randint(1, 3), chance.randint(1, 3)
    world.group["try_others"], world.client["retries"] = tries, repeats
    return world.bad(bad), all_bad(bad, targets, min(tries + 1, targets)) ** (repeats + 1)


@pair("repeats", "per-zone")
def _(chance):
    """A repeat keeps the set of addresses and draws anew among it."""
    world, count, dead = fronts(chance)
    world.client["retries"] = repeats = chance.randint(1, 4)
    return world.dead(dead), (dead / count) ** (repeats + 1)


@pair("repeats", "layer 4")
def _(chance):
    """Over a connection to a bad one the first attempt fails, and the r that are left are drawn anew: p p^r either
    way."""
    world, targets, bad = drawn(chance)
    world.client["retries"] = repeats = chance.randint(1, 3)
    return world.at_layer_4().bad(bad, silent=True), (bad / targets) ** (repeats + 1)


@pair("repeats", "old answers")
def _(chance):
    """A repeat keeps its answer: the old one leads to dead fronts every time."""
    part = chance.choice([0.25, 0.5, 0.75])
    world = World().fading(part)
    world.client["retries"] = chance.randint(1, 3)
    return world, part


@pair("repeats", "outside")
def _(chance):
    """Half of the attempts go outside, where all is served."""
    world, targets, bad = drawn(chance)
    world.client["retries"] = repeats = chance.randint(1, 3)
    return world.with_outside().bad(bad), (bad / targets / 2) ** (repeats + 1)


@pair("repeats", "behind")
def _(chance):
    """What fails at the inner balancer is repeated by the client."""
    world, targets, bad = drawn(chance)
    world.client["retries"] = repeats = chance.randint(1, 3)
    return world.behind().bad(bad), (bad / targets) ** (repeats + 1)


@pair("repeats", "overload")
def _(chance):
    """Attempts grow until what is served is what can be: rate (1 - p^(r+1)) = capacity."""
    world = World(4, 2)
    capacity = chance.choice([15, 20, 25])
    world.machine["capacity_rps"], world.client["retries"] = capacity, chance.randint(1, 2)
    return world, 1 - 4 * capacity / RPS


@pair("next address", "sessions")
def _(chance):
    """Every call finds a living front; whoever is bound to a bad target fails there."""
    world, _, dead = fronts(chance)
    world.group |= BOUND
    world.client["tries_next_address"] = True
    return world.dead(dead).bad(2), 2 / 6


@pair("next address", "source hash")
def _(chance):
    world, _, dead = fronts(chance)
    world.client["tries_next_address"] = True
    return world.hashed().dead(dead).bad(2), world.falls_to_bad(2)


@pair("next address", "try others")
def _(chance):
    """A refusing target is the balancer's affair, which tries another; not the client's."""
    world, _, dead = fronts(chance)
    world.client["tries_next_address"], world.group["try_others"] = True, 1
    return world.dead(dead).bad(3), all_bad(3, 6, 2)


@pair("next address", "per-zone")
def _(chance):
    """With patience for one wait only the first address counts, with more of it nobody fails."""
    world, count, dead = fronts(chance)
    patient = chance.random() < 0.5
    world.client |= {"tries_next_address": True, "timeout_s": 60 if patient else 1.5}
    return world.dead(dead), 0.0 if patient else dead / count


@pair("next address", "layer 4")
def _(chance):
    """At layer 4 a bad target is a failed connect: it fails only if that of the other balancer, which is well, is not
    asked: never."""
    world, _, bad = drawn(chance)
    world.client["tries_next_address"] = True
    return world.at_layer_4(CROWD).with_second("all").bad(bad, silent=chance.random() < 0.5), 0.0


@pair("next address", "old answers")
def _(chance):
    """The old answer of one region lists two addresses, both of which are dead: nothing is gained by the next."""
    part = chance.choice([0.25, 0.5, 0.75])
    world = World(4, 2).fading(part)
    world.balancer["address_kind"], world.client["tries_next_address"] = "per-zone", True
    return world, part


@pair("next address", "outside")
def _(chance):
    """All fronts are dead: whoever begins there goes on outside."""
    world, count, _ = fronts(chance)
    world.client["tries_next_address"] = True
    return world.with_outside().dead(count), 0.0


@pair("next address", "behind")
def _(chance):
    """A dead front behind the balancer is no failed connect of the client's: half of the calls fail all the same."""
    world = World(4, chance.randint(1, 3)).behind().with_second("all")
    world.client["tries_next_address"] = True
    return world.dead(len(world.zones)), 1 / 2


@pair("next address", "overload")
def _(chance):
    """A full queue is no failed connect: of the half that comes here the excess fails."""
    world = World(2, 1).with_second("all")
    capacity = chance.choice([10, 20, 25])
    world.more["instances"] = [
        {
            "name": name,
            "zone": zone,
            "capacity_rps": limit,
            "queue_s": 0,
            "serves": [{"port": 8080, "protocol": "http"}],
        }
        for name, zone, limit in (("t-1", "fells-1", capacity), ("t-2", "fells-1", capacity), ("s", "coast-1", 500))
    ]
    world.client["tries_next_address"] = True
    return world, (1 - 2 * capacity / (RPS / 2)) / 2


@pair("sessions", "source hash")
def _(chance):
    """Sessions are opened where the key falls, so both hold the same ones there."""
    world, _, bad = drawn(chance)
    world.group["affinity"] = {"by": "cookie", "renews": False, "lasts_s": chance.choice([5, 50])}
    return world.hashed().bad(bad), world.falls_to_bad(bad)


@pair("sessions", "try others")
def _(chance):
    """Bound to a bad one, a call goes on to k of the others."""
    world, targets, bad = drawn(chance)
    world.group |= {**BOUND, "try_others": 1}
    return world.bad(bad), all_bad(bad, targets, 2)


@pair("sessions", "per-zone")
def _(chance):
    """A dead front fails whatever binds the source."""
    world, count, dead = fronts(chance)
    world.group |= BOUND
    return world.dead(dead).bad(2), dead / count + (1 - dead / count) * 2 / 6


@pair("sessions", "layer 4")
def _(chance):
    """Bound by source, also who connects anew comes to the same target: all of their calls fail, at any second."""
    world, targets, bad = drawn(chance)
    world.group["affinity"] = {"by": "source", "renews": True}
    world.at_s = chance.choice([10, 14, 40])
    return world.at_layer_4().bad(bad, silent=True), bad / targets


@pair("sessions", "old answers")
def _(chance):
    """Sessions of the lost region bind nobody on the coast."""
    part = chance.choice([0.25, 0.5, 0.75])
    world = World().fading(part)
    world.group |= BOUND
    return world, part


@pair("sessions", "outside")
def _(chance):
    world, targets, bad = drawn(chance)
    world.group |= BOUND
    return world.with_outside().bad(bad), bad / targets / 2


@pair("sessions", "behind")
def _(chance):
    """A session at the inner balancer binds like any."""
    world, targets, bad = drawn(chance)
    world.group |= BOUND
    world.client["retries"] = 1
    return world.behind().bad(bad), (bad / targets) ** 2


@pair("sessions", "overload")
def _(chance):
    """Bound evenly: each target is offered its part, and the excess fails."""
    world = World(4, 2)
    capacity = chance.choice([15, 20, 25])
    world.machine["capacity_rps"] = capacity
    world.group |= BOUND
    return world, 1 - 4 * capacity / RPS


@pair("source hash", "try others")
def _(chance):
    """A key goes on in its own order."""
    world, _, bad = drawn(chance)
    world.group["try_others"] = tries = chance.randint(1, 2)
    return world.hashed().bad(bad), world.falls_to_bad(bad, tries)


@pair("source hash", "per-zone")
def _(chance):
    world, count, dead = fronts(chance)
    return world.hashed().dead(dead).bad(2), dead / count + (1 - dead / count) * world.falls_to_bad(2)


@pair("source hash", "layer 4")
def _(chance):
    """Over connections and without: h of the calls meet a bad one."""
    world, _, bad = drawn(chance)
    return world.at_layer_4().hashed().bad(bad, silent=True), world.falls_to_bad(bad)


@pair("source hash", "old answers")
def _(chance):
    part = chance.choice([0.25, 0.5, 0.75])
    return World().hashed().fading(part), part


@pair("source hash", "outside")
def _(chance):
    world, _, bad = drawn(chance)
    return world.hashed().with_outside().bad(bad), world.falls_to_bad(bad) / 2


@pair("source hash", "behind")
def _(chance):
    world, _, bad = drawn(chance)
    return world.hashed().behind().bad(bad), world.falls_to_bad(bad)


@pair("source hash", "overload")
def _(chance):
    """Each target is offered its keys' calls."""
    world = World(4, 2).hashed()
    world.machine["capacity_rps"] = capacity = chance.choice([20, 28, 35])
    first = [world.order(source)[0] for source in world.sources()]
    offered = [RPS * first.count(number) / len(first) for number in range(1, 5)]
    return world, sum(max(one - capacity, 0) for one in offered) / RPS


@pair("try others", "per-zone")
def _(chance):
    world, count, dead = fronts(chance)
    world.group["try_others"] = 1
    return world.dead(dead).bad(3), dead / count + (1 - dead / count) * all_bad(3, 6, 2)


@pair("try others", "layer 4")
def _(chance):
    """A layer 4 balancer tries nobody else."""
    world, targets, bad = drawn(chance)
    world.group["try_others"] = 2
    return world.at_layer_4(CROWD).bad(bad), bad / targets


@pair("try others", "old answers")
def _(chance):
    part = chance.choice([0.25, 0.5, 0.75])
    world = World().fading(part)
    world.group["try_others"] = 2
    return world, part


@pair("try others", "outside")
def _(chance):
    world, targets, bad = drawn(chance)
    world.group["try_others"] = 1
    return world.with_outside().bad(bad), all_bad(bad, targets, 2) / 2


@pair("try others", "behind")
def _(chance):
    """To the outer balancer the inner one takes every connect; the machine beside it refuses, so all go on to the
    inner, where b of T are bad and nobody else is tried."""
    world, targets, bad = drawn(chance)
    world.more["outer"] = {"targets": [{"balancer": "in"}, {"instance": "s", "port": 9}], "try_others": 1}
    return world.behind().bad(bad), bad / targets


@pair("try others", "overload")
def _(chance):
    """A full queue has taken the connect."""
    world = World(4, 2)
    world.machine["capacity_rps"] = capacity = chance.choice([15, 20, 25])
    world.group["try_others"] = 2
    return world, 1 - 4 * capacity / RPS


@pair("per-zone", "layer 4")
def _(chance):
    """Those over connections through dead fronts fail, and so do those who connect to them."""
    world, count, dead = fronts(chance)
    return world.at_layer_4().dead(dead), dead / count


@pair("per-zone", "old answers")
def _(chance):
    """A dead front's address has left the answer; a of the clients still hold it, and take it with 1 in n."""
    world, count, dead = fronts(chance)
    world.dead(dead).balancer["front_failover_s"] = 4
    part = chance.choice([0.25, 0.5, 0.75])
    world.at_s = 10 + 4 + 100 * (1 - part)
    return world, part * dead / count


@pair("per-zone", "outside")
def _(chance):
    """One address more."""
    world, count, dead = fronts(chance)
    return world.with_outside().dead(dead), dead / (count + 1)


@pair("per-zone", "behind")
def _(chance):
    """The outer balancer spreads over the inner one's fronts that are in their addresses."""
    world, count, dead = fronts(chance)
    return world.behind().dead(dead), dead / count


@pair("per-zone", "overload")
def _(chance):
    """Each front keeps to its own zone's target: what comes to a living one is 1/n of all."""
    count = chance.randint(2, 4)
    world = World(count, count)
    world.balancer["address_kind"], world.group["reach"] = "per-zone", "zone"
    world.machine["capacity_rps"] = capacity = RPS / count * chance.choice([0.5, 0.7])
    return world.dead(1), 1 / count + (count - 1) / count * (1 - capacity / (RPS / count))


@pair("layer 4", "old answers")
def _(chance):
    part = chance.choice([0.25, 0.5, 0.75])
    return World().at_layer_4(CROWD).fading(part), part


@pair("layer 4", "outside")
def _(chance):
    world, targets, bad = drawn(chance)
    return world.at_layer_4(CROWD).with_outside().bad(bad, silent=True), bad / targets / 2


@pair("layer 4", "behind")
def _(chance):
    world, targets, bad = drawn(chance)
    return world.at_layer_4(CROWD).behind().bad(bad), bad / targets


@pair("layer 4", "overload")
def _(chance):
    world = World(4, 2).at_layer_4(CROWD)
    world.machine["capacity_rps"] = capacity = chance.choice([15, 20, 25])
    return world, 1 - 4 * capacity / RPS


@pair("old answers", "outside")
def _(chance):
    """The last resort stands outside: who asks now is served there."""
    part = chance.choice([0.25, 0.5, 0.75])
    world = World().fading(part)
    world.name |= {"answers": [{"balancer": "front"}], "when_none_healthy": {"address": "198.51.100.9"}}
    return world, part


@pair("old answers", "behind")
def _(chance):
    part = chance.choice([0.25, 0.5, 0.75])
    return World().behind().fading(part), part


@pair("old answers", "overload")
def _(chance):
    """The coast can carry c of all: of the 1 - a that come there the rest fails."""
    part, carries = chance.choice([0.25, 0.5]), chance.choice([0.2, 0.4])
    world = World().fading(part)
    world.machine["capacity_rps"] = RPS * carries
    return world, part + (1 - part) * (1 - carries / (1 - part))


@pair("outside", "behind")
def _(chance):
    """The outer group has something outside beside the inner balancer."""
    world, targets, bad = drawn(chance)
    world.more["outer"] = {"targets": [{"balancer": "in"}, {"address": "198.51.100.9"}]}
    return world.behind().bad(bad), bad / targets / 2


@pair("outside", "overload")
def _(chance):
    world = World(2, 1).with_outside()
    world.machine["capacity_rps"] = capacity = chance.choice([10, 20, 25])
    return world, (1 - 2 * capacity / (RPS / 2)) / 2


@pair("behind", "overload")
def _(chance):
    world = World(4, 2).behind()
    world.machine["capacity_rps"] = capacity = chance.choice([15, 20, 25])
    return world, 1 - 4 * capacity / RPS


def aliased(world: World) -> World:
    """The same, asked by an alias whose own record is kept for much longer."""
    world.alias = True
    return world


@pair("alias", "old answers")
def _(chance):
    """A change of the inner name fades over the inner record's time."""
    part = chance.choice([0.25, 0.5, 0.75])
    return aliased(World().fading(part)), part


@pair("alias", "repeats")
def _(chance):
    world, count, dead = fronts(chance)
    world.client["retries"] = 1
    return aliased(world.dead(dead)), (dead / count) ** 2


@pair("alias", "next address")
def _(chance):
    world, _, dead = fronts(chance)
    world.client["tries_next_address"] = True
    return aliased(world.dead(dead)), 0.0


@pair("alias", "outside")
def _(chance):
    world, targets, bad = drawn(chance)
    return aliased(world.with_outside().bad(bad)), bad / targets / 2


@pair("alias", "layer 4")
def _(chance):
    world, targets, bad = drawn(chance)
    return aliased(world.at_layer_4().bad(bad, silent=True)), bad / targets


def test_every_pair_of_mechanisms_has_a_form():
    assert {frozenset(one) for one in combinations(MECHANISMS, 2)} <= FORMS.keys()
    assert len(FORMS) >= 60


@pytest.mark.parametrize("draw", range(3))
@pytest.mark.parametrize("mechanisms", sorted(map(sorted, FORMS)), ids=" and ".join)
def test_two_mechanisms_together_do_what_the_description_says(mechanisms, draw):
    world, fails = FORMS[frozenset(mechanisms)](random.Random(f"{mechanisms} {draw}"))
    run = drill_of(world.data(), world.steps, phases="best", lasts_s=200)
    flow = run.flow_at(world.at_s)
    # Where a crowd's connections are left out of the form, a ten-millionth of the calls still goes over some.
    crowd = world.client["sources"] == CROWD
    assert flow.cause_rps.sum() / RPS == pytest.approx(fails, rel=1e-9, abs=2e-6 if crowd else 1e-9)
    assert flow.served + flow.cause_rps.sum() == pytest.approx(RPS, rel=1e-12)
    assert flow.zone_served.sum() == pytest.approx(flow.served, rel=1e-9, abs=1e-9)
