"""The plans that ship with North Gate: the demo, and smaller ones to begin from."""

from functools import cache
from pathlib import Path

from northgate.plan import Plan, plan_from_text

# In the installed package, or beside it in a checkout.
FOLDERS = (Path(__file__).parents[1] / "examples", Path(__file__).parents[3] / "examples")
DEMO_PLAN = "beckwater.plan.yaml"


def example_texts() -> dict[str, str]:
    """The texts of all plans that ship, by file name, the demo first."""
    folder = next(folder for folder in FOLDERS if (folder / DEMO_PLAN).exists())
    names = sorted((path.name for path in folder.glob("*.plan.yaml")), key=lambda name: (name != DEMO_PLAN, name))
    return {name: (folder / name).read_text(encoding="utf-8") for name in names}


@cache
def example_plans() -> dict[str, tuple[Plan, str]]:
    """All plans that ship and their texts, by name, the demo first."""
    read = [(plan_from_text(text, file), text) for file, text in example_texts().items()]
    return {plan.name: (plan, text) for plan, text in read}


def demo_plan_text() -> str:
    """The text of the demo plan."""
    return example_texts()[DEMO_PLAN]
