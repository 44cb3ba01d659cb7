"""The plan document: its models, how it is read and written, and who refers to whom. Knows nobody else.

What is named here is loaded when it is first asked for: whoever only tells what is wrong needs no models.
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from northgate.plan.models.document import Plan
    from northgate.plan.problems import PlanError, Problem
    from northgate.plan.reading import plan_from_data, plan_from_text, read_plan

__all__ = ["Plan", "PlanError", "Problem", "plan_from_data", "plan_from_text", "read_plan"]

_FOUND_IN = {
    "Plan": "models.document",
    "PlanError": "problems",
    "Problem": "problems",
    "plan_from_data": "reading",
    "plan_from_text": "reading",
    "read_plan": "reading",
}


def __getattr__(name: str) -> Any:
    if name not in _FOUND_IN:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    found = getattr(import_module(f"{__name__}.{_FOUND_IN[name]}"), name)
    globals()[name] = found
    return found
