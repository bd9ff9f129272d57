"""Kernels that put solids onto a grid, and the divergence among them and its removal.

solid (nx, ny, nz) int32 is the number of the body that fills a cell, or NONE; u, v and w are velocities on the faces
across x, y and z [m/s], weight 1 on open faces and 0 on closed ones, float32; the grid has its least corner at origin
(3,) and cells of cell metres.
"""

import numpy as np
from numba import prange

from urst.core.jit import parallel, serial

#: no body
NONE = -1


@serial
def rasterise(hulls, low, high, first, origin, cell, solid):
    """Write into solid (nx, ny, nz) int32 the number of the convex body each cell's centre is in; the first body wins.

    `hulls` and the bounds low, high (n, 3) in world coordinates; `first` is added to the bodies' numbers; origin (3,)
    and cell [m]. Cells that are not NONE are left alone, so several sets of bodies go onto one grid in turn.
    """
    nx, ny, nz = solid.shape
    planes, face_start = hulls.planes, hulls.face_start
    for b in range(len(low)):
        if low[b, 0] > high[b, 0]:
            continue
        i0 = max(0, int(np.ceil((low[b, 0] - origin[0]) / cell - 0.5)))
        j0 = max(0, int(np.ceil((low[b, 1] - origin[1]) / cell - 0.5)))
        k0 = max(0, int(np.ceil((low[b, 2] - origin[2]) / cell - 0.5)))
        i1 = min(nx - 1, int(np.floor((high[b, 0] - origin[0]) / cell - 0.5)))
        j1 = min(ny - 1, int(np.floor((high[b, 1] - origin[1]) / cell - 0.5)))
        k1 = min(nz - 1, int(np.floor((high[b, 2] - origin[2]) / cell - 0.5)))
        for i in range(i0, i1 + 1):
            x = origin[0] + (i + 0.5) * cell
            for j in range(j0, j1 + 1):
                y = origin[1] + (j + 0.5) * cell
                for k in range(k0, k1 + 1):
                    if solid[i, j, k] != NONE:
                        continue
                    z = origin[2] + (k + 0.5) * cell
                    inside = True
                    for f in range(face_start[b], face_start[b + 1]):
                        if planes[f, 0] * x + planes[f, 1] * y + planes[f, 2] * z > planes[f, 3]:
                            inside = False
                            break
                    if inside:
                        solid[i, j, k] = first + b


@parallel
def open_faces(solid, axis, bodies, origin, cell, weight, wall):
    """Weights (1 open, 0 closed) and wall velocities of the faces across one axis.

    `wall` holds the velocity [m/s] along the axis of the body behind a closed face; `bodies` has position, velocity
    and spin (n, 3) of all bodies by number.
    """
    position, velocity, spin = bodies.position, bodies.velocity, bodies.spin
    nx, ny, nz = weight.shape
    d, e = (axis + 1) % 3, (axis + 2) % 3
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                a, b, c = i - (axis == 0), j - (axis == 1), k - (axis == 2)
                first = NONE
                if a >= 0 and b >= 0 and c >= 0:
                    first = solid[a, b, c]
                if first == NONE and i < solid.shape[0] and j < solid.shape[1] and k < solid.shape[2]:
                    first = solid[i, j, k]
                weight[i, j, k] = np.float32(1.0) if first == NONE else np.float32(0.0)
                wall[i, j, k] = np.float32(0.0)
                if first != NONE:
                    # the arm from the body's centre to the face along the two other axes
                    at_d = i if d == 0 else (j if d == 1 else k)
                    at_e = i if e == 0 else (j if e == 1 else k)
                    rd = origin[d] + (at_d + 0.5) * cell - position[first, d]
                    re = origin[e] + (at_e + 0.5) * cell - position[first, e]
                    wall[i, j, k] = np.float32(velocity[first, axis] + spin[first, d] * re - spin[first, e] * rd)


@parallel
def hold(u, weight, wall):
    """Give closed faces the velocity of their wall."""
    for row in prange(u.shape[0]):
        i = np.int64(row)
        for j in range(u.shape[1]):
            for k in range(u.shape[2]):
                if weight[i, j, k] == 0.0:
                    u[i, j, k] = wall[i, j, k]


@parallel
def divergence(u, v, w, solid, out):
    """out = minus the net outflow of each open cell, 0 in solids."""
    nx, ny, nz = out.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                if solid[i, j, k] != NONE:
                    out[i, j, k] = np.float32(0.0)
                else:
                    net = u[i + 1, j, k] - u[i, j, k] + v[i, j + 1, k] - v[i, j, k] + w[i, j, k + 1] - w[i, j, k]
                    out[i, j, k] = -net


@parallel
def subtract_gradient(u, weight, p, axis):
    """u -= w (p_here - p_before) across one axis; p is 0 beyond the grid."""
    zero = np.float32(0.0)
    for row in prange(u.shape[0]):
        i = np.int64(row)
        for j in range(u.shape[1]):
            for k in range(u.shape[2]):
                if weight[i, j, k] == 0.0:
                    continue
                here, before = zero, zero
                if i < p.shape[0] and j < p.shape[1] and k < p.shape[2]:
                    here = p[i, j, k]
                a, b, c = i - (axis == 0), j - (axis == 1), k - (axis == 2)
                if a >= 0 and b >= 0 and c >= 0:
                    before = p[a, b, c]
                u[i, j, k] -= weight[i, j, k] * (here - before)


@serial
def count_closed(solid):
    """Return how many faces lie between an open cell and one of a body."""
    nx, ny, nz = solid.shape
    found = 0
    for i in range(nx):
        for j in range(ny):
            for k in range(nz):
                if solid[i, j, k] == NONE:
                    continue
                found += 1 if i > 0 and solid[i - 1, j, k] == NONE else 0
                found += 1 if i < nx - 1 and solid[i + 1, j, k] == NONE else 0
                found += 1 if j > 0 and solid[i, j - 1, k] == NONE else 0
                found += 1 if j < ny - 1 and solid[i, j + 1, k] == NONE else 0
                found += 1 if k > 0 and solid[i, j, k - 1] == NONE else 0
                found += 1 if k < nz - 1 and solid[i, j, k + 1] == NONE else 0
    return found


@serial
def list_closed(solid, bodies, origin, cell, out_body, out_cell, out_value):
    """Write for each such face its body (m,), its open cell (m, 3) and what a unit of the body's velocity and spin
    drives out of that cell through it (m, 6).

    out_body (m,), out_cell (m, 3) and out_value (m, 6) are written.

    bodies has position, velocity and spin (n, 3) of all bodies by number.
    """
    nx, ny, nz = solid.shape
    r = np.empty(3)
    m = 0
    for i in range(nx):
        for j in range(ny):
            for k in range(nz):
                b = solid[i, j, k]
                if b == NONE:
                    continue
                for axis in range(3):
                    for side in range(-1, 2, 2):
                        a = i + side * (axis == 0)
                        e = j + side * (axis == 1)
                        f = k + side * (axis == 2)
                        if a < 0 or e < 0 or f < 0 or a >= nx or e >= ny or f >= nz or solid[a, e, f] != NONE:
                            continue
                        r[0] = origin[0] + (i + 0.5 + 0.5 * side * (axis == 0)) * cell - bodies.position[b, 0]
                        r[1] = origin[1] + (j + 0.5 + 0.5 * side * (axis == 1)) * cell - bodies.position[b, 1]
                        r[2] = origin[2] + (k + 0.5 + 0.5 * side * (axis == 2)) * cell - bodies.position[b, 2]
                        # the open cell lies to `side` of the body, so moving that way drives into it
                        s = -float(side)
                        for c in range(6):
                            out_value[m, c] = 0.0
                        d, g = (axis + 1) % 3, (axis + 2) % 3
                        out_value[m, axis] = s
                        # r x e_axis
                        out_value[m, 3 + d] = s * r[g]
                        out_value[m, 3 + g] = -s * r[d]
                        out_body[m] = b
                        out_cell[m, 0], out_cell[m, 1], out_cell[m, 2] = a, e, f
                        m += 1
    return m
