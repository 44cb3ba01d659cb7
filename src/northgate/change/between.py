"""What lies between two plans, as edits in an order in which nothing is used before it is there."""

import copy
import json
from collections import defaultdict
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from northgate.change.edits import ChangeStep, Data, Edit
from northgate.plan import Plan
from northgate.plan.difference import KINDS
from northgate.plan.editing import whole_data, without
from northgate.plan.models.words import said
from northgate.plan.problems import Location
from northgate.plan.references import definitions, names_of, references

# What exists is built in this order, and taken away the other way round.
BUILT = (
    "regions", "networks", "firewalls", "certificates", "probes", "instances", "fleets", "target_groups", "pools",
    "balancers", "names",
)  # fmt: skip
# Settings change in this order: what others stand on first.
CHANGED = (
    "regions", "networks", "firewalls", "certificates", "instances", "fleets", "probes", "target_groups", "balancers",
    "pools", "names",
)  # fmt: skip
BELOW = ("regions", "networks", "firewalls", "instances", "fleets")
# Of these one may speak of another that is built later.
LATER = ("network", "firewall", "balancer")
ANEW = "-anew"


def _by_itself(entry: Any) -> str:
    return json.dumps(entry, sort_keys=True)


def _end(target: Data) -> str:
    """What a target is, whatever its weight."""
    return _by_itself({key: value for key, value in target.items() if key != "weight" and value is not None})


# Lists whose entries are there before they are used, and until nobody uses them any more: of which objects, which list,
# and what makes an entry what it is.
ENTRIES: dict[str, tuple[str, Callable[[Any], str]]] = {
    "regions": ("zones", str), "networks": ("subnets", lambda subnet: str(subnet["name"])),
    "firewalls": ("allow_in", _by_itself), "target_groups": ("targets", _end),
}  # fmt: skip


class Between:
    """The steps between the data of two plans; `replaced`: what can only be replaced, as (field, name); `first` and
    `last`: objects as they are built, and before they are removed, where they speak of what comes later, or is gone
    sooner."""

    def __init__(
        self, old: Data, new: Data, replaced: set[tuple[str, str]], first: dict[tuple[str, str], Data],
        last: dict[tuple[str, str], Data],
    ) -> None:  # fmt: skip
        self.replaced, self.first, self.last = replaced, first, last
        # As they are after the steps so far, and as they are to be.
        self._was = {field: {one["name"]: one for one in old[field]} for field in BUILT}
        self._is = {field: {one["name"]: one for one in new[field]} for field in BUILT}

    def steps(self) -> Iterator[ChangeStep]:
        """All steps, in order."""
        for field in BUILT:
            if field in ("regions", "networks"):
                yield from self._wider(field)
            yield from self._built(field)
        # What targets stand on is as it is to be before they are registered: else they are never proven.
        yield from self._wider("firewalls")
        for field in BELOW:
            yield from self._set(field)
        yield from self._anew()
        yield from self._wider("target_groups")
        yield from self._brought_in()
        for field in CHANGED:
            if field not in BELOW:
                yield from self._set(field)
        yield from self._taken_out()
        yield from self._narrower("target_groups")
        yield from self._narrower("firewalls")
        yield from self._let_go()
        for field in reversed(BUILT):
            for name in reversed(self._was[field]):
                if name not in self._is[field]:
                    takes = _all_within(field, self._was[field][name])
                    yield ChangeStep(f"remove {_kind(field)} {name}", (Edit("drop", field, name, takes=takes),))
            if field in ("regions", "networks"):
                yield from self._narrower(field)

    def _both(self, field: str) -> Iterator[tuple[str, Data, Data]]:
        """What is there and stays, and differs."""
        for name, one in self._was[field].items():
            other = self._is[field].get(name)
            if other is not None and other != one and (field, name) not in self.replaced:
                yield name, one, other

    def _change(self, field: str, name: str, changed: Data, **within: tuple[str, ...]) -> tuple[Edit, ...]:
        self._was[field][name] = self._was[field][name] | changed
        return (Edit("set", field, name, changed, **within),)

    def _built(self, field: str) -> Iterator[ChangeStep]:
        for name, one in self._is[field].items():
            if name not in self._was[field]:
                made = self._was[field][name] = self.first.get((field, name), one)
                verb, brings = "use" if field == "regions" else "build", _all_within(field, made)
                yield ChangeStep(f"{verb} {_kind(field)} {name}", (Edit("put", field, name, made, brings),))

    def _wider(self, field: str) -> Iterator[ChangeStep]:
        """Entries that come, beside those that are there."""
        key, mark = ENTRIES[field]
        for name, one, other in self._both(field):
            known = {mark(entry): entry for entry in one[key]}
            more = [entry for entry in other[key] if mark(entry) not in known]
            if more:
                wide = [known.get(mark(entry), entry) for entry in other[key]]
                edits = self._change(field, name, {key: _with_left(field, wide, one[key])}, brings=_within(field, more))
                yield ChangeStep(_words(field, name, more, come=True), edits)

    def _narrower(self, field: str) -> Iterator[ChangeStep]:
        """Entries that go, once nobody uses them."""
        key, mark = ENTRIES[field]
        for name, one, other in self._both(field):
            stays = {mark(entry) for entry in other[key]}
            less = [entry for entry in one[key] if mark(entry) not in stays]
            if less:
                edits = self._change(field, name, {key: other[key]}, takes=_within(field, less))
                yield ChangeStep(_words(field, name, less, come=False), edits)

    def _set(self, field: str) -> Iterator[ChangeStep]:
        """What changes in place of what stays; entries that go, go later."""
        key = ENTRIES[field][0] if field in ENTRIES else ""
        for name, one, other in self._both(field):
            changed = {each: value for each, value in other.items() if value != one[each]}
            if key in changed:
                changed[key] = _with_left(field, other[key], one[key])
                if sorted(map(_by_itself, changed[key])) == sorted(map(_by_itself, one[key])):
                    del changed[key]
            if field == "pools" and "tiers" in changed:
                changed["tiers"] = _kept_along(one["tiers"], other["tiers"])
            if changed:
                words = f"change {_kind(field)} {name}: {', '.join(said(each) for each in sorted(changed))}"
                yield ChangeStep(words, self._change(field, name, changed))

    def _anew(self) -> Iterator[ChangeStep]:
        """What can only be replaced: built beside the old, what leads there moved, the old removed; and its name."""
        for field, name in sorted(self.replaced):
            beside = name + ANEW
            made = copy.deepcopy(self._is[field][name]) | {"name": beside}
            if field == "balancers":
                made["addresses"] = [one for one in made["addresses"] if one not in self._was[field][name]["addresses"]]
            kind = _kind(field)
            yield ChangeStep(f"build {kind} {name} anew, beside the old", (Edit("put", field, beside, made),))
            moved = []
            if field == "target_groups":
                yield from self._brought_along(name, beside)
            for where in ("pools", "names", "target_groups"):
                for user, one in self._was[where].items():
                    fields = {key: _led(value, name, beside) for key, value in one.items() if key != "name"}
                    changed = {key: value for key, value in fields.items() if value != one[key]}
                    if changed:
                        moved.append((where, user, {key: one[key] for key in changed}))
                        yield ChangeStep(
                            f"lead {_kind(where)} {user} to the new {kind} {name}", (Edit("set", where, user, changed),)
                        )
            yield ChangeStep(f"remove the old {kind} {name}, and give its name to the new", (
                Edit("drop", field, name), Edit("set", field, beside, {"name": name}),
                *(Edit("set", where, user, back) for where, user, back in moved),
                Edit("set", field, name, self._is[field][name]),
            ))  # fmt: skip

    def _brought_along(self, name: str, beside: str) -> Iterator[ChangeStep]:
        """A group that is built anew comes into the pools of the old one with weight 0."""
        for pool, one in self._was["pools"].items():
            tiers = copy.deepcopy(one["tiers"])
            for tier in tiers:
                if name in tier["groups"]:
                    tier["groups"][beside] = 0
            if tiers != one["tiers"]:
                words = f"bring the new {name} into pool {pool} with weight 0, to be proven"
                yield ChangeStep(words, (Edit("set", "pools", pool, {"tiers": tiers}),))

    def _brought_in(self) -> Iterator[ChangeStep]:
        for name, one, other in self._both("pools"):
            brought = _brought(one["tiers"], other["tiers"])
            if brought:
                tiers = copy.deepcopy(one["tiers"])
                tiers[0]["groups"] |= dict.fromkeys(brought, 0)
                words = f"bring {', '.join(brought)} into pool {name} with weight 0, to be proven"
                yield ChangeStep(words, self._change("pools", name, {"tiers": tiers}))

    def _taken_out(self) -> Iterator[ChangeStep]:
        for name, one, other in self._both("pools"):
            left = _brought(other["tiers"], one["tiers"])
            if left:
                words = f"take {', '.join(left)} out of pool {name}"
                yield ChangeStep(words, self._change("pools", name, {"tiers": other["tiers"]}))

    def _let_go(self) -> Iterator[ChangeStep]:
        """What is to be removed stops speaking of what is removed before it."""
        for (field, name), left in self.last.items():
            changed = {key: value for key, value in left.items() if value != self._was[field][name][key]}
            words = f"change {_kind(field)} {name}: {', '.join(said(key) for key in sorted(changed))}"
            yield ChangeStep(words, self._change(field, name, changed))


def without_later(plan: Plan, there: Plan) -> dict[tuple[str, str], Data]:
    """Objects of a plan that another one does not have, and that speak of what is built after them when they are built
    beside that one's: each without that, by field and name."""
    known = {kind: set(names) for kind, names in names_of(there).items()}
    new = dict[Location, tuple[str, str]]()
    for kind, name, place in definitions(plan):
        if len(place) == 2 and name not in known[kind]:
            new[place[:2]] = kind, name
    speaks = defaultdict[Location, list[Any]](list)
    for one in references(plan):
        speaks[one.location[:2]].append(one)
    early = dict[Location, list[Location]]()
    for place, (kind, name) in sorted(new.items(), key=lambda one: _built_as(one[0])):
        known[kind].add(name)
        found = [one.location for one in speaks[place] if one.kind in LATER and one.name not in known[one.kind]]
        if found and place[0] in BUILT:
            early[place] = found
    if not early:
        return {}
    left = whole_data(without(plan, [one for some in early.values() for one in some]))
    wanted = {(str(place[0]), new[place][1]) for place in early}
    return {(field, one["name"]): one for field in BUILT for one in left[field] if (field, one["name"]) in wanted}


def _built_as(place: Location) -> tuple[int, int]:
    """The place of an object among all as they are built; what is not built stands first."""
    field, index = str(place[0]), int(place[1])
    return (BUILT.index(field) if field in BUILT else -1), index


def _kind(field: str) -> str:
    return KINDS[field]


def _with_left(field: str, some: Sequence[Any], before: Sequence[Any]) -> list[Any]:
    """Entries, and those of before that are not among them."""
    mark = ENTRIES[field][1]
    known = {mark(entry) for entry in some}
    return [*some, *(entry for entry in before if mark(entry) not in known)]


def _within(field: str, entries: Sequence[Any]) -> tuple[str, ...]:
    """The names of zones or subnets."""
    return tuple(ENTRIES[field][1](entry) for entry in entries) if field in ("regions", "networks") else ()


def _all_within(field: str, one: Data) -> tuple[str, ...]:
    """The names of all zones of a region, or subnets of a network."""
    return _within(field, one[ENTRIES[field][0]]) if field in ENTRIES else ()


def _words(field: str, name: str, entries: Sequence[Any], *, come: bool) -> str:
    """That entries come, or go, in words."""
    within, targets = ", ".join(_within(field, entries)), _targets(entries) if field == "target_groups" else ""
    return {
        "regions": f"{'use' if come else 'leave'} {_counted('zone', entries)} {within} of region {name}",
        "networks": f"{'build' if come else 'remove'} {_counted('subnet', entries)} {within} "
        f"{'in' if come else 'from'} network {name}",
        "firewalls": f"allow {len(entries)} {'more' if come else 'less'} in firewall {name}",
        "target_groups": f"register {targets} in {name}" if come else f"take {targets} out of {name}",
    }[field]


def _counted(word: str, some: Sequence[Any]) -> str:
    return word if len(some) == 1 else f"{word}s"


def _targets(some: Sequence[Data]) -> str:
    """What targets are, in words."""
    ends = ({key: value for key, value in sorted(one.items()) if key not in ("port", "weight")} for one in some)
    return ", ".join(str(next(value for value in end.values() if value)) for end in ends)


def _brought(old: Sequence[Data], new: Sequence[Data]) -> list[str]:
    """The groups that come into a pool."""
    before = {name for tier in old for name in tier["groups"]}
    return [name for tier in new for name in tier["groups"] if name not in before] if old else []


def _kept_along(old: Sequence[Data], new: Sequence[Data]) -> list[Data]:
    """Tiers as they are to be, with the groups that leave at weight 0: as long as they are there, they stay proven."""
    tiers = copy.deepcopy(list(new))
    left = _brought(new, old)
    if tiers and left:
        tiers[0]["groups"] |= dict.fromkeys(left, 0)
    return tiers


def _led(value: Any, name: str, to: str) -> Any:
    """A value with another name in the place of one: as a word, in lists, and as a key."""
    if isinstance(value, dict):
        return {(to if key == name else key): _led(item, name, to) for key, item in value.items()}
    if isinstance(value, list):
        return [_led(item, name, to) for item in value]
    return to if value == name else value
