"""What a loss changes at all: losses of the same effect come to the same, and are computed once."""

import hashlib
from collections.abc import Sequence

import numpy as np

from northgate.engine.reports.losses.parts import Alike
from northgate.engine.reports.losses.table import LossRow, pairs_count, part_data, parts_of
from northgate.engine.truth import Paths, encounter, probe_view, truth_under
from northgate.plan.models.faults import Part


def effect_of(paths: Paths, parts: Sequence[Part]) -> bytes:
    """A digest of all that requests, probes and autoscalers can tell of these parts' loss: which fronts are dead, and
    what is met through the others."""
    network = paths.network
    truth = truth_under(network, parts)
    met, seen = encounter(paths, truth), probe_view(paths, truth)
    alive = ~truth.front_dead[network.pairs.front]
    arriving = ~truth.front_dead[network.arrivals.front]
    digest = hashlib.sha256()
    tables = (
        truth.front_dead, truth.slowness, met.fate, met.fate_met[:, alive], met.bad_page[:, alive],
        met.budget_s[:, alive], met.row_blocked[arriving], seen.silent[alive], seen.passes[alive],
    )  # fmt: skip
    for table in tables:
        digest.update(repr(table.shape).encode() + np.ascontiguousarray(table).tobytes())
    digest.update(repr(sorted(truth.lost_outside)).encode())
    if network.machines.spare.any():
        # An autoscaler launches where zones live.
        digest.update(repr(sorted(part.words for part in parts if part.zone or part.region)).encode())
    return digest.digest()


def called_as(row: LossRow, lost: list[Alike]) -> LossRow:
    """A row as that of other parts, of the same effect."""
    called = [one.called for one in lost]
    if row.of == called:
        return row
    changes = {
        "parts": [part_data(part) for part in parts_of(lost)], "words": " and ".join(called), "of": called,
        "kinds": [one.kind for one in lost], "count": pairs_count(lost),
    }  # fmt: skip
    return row.model_copy(update=changes)
