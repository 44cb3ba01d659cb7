"""Writing a plan as YAML or JSON text.

A plan that was read from YAML keeps the comments, the order and the wording of its text: only what was edited changes.
"""

import io
import re
from collections.abc import Iterator
from typing import Any

from msgspec import Struct
from ruamel.yaml import YAML
from ruamel.yaml.comments import Comment, CommentedMap, CommentedSeq

from northgate.plan.models.document import Plan
from northgate.plan.problems import PlanError
from northgate.plan.reading import plan_from_text
from northgate.plan.text.laying import laid_over

ANEW = "# Written anew: the text that this plan was read from could not hold what has been changed.\n"
# Lines are no longer than this, or than the longest of the text that is kept.
WIDTH = 120
# A line of YAML: its dash and what stands behind that, without comments; and what holds what stands below it.
_LINE = re.compile(r"(?P<indent> *)(?P<dash>- +)?(?P<rest>(?:[^\s#].*)?)")
_HOLDS = re.compile(r":\s*(#.*)?$")


class _Style(Struct, frozen=True):
    """How a text is laid out: how long its lines are, and how far mappings, the entries of lists and their dashes stand
    to the right of what holds them."""

    width: int = WIDTH
    mapping: int = 2
    entry: int = 4
    dash: int = 2


USUAL = _Style()


def plain_data(plan: Plan) -> dict[str, Any]:
    """The plan as JSON would hold it, without what is as by default."""
    return {"northgate": plan.northgate, **plan.model_dump(mode="json", by_alias=True, exclude_defaults=True)}


def plan_as_json(plan: Plan) -> str:
    """The plan file as JSON."""
    return plan.model_dump_json(by_alias=True, exclude_defaults=True, indent=2) + "\n"


def plan_as_yaml(plan: Plan, source: str | None = None) -> str:
    """The plan file as YAML; `source` is the YAML text that an earlier state of it was read from.

    What is written is read back: where the old text cannot hold the plan, as when two objects share an anchor, it is
    written without it, which is said on top.
    """
    if not source or source.lstrip().startswith("{"):
        return _written(plan, CommentedMap())
    for text in _kept(plan, source.replace("\r\n", "\n")):
        if _reads_back(text, plan):
            return text
    return ANEW + _written(plan, CommentedMap())


def _kept(plan: Plan, source: str) -> Iterator[str]:
    """The text with what has changed, in several ways, the best first: the last one writes all of it again."""
    style, written = _style_of(source), list[str]()
    for bare in (False, True):
        document = _yaml(style).load(source)
        if bare:
            # Some comments are written so that nobody can read what stands beside them.
            _uncomment(document)
        before = _dumped(document, style)
        written.append(_written(plan, document, style))
        yield laid_over(source, before, written[-1])
    yield written[0]


def _uncomment(node: Any) -> None:
    """Takes all comments from a document."""
    if isinstance(node, CommentedMap | CommentedSeq):
        if hasattr(node, Comment.attrib):
            delattr(node, Comment.attrib)
        for item in node.values() if isinstance(node, CommentedMap) else node:
            _uncomment(item)


def _reads_back(text: str, plan: Plan) -> bool:
    """Whether a text says the plan, in its order, too."""
    try:
        return plan_as_json(plan_from_text(text)) == plan_as_json(plan)
    except PlanError:
        return False


def _written(plan: Plan, document: CommentedMap, style: _Style = USUAL) -> str:
    """A document that says a plan, and keeps what it can of what it said before."""
    _merge_map(document, plan.model_dump(mode="json", by_alias=True), plain_data(plan))
    return _dumped(document, style)


def _dumped(document: CommentedMap, style: _Style) -> str:
    stream = io.StringIO()
    _yaml(style).dump(document, stream)
    return stream.getvalue()


def _style_of(source: str) -> _Style:
    """The style of a text, as its first mapping and its first list have it."""
    found, above = dict[str, int](), _LINE.match("")
    for line in source.splitlines():
        here = _LINE.match(line)
        if not here or not here["rest"]:
            continue
        if above and _HOLDS.search(above["rest"]):
            to_right = here.start("rest" if not here["dash"] else "dash") - above.start("rest")
            if here["dash"] and to_right >= 0:
                found.setdefault("dash", to_right)
                found.setdefault("entry", to_right + len(here["dash"]))
            elif not here["dash"] and to_right > 0:
                found.setdefault("mapping", to_right)
        above = here
    return _Style(max(WIDTH, *map(len, source.splitlines())), **found)


def _yaml(style: _Style) -> YAML:
    yaml = YAML(typ="rt", pure=True)
    yaml.width = style.width
    yaml.preserve_quotes = True
    yaml.indent(mapping=style.mapping, sequence=style.entry, offset=style.dash)
    return yaml


def _merge_map(node: CommentedMap, whole: dict[str, Any], sparse: dict[str, Any]) -> None:
    """Makes a YAML mapping say what the data says: `whole` with every default, `sparse` without."""
    written = dict(zip(_called([str(key) for key in node], list(whole)), list(node), strict=True))
    for name, key in written.items():
        if name not in whole:
            del node[key]
        elif name != str(key):
            _rename(node, key, name)
    written = {str(key): key for key in node}
    for key, value in whole.items():
        if key in written:
            _merge_value(node, written[key], value, sparse.get(key, {} if isinstance(value, dict) else value))
        elif key in sparse:
            node[key] = _new_value(sparse[key])
    if list(sparse) == list(whole) != [str(key) for key in node]:
        _put_in_order(node, list(whole))


def _put_in_order(node: CommentedMap, names: list[str]) -> None:
    """Moves the values of a mapping of which the order says something, as that of zones does, with their comments."""
    keys, comments = {str(key): key for key in node}, dict(node.ca.items)
    for name in names:
        node[keys[name]] = node.pop(keys[name])
    node.ca.items.update(comments)


def _rename(node: CommentedMap, key: Any, name: str) -> None:
    """Gives a value another key, at the same place and with what stands behind it."""
    place, comment = list(node).index(key), node.ca.items.pop(key, None)
    node.insert(place, name, node.pop(key))
    if comment:
        node.ca.items[name] = comment


def _merge_value(parent: Any, key: Any, whole: Any, sparse: Any) -> None:
    node = parent[key]
    if whole == [] and node:
        # What stands around items has no place any more.
        parent.ca.items.pop(key, None)
        parent[key] = _new_value(whole)
    elif isinstance(node, CommentedMap) and isinstance(whole, dict):
        _merge_map(node, whole, sparse if isinstance(sparse, dict) else whole)
    elif isinstance(node, CommentedSeq) and isinstance(whole, list):
        _merge_list(node, whole, sparse if isinstance(sparse, list) else whole)
    elif not _same(node, whole):
        parent[key] = _new_value(sparse)


def _merge_list(node: CommentedSeq, whole: list[Any], sparse: list[Any]) -> None:
    """Items that have a name keep their node, wherever they went, and whatever they are called now; others are matched
    by place."""
    after = [_name_of(item) for item in whole]
    before = _called([_name_of(item) for item in node], after)
    named = {name: item for name, item in zip(before, node, strict=True) if name is not None}
    if before != after[: len(before)] and named:
        kept = [named.get(_name_of(item), _new_value(sparse[index])) for index, item in enumerate(whole)]
        # What stands between items hangs on the one before: it goes along with that.
        heading, between = node.ca.comment, {name: node.ca.items.get(at) for at, name in enumerate(before)}
        node[:] = kept
        node.ca.comment = heading
        node.ca.items.clear()
        node.ca.items.update({at: between[name] for at, name in enumerate(after) if between.get(name)})
    del node[len(whole) :]
    for index, item in enumerate(whole):
        if index < len(node):
            _merge_value(node, index, item, sparse[index])
        else:
            node.append(_new_value(sparse[index]))


def _name_of(item: Any) -> Any:
    return item.get("name") if isinstance(item, dict) else None


def _called(before: list[Any], after: list[Any]) -> list[Any]:
    """Names as they were, and as they are now where one came in the place of another, of as many."""
    if len(before) != len(after):
        return before
    return [new if old not in after and new not in before else old for old, new in zip(before, after, strict=True)]


def _same(node: Any, value: Any) -> bool:
    """Whether a YAML scalar says a value already: a date says its text, 443 the port range "443", 1 the number 1.0."""
    if isinstance(node, bool) or isinstance(value, bool):
        return node is value
    return node == value or (isinstance(value, str) and node is not None and str(node) == value)


def _new_value(value: Any) -> Any:
    """Plain data for YAML: whole numbers without a point, small lists and mappings on one line."""
    if isinstance(value, float) and value.is_integer() and abs(value) < 1e15:
        return int(value)
    if isinstance(value, dict):
        made = CommentedMap((key, _new_value(item)) for key, item in value.items())
        if all(not isinstance(item, dict | list) for item in value.values()) and len(value) <= 6:
            made.fa.set_flow_style()
        return made
    if isinstance(value, list):
        items = CommentedSeq([_new_value(item) for item in value])
        if all(not isinstance(item, dict | list) for item in value):
            items.fa.set_flow_style()
        return items
    return value
