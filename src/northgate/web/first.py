"""What is asked first of the one plan that a store keeps, answered before the server has loaded what answers all else:
the list, the plan, and its board now."""

from northgate.engine.drill import undisturbed
from northgate.engine.network import compile_network
from northgate.engine.reports import board_state
from northgate.plan import plan_from_text
from northgate.store.head import Head
from northgate.web.door.ahead import Answers
from northgate.web.told.plans import told_head, whole_text


def first_answers(head: Head, document: str) -> Answers:
    """What will be asked first of a plan, given as it is kept. Raises PlanError, and CannotRun."""
    plan = plan_from_text(document, head.key, is_json=True)
    state = board_state(undisturbed(compile_network(plan)))
    told, path = told_head(plan, head), f"/api/plans/{head.key}"
    return {
        ("/api/plans", ""): f"[{told.model_dump_json(by_alias=True)}]".encode(),
        (path, ""): whole_text(told, plan).encode(),
        (f"{path}/state", f"revision={head.revision}"): state.model_dump_json(by_alias=True).encode(),
    }
