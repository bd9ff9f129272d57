"""Air shut in by solids."""

import numpy as np
from scipy import ndimage


def pockets(is_open: np.ndarray) -> np.ndarray:
    """Return the number of the closed pocket each cell is in, from 1, and 0 in all other cells.

    Parameters
    ----------
    is_open : (nx, ny, nz) bool
    """
    label, count = ndimage.label(is_open)
    if count < 2:
        return np.zeros(is_open.shape, np.int32)
    outside = np.unique(np.concatenate([np.take(label, e, axis=a).ravel() for a in range(3) for e in (0, -1)]))
    shut = np.ones(count + 1, bool)
    shut[outside] = shut[0] = False
    return np.where(shut, np.cumsum(shut), 0).astype(np.int32)[label]


def balance(pocket: np.ndarray, rhs: np.ndarray) -> None:
    """Spread what a closed pocket's walls squeeze evenly over it: such a pocket has no other way to give.

    Between bodies that could give way it is done all the same: real air gets out through gaps that no cell shows, and
    air that could not would throw heavy bodies apart.

    Parameters
    ----------
    pocket : (nx, ny, nz) int32
        As `pockets` returns it.
    rhs : (nx, ny, nz) float32
        Changed in place.
    """
    count = int(pocket.max())
    if count:
        mean = ndimage.mean(rhs, pocket, np.arange(count + 1))
        mean[0] = 0.0
        rhs -= mean[pocket].astype(np.float32)
