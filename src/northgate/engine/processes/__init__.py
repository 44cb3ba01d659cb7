"""What moves by itself between two solves."""

from northgate.engine.processes.autoscalers import Autoscaler, autoscalers
from northgate.engine.processes.backlogs import NO_CROSSING, Crossing, Growth, bounds_of_machines, growth, next_crossing
from northgate.engine.processes.demand import profile_factor
from northgate.engine.processes.fronts import Addresses
from northgate.engine.processes.holdings import Holding
from northgate.engine.processes.name_probers import counted, name_findings, votes, with_onward
from northgate.engine.processes.probers import Findings, Phases, Probers, name_beats, target_beats
from northgate.engine.processes.resolvers import AnswerHistory, Resolvers

__all__ = [
    "NO_CROSSING",
    "Addresses",
    "AnswerHistory",
    "Autoscaler",
    "Crossing",
    "Findings",
    "Growth",
    "Holding",
    "Phases",
    "Probers",
    "Resolvers",
    "autoscalers",
    "bounds_of_machines",
    "counted",
    "growth",
    "name_beats",
    "name_findings",
    "next_crossing",
    "profile_factor",
    "target_beats",
    "votes",
    "with_onward",
]
