"""Writing a plan as YAML or JSON text.

A plan that was read from YAML keeps the comments, the order and the wording of its text: only what was edited changes.
"""

import io
from typing import Any

from ruamel.yaml import YAML
from ruamel.yaml.comments import CommentedMap, CommentedSeq

from northgate.plan.models.document import Plan
from northgate.plan.problems import PlanError
from northgate.plan.reading import plan_from_text

ANEW = "# Written anew: the text that this plan was read from could not hold what has been changed.\n"


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
    if source and not source.lstrip().startswith("{"):
        text = _written(plan, source)
        if _reads_back(text, plan):
            return text
        return ANEW + _written(plan, None)
    return _written(plan, None)


def _reads_back(text: str, plan: Plan) -> bool:
    """Whether a text says the plan, in its order, too."""
    try:
        return plan_as_json(plan_from_text(text)) == plan_as_json(plan)
    except PlanError:
        return False


def _written(plan: Plan, source: str | None) -> str:
    yaml = YAML(typ="rt", pure=True)
    yaml.width = 120
    yaml.preserve_quotes = True
    yaml.indent(mapping=2, sequence=4, offset=2)
    document = yaml.load(source) if source else CommentedMap()
    whole = plan.model_dump(mode="json", by_alias=True)
    _merge_map(document, whole, plain_data(plan))
    stream = io.StringIO()
    yaml.dump(document, stream)
    return stream.getvalue()


def _merge_map(node: CommentedMap, whole: dict[str, Any], sparse: dict[str, Any]) -> None:
    """Makes a YAML mapping say what the data says: `whole` with every default, `sparse` without."""
    for key in [key for key in node if str(key) not in whole]:
        del node[key]
    written = {str(key): key for key in node}
    for key, value in whole.items():
        if key in written:
            _merge_value(node, written[key], value, sparse.get(key, value))
        elif key in sparse:
            node[key] = _new_value(sparse[key])


def _merge_value(parent: Any, key: Any, whole: Any, sparse: Any) -> None:
    node = parent[key]
    if isinstance(node, CommentedMap) and isinstance(whole, dict):
        _merge_map(node, whole, sparse if isinstance(sparse, dict) else whole)
    elif isinstance(node, CommentedSeq) and isinstance(whole, list):
        _merge_list(node, whole, sparse if isinstance(sparse, list) else whole)
    elif not _same(node, whole):
        parent[key] = _new_value(sparse)


def _merge_list(node: CommentedSeq, whole: list[Any], sparse: list[Any]) -> None:
    """Items that have a name keep their node, wherever they went; others are matched by place."""
    named = {item["name"]: item for item in node if isinstance(item, CommentedMap) and "name" in item}
    before, after = [_name_of(item) for item in node], [_name_of(item) for item in whole]
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
