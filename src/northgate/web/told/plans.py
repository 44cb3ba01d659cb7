"""How a plan is told: in the list, and as a whole."""

from northgate.plan import Plan
from northgate.store.head import Head
from northgate.web.told.model import WebAnswer


class PlanHead(WebAnswer):
    """A plan in the list: where it stands, and how much there is of it; `variant`: what it is called as a variant of
    another; `unreadable`: why it cannot be read, if so."""

    key: str
    name: str
    title: str
    revision: int
    agreed: int | None
    edits: int
    can_undo: bool
    can_redo: bool
    instances: int
    zones: int
    drills: int
    variant: str | None = None
    unreadable: str | None = None


class PlanWhole(WebAnswer):
    """A plan at one revision; `document` is the plan file as JSON, with every default filled in."""

    head: PlanHead
    document: Plan


def told_head(plan: Plan, head: Head) -> PlanHead:
    """What the list says of a plan."""
    return PlanHead(
        key=head.key,
        name=plan.name,
        title=plan.title or plan.name,
        revision=head.revision,
        agreed=head.agreed,
        edits=head.edits,
        can_undo=head.can_undo,
        can_redo=head.can_redo,
        instances=len(plan.instances) + sum(fleet.count for fleet in plan.fleets),
        zones=sum(len(region.zones) for region in plan.regions),
        drills=len(plan.drills),
        variant=head.variant,
    )


def whole_text(told: PlanHead, plan: Plan) -> str:
    """A `PlanWhole` as JSON: its parts know how they are written, the whole would first have to be made ready."""
    return f'{{"head":{told.model_dump_json(by_alias=True)},"document":{plan.model_dump_json(by_alias=True)}}}'
