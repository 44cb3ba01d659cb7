"""Writing a plan as YAML or JSON text."""

import io
from typing import Any

from ruamel.yaml import YAML

from northgate.plan.document import Plan


def plain_data(plan: Plan) -> dict[str, Any]:
    """The plan as JSON would hold it, with only what was given."""
    return plan.model_dump(mode="json", by_alias=True, exclude_unset=True)


def plan_as_json(plan: Plan) -> str:
    """The plan file as JSON."""
    return plan.model_dump_json(by_alias=True, exclude_unset=True, indent=2) + "\n"


def plan_as_yaml(plan: Plan) -> str:
    """The plan file as YAML."""
    yaml = YAML(typ="safe", pure=True)
    yaml.sort_base_mapping_type_on_output = False  # type: ignore[assignment]
    yaml.width = 120
    stream = io.StringIO()
    yaml.dump(plain_data(plan), stream)
    return stream.getvalue()
