"""The steps from one plan to another, in an order in which nothing is used before it is there and proven.

First what is new is built, in the order in which one thing refers to another. New targets are registered, and groups
that come into a pool come with weight 0, so that they are proven before anything is sent there. Then settings change,
from the foot up; names last. What is left is unregistered and removed, from the top down. What can only be replaced is
built anew beside the old, what leads to the old is moved, and the old is removed.

Clients, areas, prices and notes are no steps: they are what the later plan says from the beginning.
"""

import copy
from collections.abc import Iterator, Sequence
from typing import Any, Literal

from msgspec import Struct

from northgate.plan import Plan, plan_from_data
from northgate.plan.difference import KINDS, difference
from northgate.plan.editing import whole_data
from northgate.plan.models.words import said

Data = dict[str, Any]
Op = Literal["put", "drop", "set", "extend", "reduce"]

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
# What the later plan says from the beginning.
ASSUMED = ("areas", "clients", "platform", "reliability", "accepted", "title", "notes")
ANEW = "-anew"


class Edit(Struct, frozen=True):
    """One edit of a plan by name: of the object `name` in the list `field`; `value` is the object itself (put), the
    fields that change (set), or items of its list `key` (extend, reduce)."""

    op: Op
    field: str
    name: str
    value: Any = None
    key: str = ""

    def apply(self, data: Data) -> None:
        """Makes the edit."""
        items = data[self.field]
        place = next((at for at, one in enumerate(items) if one["name"] == self.name), None)
        if self.op == "put":
            items.append(copy.deepcopy(self.value))
        elif place is None:
            return
        elif self.op == "drop":
            del items[place]
        elif self.op == "set":
            items[place] |= copy.deepcopy(self.value)
        elif self.op == "extend":
            items[place][self.key] = [*items[place][self.key], *copy.deepcopy(self.value)]
        else:
            items[place][self.key] = [one for one in items[place][self.key] if one not in self.value]


class ChangeStep(Struct, frozen=True):
    """One step: what is done, in words, by which edits, which steps (by number) must come before, and for how long it
    is looked at, at the least (s)."""

    words: str
    edits: tuple[Edit, ...]
    needs: tuple[int, ...] = ()
    seen_s: float = 0.0

    def apply(self, plan: Plan) -> Plan:
        """The plan after this step."""
        data = whole_data(plan)
        for edit in self.edits:
            edit.apply(data)
        return plan_from_data(data)


def begun(before: Plan, after: Plan) -> Plan:
    """The earlier plan under the assumptions of the later one; without drills, which speak of what is not there yet."""
    data, new = whole_data(before), whole_data(after)
    return plan_from_data(data | {field: new[field] for field in ASSUMED} | {"drills": []})


def steps_between(before: Plan, after: Plan) -> list[ChangeStep]:
    """The steps from one plan to another, each with those that it needs."""
    old, new = whole_data(before), whole_data(after)
    found = list(_Between(old, new, _replaced(before, after)).steps())
    return [_with_needs(at, step, found, old) for at, step in enumerate(found)]


def build_steps(plan: Plan) -> list[ChangeStep]:
    """The steps from nothing to a plan: every object of it, what it stands on first."""
    return list(_Between({field: [] for field in BUILT}, whole_data(plan), set()).steps())


def _replaced(before: Plan, after: Plan) -> set[tuple[str, str]]:
    """The balancers and groups that can only be replaced."""
    lists = {kind: field for field, kind in KINDS.items()}
    made = set()
    for one in difference(before, after):
        kind = next((kind for kind in ("balancer", "target group") if one.about.startswith(f"{kind} ")), None)
        if one.effect == "replace" and kind:
            made.add((lists[kind], one.about.removeprefix(f"{kind} ")))
    return made


class _Between:
    """The steps between the data of two plans."""

    def __init__(self, old: Data, new: Data, replaced: set[tuple[str, str]]) -> None:
        self.replaced = replaced
        self._was = {field: {one["name"]: one for one in old[field]} for field in BUILT}
        self._is = {field: {one["name"]: one for one in new[field]} for field in BUILT}

    def steps(self) -> Iterator[ChangeStep]:
        """All steps, in order."""
        for field in BUILT:
            for name, one in self._is[field].items():
                if name not in self._was[field]:
                    verb = "use" if field == "regions" else "build"
                    yield ChangeStep(f"{verb} {_kind(field)} {name}", (Edit("put", field, name, one),))
        # What targets stand on is as it is to be before they are registered: else they are never proven.
        yield from self._wider_firewalls()
        for field in BELOW:
            yield from self._set(field)
        yield from self._anew()
        yield from self._registered()
        for field in CHANGED:
            if field not in BELOW:
                yield from self._set(field)
        yield from self._narrower()
        for field in reversed(BUILT):
            for name in self._was[field]:
                if name not in self._is[field]:
                    yield ChangeStep(f"remove {_kind(field)} {name}", (Edit("drop", field, name),))

    def _both(self, field: str) -> Iterator[tuple[str, Data, Data]]:
        """What both plans have, and differs."""
        for name, one in self._was[field].items():
            other = self._is[field].get(name)
            if other is not None and other != one and (field, name) not in self.replaced:
                yield name, one, other

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

    def _wider_firewalls(self) -> Iterator[ChangeStep]:
        for name, one, other in self._both("firewalls"):
            more = [rule for rule in other["allow_in"] if rule not in one["allow_in"]]
            if more:
                yield ChangeStep(
                    f"allow {len(more)} more in firewall {name}", (Edit("extend", "firewalls", name, more, "allow_in"),)
                )

    def _registered(self) -> Iterator[ChangeStep]:
        for name, one, other in self._both("target_groups"):
            more = _only_in(other["targets"], one["targets"])
            if more:
                yield ChangeStep(
                    f"register {_targets(more)} in {name}", (Edit("extend", "target_groups", name, more, "targets"),)
                )
        for name, one, other in self._both("pools"):
            brought = _brought(one["tiers"], other["tiers"])
            if brought:
                tiers = copy.deepcopy(one["tiers"])
                tiers[0]["groups"] |= dict.fromkeys(brought, 0)
                words = f"bring {', '.join(brought)} into pool {name} with weight 0, to be proven"
                yield ChangeStep(words, (Edit("set", "pools", name, {"tiers": tiers}),))

    def _set(self, field: str) -> Iterator[ChangeStep]:
        """What changes in place of what stays; rules and targets that go, go later."""
        for name, one, other in self._both(field):
            changed = {key: value for key, value in other.items() if value != one[key]}
            if field == "firewalls":
                changed.pop("allow_in", None)
            if field == "target_groups" and "targets" in changed:
                left = [
                    target for target in one["targets"] if _end(target) not in [_end(each) for each in other["targets"]]
                ]
                weights = [*other["targets"], *left]
                if any(target in weights for target in one["targets"]) and all(
                    target in weights for target in one["targets"]
                ):
                    del changed["targets"]
                else:
                    changed["targets"] = weights
            if field == "pools" and "tiers" in changed:
                changed["tiers"] = _kept_along(one["tiers"], other["tiers"])
            if changed:
                yield ChangeStep(
                    f"change {_kind(field)} {name}: {', '.join(said(key) for key in sorted(changed))}",
                    (Edit("set", field, name, changed),),
                )

    def _narrower(self) -> Iterator[ChangeStep]:
        for name, one, other in self._both("pools"):
            left = _brought(other["tiers"], one["tiers"])
            if left:
                words = f"take {', '.join(left)} out of pool {name}"
                yield ChangeStep(words, (Edit("set", "pools", name, {"tiers": other["tiers"]}),))
        for name, one, other in self._both("target_groups"):
            less = _only_in(one["targets"], other["targets"])
            if less:
                yield ChangeStep(
                    f"take {_targets(less)} out of {name}", (Edit("reduce", "target_groups", name, less, "targets"),)
                )
        for name, one, other in self._both("firewalls"):
            less = [rule for rule in one["allow_in"] if rule not in other["allow_in"]]
            if less:
                yield ChangeStep(
                    f"allow {len(less)} less in firewall {name}", (Edit("reduce", "firewalls", name, less, "allow_in"),)
                )


def _kind(field: str) -> str:
    return KINDS[field]


def _end(target: Data) -> tuple[Any, ...]:
    """What a target is, whatever its weight."""
    return tuple(sorted((key, str(value)) for key, value in target.items() if key != "weight" and value is not None))


def _only_in(some: Sequence[Data], others: Sequence[Data]) -> list[Data]:
    ends = {_end(one) for one in others}
    return [one for one in some if _end(one) not in ends]


def _targets(some: Sequence[Data]) -> str:
    return ", ".join(str(next(value for key, value in _end(one) if key != "port")) for one in some)


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


def _words_in(value: Any) -> set[str]:
    """All words in a value, keys too."""
    if isinstance(value, dict):
        return {str(key) for key in value} | {word for item in value.values() for word in _words_in(item)}
    if isinstance(value, list):
        return {word for item in value for word in _words_in(item)}
    return {value} if isinstance(value, str) else set()


def _with_needs(at: int, step: ChangeStep, every: Sequence[ChangeStep], old: Data) -> ChangeStep:
    """A step with those before it that build what it refers to, stop referring to what it removes, or change the same
    thing."""
    refers = {word for edit in step.edits for word in _words_in(edit.value)}
    drops = {edit.name for edit in step.edits if edit.op == "drop"}
    users = {
        (field, one["name"])
        for field in BUILT
        for one in old[field]
        if drops & _words_in({key: value for key, value in one.items() if key != "name"})
    }
    needs = []
    for number, other in enumerate(every[:at]):
        builds = {edit.name for edit in other.edits if edit.op == "put"}
        lets_go = {(edit.field, edit.name) for edit in other.edits if edit.op != "put"}
        same = {(edit.field, edit.name) for edit in step.edits} & lets_go
        if builds & refers or users & lets_go or same:
            needs.append(number)
    return ChangeStep(step.words, step.edits, tuple(needs))
