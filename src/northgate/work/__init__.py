"""Long work, elsewhere than where it is asked for: shared out in parts (`spread`), or as a whole (`alone`)."""

from northgate.work.memory import bound_memory
from northgate.work.processes import alone, nobody, stop, warm
from northgate.work.spreading import SCHEDULER, Told, as_it_is, prepared, spread, untold
from northgate.work.worker import Teller

__all__ = [
    "SCHEDULER", "Teller", "Told", "alone", "as_it_is", "bound_memory", "nobody", "prepared", "spread", "stop",
    "untold", "warm",
]  # fmt: skip
