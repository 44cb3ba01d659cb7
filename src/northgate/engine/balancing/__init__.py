"""Who is chosen: tiers, groups and targets as each front sees them."""

from northgate.engine.balancing.filling import Room, filled, fills, limit_rps, rooms
from northgate.engine.balancing.keys import KeyTable
from northgate.engine.balancing.methods import busy_shares, even_shares
from northgate.engine.balancing.tiers import Choice, choose
from northgate.engine.formulas import METHODS

__all__ = [
    "METHODS",
    "Choice",
    "KeyTable",
    "Room",
    "busy_shares",
    "choose",
    "even_shares",
    "filled",
    "fills",
    "limit_rps",
    "rooms",
]
