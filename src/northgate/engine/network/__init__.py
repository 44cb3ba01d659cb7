"""A plan compiled into frozen tables of index arrays."""

from northgate.engine.network.answers import Answers, Sets
from northgate.engine.network.compile import compile_network, roomy
from northgate.engine.network.kept import keyed_cells, sources_told
from northgate.engine.network.names import NOWHERE, Asker, Leaf, NameBook, Record
from northgate.engine.network.own_addresses import ITSELF
from northgate.engine.network.readiness import OBSTACLES, check_runnable, obstacles, remarks, unknown_latencies
from northgate.engine.network.sources import Numbers, Segment, address_text, source_numbers
from northgate.engine.network.tables import CLIENTS_JUDGE, NO_PATH, Network
from northgate.engine.network.targets import outside_of

__all__ = [
    "CLIENTS_JUDGE",
    "ITSELF",
    "NOWHERE",
    "NO_PATH",
    "OBSTACLES",
    "Answers",
    "Asker",
    "Leaf",
    "NameBook",
    "Network",
    "Numbers",
    "Record",
    "Segment",
    "Sets",
    "address_text",
    "check_runnable",
    "compile_network",
    "keyed_cells",
    "obstacles",
    "outside_of",
    "remarks",
    "roomy",
    "source_numbers",
    "sources_told",
    "unknown_latencies",
]
