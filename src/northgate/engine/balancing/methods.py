"""The shares of targets, by the method of their group."""

from collections.abc import Callable, Sequence

import numpy as np
from msgspec import Struct

from northgate.engine.base import Bools, Floats, some, total_by
from northgate.engine.formulas import METHODS, Candidates
from northgate.engine.network import Network


def even_shares(network: Network, weight: Floats) -> Floats:
    """Each pair's share of its cell by weight; sums to 1 over a cell that has anybody to choose."""
    cell = network.pairs.cell
    whole = total_by(cell, weight, len(network.cells.front))[cell]
    return np.divide(weight, whole, out=np.zeros_like(weight), where=whole > 0)


class BusyCell(Struct, frozen=True):
    """A cell that chooses by how busy its targets are: which one, where its pairs stand among all, and how."""

    cell: int
    pairs: slice
    shares: Callable[[Candidates], Floats]


def busy_cells(network: Network) -> list[BusyCell]:
    """The cells that choose by how busy targets are."""
    made = list[BusyCell]()
    for cell, method in enumerate(network.cells.method):
        shares, mine = METHODS[method].shares, network.cells.pairs[cell]
        if shares and len(mine):
            # Pairs of a cell stand side by side.
            made.append(BusyCell(cell, slice(int(mine[0]), int(mine[-1]) + 1), shares))
    return made


def put_busy_shares(
    cells: Sequence[BusyCell], weight: Floats, hold_s: Floats, refuses: Bools, silent: Bools, cell_rps: Floats,
    made: Floats,
) -> None:  # fmt: skip
    """Puts into shares those of the cells that choose by how busy targets are. All but `cell_rps` per pair."""
    for one in cells:
        mine = one.pairs
        if some(weight[mine] > 0):
            asked = Candidates(weight[mine], hold_s[mine], refuses[mine], silent[mine], float(cell_rps[one.cell]))
            made[mine] = one.shares(asked)
