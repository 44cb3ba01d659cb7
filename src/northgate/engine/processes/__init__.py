"""What moves by itself between two solves."""

from northgate.engine.processes.autoscalers import Autoscaling
from northgate.engine.processes.backlogs import Backlogs, Growth, growth
from northgate.engine.processes.fronts import Fronts, Withdrawals
from northgate.engine.processes.holdings import Holdings
from northgate.engine.processes.keyed import Keyed
from northgate.engine.processes.name_probers import NameChecks, Names, Vote
from northgate.engine.processes.naming.anew import Anew, Followed, Past
from northgate.engine.processes.naming.resolvers import AnswerHistory, Resolvers
from northgate.engine.processes.probers import Probers
from northgate.engine.processes.probing.beats import Phases
from northgate.engine.processes.process import Entry, Process
from northgate.engine.processes.targets import TargetChecks, Targets, Verdicts, usable
from northgate.engine.processes.transitions import Drains, Warmup
from northgate.engine.processes.world import Demand, World, profile_factor

__all__ = [
    "Anew",
    "AnswerHistory",
    "Autoscaling",
    "Backlogs",
    "Demand",
    "Drains",
    "Entry",
    "Followed",
    "Fronts",
    "Growth",
    "Holdings",
    "Keyed",
    "NameChecks",
    "Names",
    "Past",
    "Phases",
    "Probers",
    "Process",
    "Resolvers",
    "TargetChecks",
    "Targets",
    "Verdicts",
    "Vote",
    "Warmup",
    "Withdrawals",
    "World",
    "growth",
    "profile_factor",
    "usable",
]
