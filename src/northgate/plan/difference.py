"""The difference between two plans in words, object by object, each change marked in place or replace."""

from collections.abc import Iterator, Sequence
from typing import Any, Literal

from msgspec import Struct
from msgspec.structs import replace

from northgate.plan.editing import patched, renaming, whole_data
from northgate.plan.models.document import Plan
from northgate.plan.models.words import said, unit
from northgate.plan.problems import Location, pointer

KINDS = {
    "regions": "region", "areas": "area", "networks": "network", "firewalls": "firewall", "instances": "instance",
    "fleets": "fleet", "probes": "probe", "target_groups": "target group", "pools": "pool",
    "certificates": "certificate", "balancers": "balancer", "names": "name", "clients": "client group",
    "drills": "drill",
}  # fmt: skip
_SINGULAR = {"balancers": "balancer", "target_groups": "target_group", "names": "name", "clients": "client"}
_KIND_WORDS = {"target_group": "target group", "client": "client group"}

Effect = Literal["in place", "replace", "added", "removed"]


class Change(Struct, frozen=True):
    """One difference: what it is about, in words, and whether it can be made in place or replaces the thing; `where`:
    the JSON Pointer of the object in the later plan, or in the earlier where it is gone."""

    about: str
    words: str
    effect: Effect
    where: str = ""


def difference(before: Plan, after: Plan) -> list[Change]:
    """What `after` has other than `before`, in document order; its `platform.replace_only` says what replaces."""
    replace_only = set(after.platform.replace_only)
    changes: list[Change] = []
    for kind, was, now in renames(before, after):
        before = patched(before, renaming(before, kind, was, now))
        effect: Effect = "replace" if f"{kind}.name" in replace_only else "in place"
        changes.append(Change(f"{_KIND_WORDS.get(kind, kind)} {now}", f"name {now}, was {was}", effect))
    old, new = whole_data(before), whole_data(after)
    changes += [
        Change("plan", _told(field, old[field], new[field]), "in place")
        for field in ("name", "title", "notes")
        if old[field] != new[field]
    ]
    for field, kind in KINDS.items():
        found = list(_in_list(kind, _singular(field), old[field], new[field], replace_only))
        changes += [replace(one, where=_where(field, one.about, old[field], new[field])) for one in found]
    for field in ("platform", "reliability"):
        inside = _in_value("", old[field], new[field])
        changes += [Change(field, words, "in place", pointer((field,))) for _, words in inside]
    return [*changes, *_reasons(before, after)]


def _where(field: str, about: str, old: list[Any], new: list[Any]) -> str:
    """The JSON Pointer of the object of a list that a change is about; the list itself if it is about that."""
    for items in (new, old):
        for index, item in enumerate(items):
            if about.endswith(f" {item['name']}"):
                return pointer((field, index))
    return pointer((field,))


def _reasons(before: Plan, after: Plan) -> Iterator[Change]:
    """Findings that are left as they are, or taken up again."""
    old, new = ({(one.code, one.about): one.because for one in plan.accepted} for plan in (before, after))
    for code, about in dict.fromkeys([*old, *new]):
        was, now = old.get((code, about)), new.get((code, about))
        if was != now:
            words = f"left as it is, because {now}" if now is not None else "taken up again"
            yield Change(f"finding {code} of {about}", words, "in place", pointer(("accepted",)))


def renames(before: Plan, after: Plan) -> Iterator[tuple[str, str, str]]:
    """Objects of `after` that are objects of `before` by another name, as (kind, name before, name after)."""
    for field in KINDS:
        yield from _renamed_in(_singular(field), getattr(before, field), getattr(after, field))
    networks = {network.name: network for network in before.networks}
    for network in after.networks:
        if network.name in networks:
            yield from _renamed_in("subnet", networks[network.name].subnets, network.subnets)


def _renamed_in(kind: str, old: Sequence[Any], new: Sequence[Any]) -> Iterator[tuple[str, str, str]]:
    """What is gone and what is new, told as one where nothing else has changed; or where, at the same place of as long
    a list, most of what is not by default has stayed."""
    before, after = {one.name for one in old}, {one.name for one in new}
    added = {one.name: (place, _own(one)) for place, one in enumerate(new) if one.name not in before}
    for place, one in enumerate(old):
        if one.name in after:
            continue
        own = _own(one)
        for name, (other, theirs) in added.items():
            if own == theirs or (place == other and len(old) == len(new) and _mostly(own, theirs)):
                yield kind, one.name, name
                del added[name]
                break


def _own(item: Any) -> dict[str, Any]:
    """What an object has of its own: what is not by default, without its name."""
    own: dict[str, Any] = item.model_dump(mode="json", by_alias=True, exclude_defaults=True, exclude={"name"})
    return own


def _mostly(one: dict[str, Any], other: dict[str, Any]) -> bool:
    fields = {*one, *other}
    same = [field for field in fields if one.get(field) == other.get(field)]
    return 2 * len(same) >= len(fields)


def _singular(field: str) -> str:
    return _SINGULAR.get(field, field.rstrip("s"))


def _in_list(kind: str, singular: str, old: list[Any], new: list[Any], replace_only: set[str]) -> Iterator[Change]:
    before, after = ({item["name"]: item for item in items} for items in (old, new))
    for name in before:
        if name not in after:
            yield Change(f"{kind} {name}", "removed", "removed")
    for name, item in after.items():
        if name not in before:
            yield Change(f"{kind} {name}", "added", "added")
            continue
        for place, words in _in_value("", before[name], item):
            replaces = _rule_of(singular, place) in replace_only
            yield Change(f"{kind} {name}", words, "replace" if replaces else "in place")
    kept = [name for name in before if name in after]
    if kept != [name for name in after if name in before]:
        yield Change(f"{kind}s", "other order", "in place")


def _rule_of(singular: str, place: str) -> str:
    """A place as `replace_only` names it: `balancer.exposure`, `listener.port`."""
    inside = [part for part in place.split("/") if part and not part.isdigit()]
    if inside and inside[0] == "listeners" and len(inside) > 1:
        return f"listener.{inside[-1]}"
    return f"{singular}.{inside[0]}" if inside else singular


def _in_value(place: str, old: Any, new: Any) -> Iterator[tuple[str, str]]:
    """Every leaf that differs, as (place, words)."""
    if old == new:
        return
    if isinstance(old, dict) and isinstance(new, dict):
        for key in dict.fromkeys([*old, *new]):
            yield from _in_value(f"{place}/{key}", old.get(key), new.get(key))
    elif isinstance(old, list) and isinstance(new, list) and _named(old) and _named(new):
        yield from _in_named(place, old, new)
    elif isinstance(old, list) and isinstance(new, list) and len(old) == len(new):
        for index, (one, other) in enumerate(zip(old, new, strict=True)):
            yield from _in_value(f"{place}/{index}", one, other)
    else:
        yield place, _told(place, old, new)


def _named(items: list[Any]) -> bool:
    return bool(items) and all(isinstance(item, dict) and "name" in item for item in items)


def _in_named(place: str, old: list[Any], new: list[Any]) -> Iterator[tuple[str, str]]:
    for was, now in _names_changed(old, new):
        yield f"{place}/{now}", f"{_label(f'{place}/{now}')}, was named {was}"
        old = [one | {"name": now} if one["name"] == was else one for one in old]
    before, after = ({item["name"]: item for item in items} for items in (old, new))
    for name in dict.fromkeys([*before, *after]):
        inner = f"{place}/{name}"
        if name not in after:
            yield inner, f"{_label(inner)} removed"
        elif name not in before:
            yield inner, f"{_label(inner)} added"
        else:
            yield from _in_value(inner, before[name], after[name])
    order = [name for name in after if name in before]
    if order != [name for name in before if name in after]:
        yield place, f"{_label(place)} in another order: {', '.join(order)}"


def _names_changed(old: list[Any], new: list[Any]) -> list[tuple[str, str]]:
    """Entries of a list of which nothing but the name has changed."""
    before, after = ({item["name"]: item for item in items} for items in (old, new))
    gone, come = ([one for one in mine if one["name"] not in others] for mine, others in ((old, after), (new, before)))
    return [
        (one["name"], other["name"])
        for one, other in zip(gone, come, strict=False)
        if one | {"name": other["name"]} == other
    ]


def place_words(plan: Plan, location: Location) -> str:
    """A place in the plan as people call it: `pool web: tiers 1 groups`."""
    field, *way = str(location[0]), *location[1:]
    here: Any = whole_data(plan)[field]
    if field not in KINDS or not way:
        return said(field)
    about, words = f"{KINDS[field]} {here[way[0]]['name']}", list[str]()
    here = here[way[0]]
    for part in way[1:]:
        here = here[part]
        own = here.get("name") if isinstance(here, dict) else None
        words.append(own or (str(part + 1) if isinstance(part, int) else said(part)))
    return f"{about}: {' '.join(words)}" if words else about


def _label(place: str) -> str:
    return " ".join(f"{int(part) + 1}" if part.isdigit() else said(part) for part in place.split("/") if part)


def _told(place: str, old: Any, new: Any) -> str:
    measured = unit(place.rpartition("/")[2])
    spaced = "" if measured in ("", "/s") else " "
    return f"{_label(place)} {_shown(new, spaced + measured)}, was {_shown(old, spaced + measured)}"


def _shown(value: Any, unit: str) -> str:
    if value is None or value in ("", [], {}):
        return "nothing"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float | int):
        return f"{value:g}{unit}"
    if isinstance(value, dict):
        return ", ".join(f"{said(key)} {_shown(item, '')}" for key, item in value.items() if item not in (None, [], {}))
    if isinstance(value, list):
        plain = all(isinstance(item, str) for item in value)
        return ", ".join(value) if plain else f"{len(value)} entr{'y' if len(value) == 1 else 'ies'}"
    return str(value)
