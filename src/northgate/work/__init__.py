"""Long work, elsewhere than where it is asked for: shared out in parts (`spread`), or as a whole (`alone`)."""

from northgate.work.memory import bound_memory
from northgate.work.processes import COUNT, alone, nobody, stop, warm
from northgate.work.row import MOST_WAITING, Busy, Row
from northgate.work.spreading import SCHEDULER, Told, as_it_is, prepared, spread, untold
from northgate.work.worker import Here, Teller, received, sent

__all__ = [
    "COUNT", "MOST_WAITING", "SCHEDULER", "Busy", "Here", "Row", "Teller", "Told", "alone", "as_it_is", "bound_memory",
    "nobody", "prepared", "received", "sent", "spread", "stop", "untold", "warm",
]  # fmt: skip
