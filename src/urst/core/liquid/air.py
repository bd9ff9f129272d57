"""Pockets of air that keep their volume: each has one pressure, by which as much flows out of it as into it.

That pressure is an unknown of the solve beside those of the liquid (as for the bubbles of Goldade, Aanjaneya & Batty
2020, Constraint bubbles and affine regions). It is eliminated, which takes a term of low rank from the liquid's
matrix.
"""

from typing import NamedTuple

import numpy as np
from scipy import ndimage
from scipy.sparse import csr_array

from urst.core.fields.body_terms import BodyTerms, Held
from urst.core.fields.multigrid import packed_index, packed_size
from urst.core.liquid.window import Window, moved
from urst.core.solids import body_kernels

#: pockets of fewer cells let their air out
FEWEST = 12
#: what a pocket has lost comes back at this rate, and a fraction of it in a step at most [1/s]
BACK, MOST_BACK = 5.0, 0.2


class Kept(NamedTuple):
    """The pockets of a moment, and how much air each is to hold."""

    label: np.ndarray
    """(nx, ny, nz) int32, from 1"""
    volume: np.ndarray
    """(n,) [cells]"""

    def moved(self, before: Window, after: Window) -> "Kept":
        """Return the same in another window.

        Parameters
        ----------
        before, after : Window
        """
        return Kept(moved(self.label, before, after, None, 0), self.volume)


def found(weights: list[np.ndarray], phi: np.ndarray, least: np.float32, closed: np.float32) -> np.ndarray:
    """Return the pockets of air that liquid shuts in which has a surface elsewhere, (nx, ny, nz) int32 from 1.

    In a vessel that is full but for one pocket this cannot but keep its volume: it is none.

    Parameters
    ----------
    weights : three arrays of faces, float32
        Their open fractions.
    phi : (nx, ny, nz) float32
        Distance from the surface [cells].
    least, closed : float32
        Cells are liquid that lie so deep, and faces open that are so much.
    """
    air, label = phi > -least, np.empty(phi.shape, np.int32)
    # nothing but air, and no way from it into liquid
    apart = [w.copy() for w in weights]
    for axis, w in enumerate(apart):
        low, high = ((slice(None),) * axis + (s,) for s in (slice(None, -1), slice(1, None)))
        w[(slice(None),) * axis + (slice(1, -1),)][air[low] != air[high]] = 0.0
    wx, wy, wz = apart
    count = body_kernels.shut_in(wx, wy, wz, np.where(air, np.float32(-1.0), np.float32(1.0)), least, closed, label)
    few = np.bincount(label.ravel(), minlength=count + 1) < FEWEST
    label[few[label]] = 0
    if not label.any():
        return label
    wx, wy, wz = weights
    both, sealed = np.where(label > 0, np.float32(-1.0), phi), np.empty(phi.shape, np.int32)
    body_kernels.shut_in(wx, wy, wz, both, least, closed, sealed)
    label[sealed > 0] = 0
    kept = np.unique(label[label > 0])
    return np.searchsorted(kept, label).astype(np.int32) * (label > 0) + (label > 0)


def volumes(label: np.ndarray, phi: np.ndarray, fraction: np.ndarray) -> np.ndarray:
    """Return how much air pockets hold, (n,) [cells].

    Parameters
    ----------
    label : (nx, ny, nz) int32
    phi, fraction : (nx, ny, nz) float32
        Distance from the surface [cells], and open fraction of each cell.
    """
    # the surface passes through cells beside theirs
    wide = np.where(label > 0, label, ndimage.maximum_filter(label, 3))
    return ndimage.sum_labels(np.clip(0.5 + phi, 0.0, 1.0) * fraction, wide, np.arange(1, label.max() + 1))


def followed(before: Kept | None, label: np.ndarray, volume: np.ndarray) -> Kept:
    """Return pockets with what they are to hold: what those they were before held, what they hold now if they are new.

    Parameters
    ----------
    before : Kept, optional
    label : (nx, ny, nz) int32
    volume : (n,) float
        What they hold now [cells].
    """
    wanted = volume.astype(float).copy()
    if before is None or not len(before.volume) or not len(volume):
        return Kept(label, wanted)
    near = np.where(label > 0, label, ndimage.maximum_filter(label, 5))
    shared = (before.label > 0) & (near > 0)
    table = np.zeros((len(before.volume), len(volume)))
    np.add.at(table, (before.label[shared] - 1, near[shared] - 1), 1.0)
    came = (table / np.maximum(table.sum(axis=1, keepdims=True), 1.0)).T @ before.volume
    old = table.sum(axis=0) > 0.0
    wanted[old] = came[old]
    return Kept(label, wanted)


class AirTerms:
    """What pockets add to the pressure matrix, with what bodies that give way add.

    Parameters
    ----------
    label : (nx, ny, nz) int32
    weights : three arrays of faces, float32
        Their open fractions.
    phi : (nx, ny, nz) float32
        Distance from the surface [cells].
    least, closed : float32
    bodies : BodyTerms, optional
    held : Held, optional
        What bodies hold of the faces of pockets' cells, by the numbers that `bodies` was given.
    """

    def __init__(
        self,
        label: np.ndarray,
        weights: list[np.ndarray],
        phi: np.ndarray,
        least: np.float32,
        closed: np.float32,
        bodies: BodyTerms | None,
        held: Held | None,
    ) -> None:
        self.label, self.bodies, count = label, bodies, int(label.max())
        rows, columns, values = [], [], []
        for axis in range(3):
            inner = weights[axis][(slice(None),) * axis + (slice(1, -1),)]
            low, high = ((slice(None),) * axis + (s,) for s in (slice(None, -1), slice(1, None)))
            for air, wet, ahead in ((low, high, 1), (high, low, 0)):
                at = np.argwhere((label[air] > 0) & (phi[wet] <= -least) & (inner >= closed))
                if len(at):
                    spot = tuple(at.T)
                    theta = phi[wet][spot] / (phi[wet][spot] - phi[air][spot])
                    rows.append(label[air][spot] - 1)
                    values.append((inner[spot] / theta).astype(float))
                    at[:, axis] += ahead
                    columns.append(packed_index(at, phi.shape))
        chain = lambda parts, kind: np.concatenate([np.zeros(0, kind), *parts])  # noqa: E731
        self.rows = csr_array(
            (chain(values, float), (chain(rows, int), chain(columns, int))), shape=(count, packed_size(phi.shape))
        )
        open_ = self.rows.sum(axis=1)
        matrix = np.diag(np.maximum(open_, 1e-9))
        if bodies is not None and held is not None:
            mine = bodies.number[held.body] >= 0
            row = (6 * bodies.number[held.body[mine]][:, None] + np.arange(6)).ravel()
            pocket = np.repeat(label[tuple(held.cell[mine].T)] - 1, 6)
            pushed = csr_array((held.value[mine].ravel(), (row, pocket)), shape=(bodies.scaled.shape[0], count))
            pushed = bodies.left @ pushed
            self.rows = self.rows - pushed.T @ bodies.scaled
            matrix = matrix + (pushed.T @ pushed).toarray()
        self.rows = self.rows.astype(np.float32).tocsr()
        self.adjoint, self.inverse = self.rows.T.tocsr(), np.linalg.inv(matrix)

    def apply(self, p: np.ndarray, out: np.ndarray) -> float:
        """Add the terms' product with a packed field to `out`; return its part of p . out.

        Parameters
        ----------
        p : packed field, float32
        out : the same, changed in place
        """
        fraction = self.bodies.apply(p, out) if self.bodies is not None else 0.0
        pushed = (self.rows @ p.ravel()).astype(float)
        back = self.inverse @ pushed
        out.ravel()[:] -= (self.adjoint @ back).astype(np.float32)
        return fraction - float(pushed @ back)

    def given(self, outflow: np.ndarray) -> np.ndarray:
        """Return what pockets' own outflow adds to the liquid's right-hand side, a packed field laid out flat.

        Parameters
        ----------
        outflow : (n,) float
            What is to flow out of each less what does, as a speed across a cell [m/s].
        """
        return (self.adjoint @ (self.inverse @ outflow)).astype(np.float32)

    def pressures(self, outflow: np.ndarray, p: np.ndarray) -> np.ndarray:
        """Return the pressure of each pocket, (n,), as the solver has it.

        Parameters
        ----------
        outflow : (n,) float
            As for `given`.
        p : packed field laid out flat
            Of the liquid.
        """
        return self.inverse @ (outflow + self.rows @ p)
