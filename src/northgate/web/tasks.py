"""What other processes compute of the engine for the server, each a function of plain data; plans come as JSON."""

from collections.abc import Sequence
from functools import cached_property

from msgspec import Struct

from northgate.engine.drill import DrillRun, Losing, run_drill, undisturbed
from northgate.engine.network import Network, compile_network
from northgate.engine.reports import Change, LeverAnswer, ZoneLoss, levers, what_if, zone_losses
from northgate.engine.solver import Flow
from northgate.engine.trace import History, Question, trace, trace_probe
from northgate.plan import Plan, plan_from_text
from northgate.plan.models.drills import Drill
from northgate.plan.models.faults import Part
from northgate.work import Teller, as_it_is, prepared, received


def read(text: str, _told: Teller) -> Plan:
    """A plan from its text; raises PlanError."""
    return plan_from_text(text)


def compiled(plan: str, _told: Teller) -> Network:
    """A compiled plan; raises CannotRun."""
    return prepared(compile_network, plan)


def settled(plan: str, told: Teller) -> Flow:
    """The flow with no fault, of a network that who asks has himself; raises CannotRun."""
    told.shared = network = prepared(compile_network, plan)
    return undisturbed(network)


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


class Ready:
    """What what-ifs and traces of a plan begin with; raises CannotRun."""

    def __init__(self, plan: Plan) -> None:
        self.losing = Losing(compile_network(plan))

    @cached_property
    def now(self) -> Flow:
        """The flow with no fault."""
        return undisturbed(self.losing.plain)


def foresee(plan: str, _told: Teller) -> None:
    """Has a plan ready for what-ifs and traces; raises CannotRun."""
    prepared(Ready, plan)


def lost(plan: str, parts: Sequence[Part], groups: Sequence[str] | None, change: Change, told: Teller) -> str:
    """The board at the three moments of a loss or an addition (JSON)."""
    return what_if(prepared(Ready, plan).losing, parts, groups, told.watch, change).model_dump_json(by_alias=True)


class ProbeAsked(Struct, frozen=True):
    """The probe of a target, from one front where one is named."""

    group: str
    target: str
    front: str | None = None


def traced(plan: str, asked: Question | ProbeAsked, moment: bytes | None, second: float, _told: Teller) -> str:
    """What a request or a probe meets (JSON), now or at a second of a drill. `moment`: the flow then and the story of
    the drill, as they are sent without the network."""
    ready = prepared(Ready, plan)
    flow, story = received(moment, ready.losing.plain) if moment else (ready.now, None)
    history = History(flow, story, second)
    if isinstance(asked, ProbeAsked):
        return trace_probe(flow, asked.group, asked.target, asked.front, history).model_dump_json(by_alias=True)
    return trace(flow, asked, history).model_dump_json(by_alias=True)
