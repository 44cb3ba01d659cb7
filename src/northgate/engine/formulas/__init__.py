"""Pure functions, each with its source."""

from northgate.engine.formulas.address_tries import Connects, connects, find_ways, tried_after, waits_of
from northgate.engine.formulas.blind_times import Bounds, Sum, down_bounds, up_bounds
from northgate.engine.formulas.failover import (
    LastStops,
    Trying,
    find_lumps,
    find_stops,
    go_on,
    last_of_orders,
    last_stops,
    last_stops_in_order,
    room_to_try,
)
from northgate.engine.formulas.hashing import (
    Keys,
    address_keys,
    best_scores,
    flow_key,
    mix64,
    ranking,
    target_keys,
    winners,
)
from northgate.engine.formulas.masses.going_over import held_in_all
from northgate.engine.formulas.masses.loops import idle_ends
from northgate.engine.formulas.masses.occupancy import Occupancy, Openings
from northgate.engine.formulas.masses.rows import BOUND, OPENS, SERVED
from northgate.engine.formulas.mixing import mixed, mixed_from_nothing
from northgate.engine.formulas.queues import (
    AT_BOUND_S,
    Queue,
    Stations,
    excess_of,
    is_too_late,
    overload,
    too_late,
    wait_s,
)
from northgate.engine.formulas.retries import repeated
from northgate.engine.formulas.roots import cubic_meets_s, first_meeting, meets_s
from northgate.engine.formulas.round_robin import SmoothRoundRobin
from northgate.engine.formulas.secants import Secants
from northgate.engine.formulas.selection import METHODS, Candidates, Method

__all__ = [
    "AT_BOUND_S",
    "BOUND",
    "METHODS",
    "OPENS",
    "SERVED",
    "Bounds",
    "Candidates",
    "Connects",
    "Keys",
    "LastStops",
    "Method",
    "Occupancy",
    "Openings",
    "Queue",
    "Secants",
    "SmoothRoundRobin",
    "Stations",
    "Sum",
    "Trying",
    "address_keys",
    "best_scores",
    "connects",
    "cubic_meets_s",
    "down_bounds",
    "excess_of",
    "find_lumps",
    "find_stops",
    "find_ways",
    "first_meeting",
    "flow_key",
    "go_on",
    "held_in_all",
    "idle_ends",
    "is_too_late",
    "last_of_orders",
    "last_stops",
    "last_stops_in_order",
    "meets_s",
    "mix64",
    "mixed",
    "mixed_from_nothing",
    "overload",
    "ranking",
    "repeated",
    "room_to_try",
    "target_keys",
    "too_late",
    "tried_after",
    "up_bounds",
    "wait_s",
    "waits_of",
    "winners",
]
