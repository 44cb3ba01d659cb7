"""What the parts of a plan really do, given the faults in force."""

from northgate.engine.truth.encounter import ANSWERS, BARRED, REFUSES, SILENT, Encounter, encounter
from northgate.engine.truth.faults import Truth, healthy, truth_under
from northgate.engine.truth.paths import Paths
from northgate.engine.truth.patience import Patience
from northgate.engine.truth.probes import SPEAKS, ProbeView, probe_view
from northgate.engine.truth.words import truth_word

__all__ = [
    "ANSWERS",
    "BARRED",
    "REFUSES",
    "SILENT",
    "SPEAKS",
    "Encounter",
    "Paths",
    "Patience",
    "ProbeView",
    "Truth",
    "encounter",
    "healthy",
    "probe_view",
    "truth_under",
    "truth_word",
]
