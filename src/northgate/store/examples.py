"""The plans that ship with North Gate: the demo, and smaller ones to begin from."""

from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING

from northgate.store.head import as_kept

# A store is open before plans can be read, and the other way round.
if TYPE_CHECKING:
    from northgate.plan import Plan
    from northgate.store.repository import Repository

# In the installed package, or beside it in a checkout.
FOLDERS = (Path(__file__).parents[1] / "examples", Path(__file__).parents[3] / "examples")
DEMO_PLAN = "beckwater.plan.yaml"


def example_texts() -> dict[str, str]:
    """The texts of all plans that ship, by file name, the demo first."""
    folder = next(folder for folder in FOLDERS if (folder / DEMO_PLAN).exists())
    names = sorted((path.name for path in folder.glob("*.plan.yaml")), key=lambda name: (name != DEMO_PLAN, name))
    return {name: (folder / name).read_text(encoding="utf-8") for name in names}


@cache
def example_plans() -> dict[str, tuple["Plan", str]]:
    """All plans that ship and their texts, by name, the demo first."""
    from northgate.plan import plan_from_text

    read = [(plan_from_text(text, file), text) for file, text in example_texts().items()]
    return {plan.name: (plan, text) for plan, text in read}


def demo_plan_text() -> str:
    """The text of the demo plan."""
    return example_texts()[DEMO_PLAN]


def demo_as_kept() -> tuple[str, str]:
    """The name of the demo plan, and that plan as it is kept."""
    from northgate.plan import plan_from_text

    plan = plan_from_text(demo_plan_text(), DEMO_PLAN)
    return plan.name, as_kept(plan)


def load_demo(repository: "Repository") -> None:
    """Adds the demo plan, or takes in its newer text, unless it is there already."""
    text = demo_plan_text()
    if all(repository.source(head.key, head.revision) != text for head in repository.list()):
        repository.keep(*demo_as_kept(), text)
