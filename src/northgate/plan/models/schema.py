"""The published JSON Schema (draft 2020-12) of the plan file, generated from the models."""

from typing import Any

from northgate.plan.models.document import Plan


def plan_schema() -> dict[str, Any]:
    """The JSON Schema of `*.plan.yaml`, version 1."""
    schema = Plan.model_json_schema(by_alias=True)
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$id": "urn:northgate:plan:1",
        **schema,
        "title": "North Gate plan, version 1",
    }
