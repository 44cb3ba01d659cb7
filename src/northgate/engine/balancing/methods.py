"""The shares of targets, by the method of their group."""

import numpy as np

from northgate.engine.base import Bools, Floats, total_by
from northgate.engine.formulas import METHODS, Candidates
from northgate.engine.network import Network


def even_shares(network: Network, weight: Floats) -> Floats:
    """Each pair's share of its cell by weight; sums to 1 over a cell that has anybody to choose."""
    cell = network.pairs.cell
    whole = total_by(cell, weight, len(network.cells.front))[cell]
    return np.divide(weight, whole, out=np.zeros_like(weight), where=whole > 0)


def busy_shares(
    network: Network, weight: Floats, hold_s: Floats, refuses: Bools, silent: Bools, cell_rps: Floats, share: Floats
) -> Floats:
    """Shares of the cells that choose by how busy targets are; the others' stay as they are. All per pair."""
    made = share.copy()
    for cell, method in enumerate(network.cells.method):
        shares, mine = METHODS[method].shares, network.cells.pairs[cell]
        if shares and (weight[mine] > 0).any():
            made[mine] = shares(
                Candidates(weight[mine], hold_s[mine], refuses[mine], silent[mine], float(cell_rps[cell]))
            )
    return made
