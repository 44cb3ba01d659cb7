"""What other processes compute for the server, each a function of plain data; plans come as JSON."""

import datetime
from collections.abc import Sequence

from northgate.change import Rehearsed, UsualMade, rehearsed, usual
from northgate.change.asked import Given
from northgate.engine.drill import DrillRun, Losing, run_drill
from northgate.engine.network import Network, compile_network
from northgate.engine.reports import LeverAnswer, ZoneLoss, levers, zone_losses
from northgate.handover.sheet import export
from northgate.plan import Plan, plan_from_text
from northgate.plan.models.drills import Drill
from northgate.work import Teller, as_it_is, prepared


def read(text: str, _told: Teller) -> Plan:
    """A plan from its text; raises PlanError."""
    return plan_from_text(text)


def compiled(plan: str, _told: Teller) -> Network:
    """A compiled plan; raises CannotRun."""
    return prepared(compile_network, plan)


def drill(plan: str, wanted: Drill, told: Teller) -> DrillRun:
    """A drill, run, of a network that who asks has himself; raises CannotRun."""
    told.shared = network = prepared(compile_network, plan)
    return run_drill(network, wanted, reached=told)


def levers_of(plan: str, name: str, told: Teller) -> list[LeverAnswer]:
    """What would have helped a drill most."""
    return levers(prepared(as_it_is, plan), name, told.watch)


def losses_of_zones(plan: str, told: Teller) -> list[ZoneLoss]:
    """What each zone's loss leaves."""
    return zone_losses(Losing(prepared(compile_network, plan)), told.watch)


def change(before: str, after: str, order: Sequence[tuple[int, float | None]] | None, told: Teller) -> Rehearsed:
    """A change, rehearsed."""
    return rehearsed(prepared(as_it_is, before), prepared(as_it_is, after), order, told=told)


def usual_change(plan: str, code: str, given: Given, told: Teller) -> UsualMade:
    """A usual change, rehearsed."""
    return usual(prepared(as_it_is, plan), code, given, told)


def exported(plan: str, kind: str, today: datetime.date, _told: Teller) -> str:
    """A plan for those who build it."""
    return export(prepared(as_it_is, plan), kind, today)
