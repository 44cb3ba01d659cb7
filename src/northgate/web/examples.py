"""The plans that ship with North Gate: the demo, and smaller ones to begin from."""

from pathlib import Path

# In the installed package, or beside it in a checkout.
FOLDERS = (Path(__file__).parents[1] / "examples", Path(__file__).parents[3] / "examples")
DEMO_PLAN = "beckwater.plan.yaml"


def example_texts() -> dict[str, str]:
    """The texts of all plans that ship, by file name, the demo first."""
    folder = next(folder for folder in FOLDERS if (folder / DEMO_PLAN).exists())
    names = sorted((path.name for path in folder.glob("*.plan.yaml")), key=lambda name: (name != DEMO_PLAN, name))
    return {name: (folder / name).read_text(encoding="utf-8") for name in names}


def demo_plan_text() -> str:
    """The text of the demo plan."""
    return example_texts()[DEMO_PLAN]
