"""Kernels of air that liquid and walls shut in."""

import numpy as np

from urst.core.jit import serial


@serial
def shut_in_air(wx, wy, wz, phi, share, least, closed, fewest, label):
    """Number the pockets of air that have no way out of the grid, from 1.

    Parameters
    ----------
    wx, wy, wz : faces
        Open shares; by less than `closed` a face counts as shut.
    phi, share : (nx, ny, nz) float32
        Cells above -least are air [cells], if they are open by more than `closed`.
    least, closed : float32
    fewest : int
        Pockets of fewer cells are none.
    label : (nx, ny, nz) int32
        Written, 0 for all others.

    Returns
    -------
    int
        How many there are.
    """
    nx, ny, nz = phi.shape
    label[:] = 0
    stack, count = np.empty((phi.size, 3), np.int32), 0
    for i0 in range(nx):
        for j0 in range(ny):
            for k0 in range(nz):
                if label[i0, j0, k0] != 0 or phi[i0, j0, k0] <= -least or share[i0, j0, k0] <= closed:
                    continue
                # -1 once it has been come to
                top, first, vented = 1, 0, False
                stack[0, 0], stack[0, 1], stack[0, 2] = i0, j0, k0
                label[i0, j0, k0] = -1
                while first < top:
                    i, j, k = stack[first, 0], stack[first, 1], stack[first, 2]
                    first += 1
                    for f in range(6):
                        side, axis = f & 1, f >> 1
                        w = (
                            wx[i + side, j, k]
                            if axis == 0
                            else (wy[i, j + side, k] if axis == 1 else wz[i, j, k + side])
                        )
                        if w < closed:
                            continue
                        step = 2 * side - 1
                        a, b, c = i + step * (axis == 0), j + step * (axis == 1), k + step * (axis == 2)
                        if min(a, b, c) < 0 or a >= nx or b >= ny or c >= nz:
                            vented = True
                        elif label[a, b, c] == 0 and phi[a, b, c] > -least:
                            label[a, b, c] = -1
                            stack[top, 0], stack[top, 1], stack[top, 2] = a, b, c
                            top += 1
                if not vented and top >= fewest:
                    count += 1
                    for n in range(top):
                        label[stack[n, 0], stack[n, 1], stack[n, 2]] = count
    for i in range(nx):
        for j in range(ny):
            for k in range(nz):
                label[i, j, k] = max(label[i, j, k], 0)
    return count
