"""Who is chosen: tiers, groups and targets as each front sees them."""

from northgate.engine.balancing.filling import Room, filled, fills, limit_rps, rooms
from northgate.engine.balancing.keys import KeyTable
from northgate.engine.balancing.methods import BusyCell, busy_cells, even_shares, put_busy_shares
from northgate.engine.balancing.tiers import Choice, choose
from northgate.engine.formulas import METHODS

__all__ = [
    "METHODS",
    "BusyCell",
    "Choice",
    "KeyTable",
    "Room",
    "busy_cells",
    "choose",
    "even_shares",
    "filled",
    "fills",
    "limit_rps",
    "put_busy_shares",
    "rooms",
]
