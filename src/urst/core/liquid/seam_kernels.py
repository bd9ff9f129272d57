"""Kernels of seams: where bodies lie against each other or on walls there is liquid between all the same.

No grid shows such a gap, and without it a crate on the floor of a basin would never come up: nothing presses it from
below. Cells in a seam are taken as liquid, joined by faces that are hardly open, so that they pass on pressure and
next to no flow.

distance and owner (2nx, 2ny, 2nz) are the walls' samples, middle (nx, ny, nz) their distance at cells' middles [cells];
fraction (nx, ny, nz) and weight (faces) are what of cells and faces is open, float32; seam (nx, ny, nz) uint8 marks
cells in a seam; out is written.
"""

import numpy as np
from numba import prange

from urst.core.jit import parallel, serial
from urst.core.solids.wall_kernels import NONE, ONE, ZERO

#: open fraction of a face in a seam
FILM = np.float32(0.05)
#: cells that are open by more have no need of it
OPEN = np.float32(0.3)
#: samples deeper than this within what they belong to are no edge of it [cells]
EDGE = np.float32(0.8)


@parallel
def find(distance, owner, node, loose, fraction, middle, boxed, seam):
    """Mark the cells, seam (nx, ny, nz) uint8, in which a loose body meets what is of another node, or a wall; the
    grid's floor and sides are walls if `boxed`."""
    nx, ny, nz = fraction.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                seam[i, j, k] = 0
                if fraction[i, j, k] > OPEN or middle[i, j, k] < -EDGE:
                    continue
                first, gives, several = -3, False, False
                if boxed and (i == 0 or j == 0 or k == 0 or i == nx - 1 or j == ny - 1):
                    first = -2
                for a in range(max(2 * i - 1, 0), min(2 * i + 3, 2 * nx)):
                    for b in range(max(2 * j - 1, 0), min(2 * j + 3, 2 * ny)):
                        for c in range(max(2 * k - 1, 0), min(2 * k + 3, 2 * nz)):
                            if distance[a, b, c] >= ZERO:
                                continue
                            body = owner[a, b, c]
                            # what cannot part is all one wall
                            mine = -2
                            if body != NONE and loose[body]:
                                mine, gives = node[body], True
                            if first == -3:
                                first = mine
                            several = several or mine != first
                seam[i, j, k] = gives and several


@serial
def wet(seam, fraction, phi, up, out):
    """Write the distance from the surface, which goes on from the liquid about seams into these.

    Parameters
    ----------
    seam : (nx, ny, nz) uint8
        Changed: 2 in cells that have been reached.
    fraction : (nx, ny, nz) float32
        Open fraction of each cell.
    phi : (nx, ny, nz) float32
    up : (3,) float32
        Away from where gravity pulls, of length 1, or 0.
    out : (nx, ny, nz) float32
    """
    nx, ny, nz = phi.shape
    out[:] = phi
    count = 0
    for i in range(nx):
        for j in range(ny):
            for k in range(nz):
                count += seam[i, j, k]
    now, ahead = np.empty((count, 3), np.int32), np.empty((count, 3), np.int32)
    n = 0
    for i in range(nx):
        for j in range(ny):
            for k in range(nz):
                if seam[i, j, k]:
                    now[n, 0], now[n, 1], now[n, 2] = i, j, k
                    n += 1
    left = n
    while left > 0:
        waiting, reached = 0, 0
        for q in range(left):
            i, j, k = now[q, 0], now[q, 1], now[q, 2]
            total, known = ZERO, 0
            for f in range(6):
                step, axis = 2 * (f & 1) - 1, f >> 1
                a, b, c = i + step * (axis == 0), j + step * (axis == 1), k + step * (axis == 2)
                if min(a, b, c) < 0 or a >= nx or b >= ny or c >= nz:
                    continue
                if seam[a, b, c] == 2 or (seam[a, b, c] == 0 and fraction[a, b, c] > OPEN):
                    total += out[a, b, c] - np.float32(step) * up[axis]
                    known += 1
            if known:
                out[i, j, k] = total / np.float32(known)
                # those that are reached in this round tell others of it in the next
                ahead[count - 1 - reached, 0], ahead[count - 1 - reached, 1], ahead[count - 1 - reached, 2] = i, j, k
                reached += 1
            else:
                ahead[waiting, 0], ahead[waiting, 1], ahead[waiting, 2] = i, j, k
                waiting += 1
        if reached == 0:
            # nothing leads there
            for q in range(left):
                out[now[q, 0], now[q, 1], now[q, 2]] = ONE
            break
        for q in range(reached):
            seam[ahead[count - 1 - q, 0], ahead[count - 1 - q, 1], ahead[count - 1 - q, 2]] = 2
        now, ahead, left = ahead, now, waiting


@parallel
def widen(weight, seam, fraction, axis, out):
    """Write the open fractions of the faces across an axis, of those within seams and into these FILM at least."""
    nx, ny, nz = seam.shape
    for row in prange(weight.shape[0]):
        i = np.int64(row)
        for j in range(weight.shape[1]):
            for k in range(weight.shape[2]):
                out[i, j, k] = weight[i, j, k]
                if weight[i, j, k] >= FILM:
                    continue
                a, b, c = i - (axis == 0), j - (axis == 1), k - (axis == 2)
                if min(a, b, c) < 0 or i >= nx or j >= ny or k >= nz:
                    continue
                one = seam[a, b, c] or fraction[a, b, c] > OPEN
                other = seam[i, j, k] or fraction[i, j, k] > OPEN
                if one and other and (seam[a, b, c] or seam[i, j, k]):
                    out[i, j, k] = FILM
