"""Air shut in by solids."""

import numpy as np
from scipy import ndimage


def balance_pockets(is_open: np.ndarray, rhs: np.ndarray, giving: np.ndarray | None = None) -> None:
    """Spread what a closed pocket's walls squeeze evenly over it: such a pocket has no other way to give.

    Parameters
    ----------
    is_open : (nx, ny, nz) bool
    rhs : (nx, ny, nz) float32, changed in place
    giving : (nx, ny, nz) bool, optional
        Cells of bodies that give way; a pocket beside one is not shut.
    """
    label, count = ndimage.label(is_open)
    if count < 2:
        return
    outside = np.unique(np.concatenate([np.take(label, e, axis=a).ravel() for a in range(3) for e in (0, -1)]))
    mean = ndimage.mean(rhs, label, np.arange(count + 1))
    mean[0] = 0.0
    mean[outside] = 0.0
    if giving is not None:
        mean[np.unique(label[ndimage.binary_dilation(giving) & is_open])] = 0.0
    rhs -= mean[label].astype(np.float32)
