"""Of whom it is asked: the fleets in use, and what may be lost."""

from northgate.engine.network import Network
from northgate.engine.reports.losses import alike
from northgate.plan import Plan
from northgate.plan.models.faults import Part
from northgate.sizing.answers import Survive


def fleets_in_use(plan: Plan) -> list[str]:
    """The fleets of which somebody is a target."""
    targets = [target for group in plan.target_groups for target in group.targets]
    used, tags = {target.fleet for target in targets}, {target.tagged for target in targets}
    return [one.name for one in plan.fleets if one.name in used or tags & set(one.instance.tags)]


def lost_parts(network: Network, survive: Survive) -> list[Part]:
    """One part of every class that may be lost."""
    return [one.part for one in alike(network) if one.kind == survive]
