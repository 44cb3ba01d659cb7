"""What views and terminals ask of the engine, as documents."""

from northgate.engine.reports.board.berths import proofs_at
from northgate.engine.reports.board.model import BoardState
from northgate.engine.reports.board.state import board_state
from northgate.engine.reports.consequences import ProbeConsequence, probe_consequence
from northgate.engine.reports.drill import (
    BlindAnswer,
    DrillAnswer,
    ExpectationAnswer,
    PhasesAnswer,
    drill_answer,
    phases_answer,
)
from northgate.engine.reports.levers import LeverAnswer, levers
from northgate.engine.reports.model import AnswerModel
from northgate.engine.reports.rules import ListenerRules, listener_rules
from northgate.engine.reports.strips import FoldedStrip, Strip, folded_strips, strips
from northgate.engine.reports.whatif import Change, WhatIfAnswer, ZoneLoss, what_if, zone_losses

__all__ = [
    "AnswerModel",
    "BlindAnswer",
    "BoardState",
    "Change",
    "DrillAnswer",
    "ExpectationAnswer",
    "FoldedStrip",
    "LeverAnswer",
    "ListenerRules",
    "PhasesAnswer",
    "ProbeConsequence",
    "Strip",
    "WhatIfAnswer",
    "ZoneLoss",
    "board_state",
    "drill_answer",
    "folded_strips",
    "levers",
    "listener_rules",
    "phases_answer",
    "probe_consequence",
    "proofs_at",
    "strips",
    "what_if",
    "zone_losses",
]
