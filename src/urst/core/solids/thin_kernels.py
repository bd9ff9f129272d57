"""Kernels of walls that are thinner than two cells: which side of one a cell is on, and what it can be reached from.

A thin wall may pass between the middle of a cell and its samples. Then the cell is on the side on which most of its
room is, and what is left of its room goes to the cell across the face beside it. Faces between cells that have no
open way across are closed.

distance and owner (2nx, 2ny, 2nz) are the walls' samples, as `wall_kernels` has them; main, touched (nx, ny, nz) and
home (2nx, 2ny, 2nz) uint8 what `split` and `give_home` write, edges (2nx, 2ny, 2nz) uint8 the ways between samples that
thin walls cross, see `cross`; blocked (nx, ny, nz) uint8 which faces of cells are closed, reach (nx, ny, nz) uint32
which of the 26 cells about each are reached. fraction and open_ (nx, ny, nz) are what of cells is open, weight (faces)
what of faces is, float32; low and high (n, 3) are bodies' bounds [m], owner_cell (m,) int32 whose room particles are
in; (i, j, k) is a cell; out is written.
"""

import numpy as np
from numba import prange

from urst.core.jit import called, kernel, parallel, serial
from urst.core.solids.face_bits import face, high_face, low_face
from urst.core.solids.wall_kernels import HALF, NONE, ONE, ZERO, open_fraction, tent

#: all 26 cells about a cell and itself can be reached from it
ALL = np.uint32((1 << 27) - 1)
#: in a wall's neighbourhood: set if any cell within two of this one cannot reach all about it
GUARDED = np.uint32(1 << 31)
#: whose room a sample is: that of its own cell, that of the cell across a face (1 to 6: before and behind along x, y,
#: z), nobody's
OWN, NOBODY = 0, 7
#: all samples of a cell
WHOLE = 255
#: planes are so much farther out for what crosses a wall, so that nothing slips through between two of its parts
#: [cells]
LAP = 1e-3


@called
def clip(planes, first, last, lap, x, y, z, u, v, w):
    """Where a way from a place by (u, v, w) enters a convex body, 2 if it does not, and through which plane; from
    within it that is where it begins, and the nearest plane.

    Parameters
    ----------
    planes : (f, 4) float
    first, last : int
        Those of the body.
    lap : float
        By how much they are farther out.
    x, y, z, u, v, w : float
    """
    enter, leave, face = -1.0, 2.0, -1
    nearest, least = -1e30, -1
    for f in range(first, last):
        away = planes[f, 0] * x + planes[f, 1] * y + planes[f, 2] * z - planes[f, 3] - lap
        if away > nearest:
            nearest, least = away, f
        along = planes[f, 0] * u + planes[f, 1] * v + planes[f, 2] * w
        if along < 0.0:
            t = -away / along
            if t > enter:
                enter, face = t, f
        elif along > 0.0:
            leave = min(leave, -away / along)
        elif away > 0.0:
            return 2.0, -1
    if nearest < 0.0:
        return 0.0, least
    if enter < 0.0 or enter > 1.0 or enter >= leave:
        return 2.0, -1
    return enter, face


@parallel
def cross(planes, face_start, low, high, thin, origin, cell, edges):
    """Mark the ways from each sample to the next along x, y, z that pass through a thin body: bits 1, 2, 4 of edges
    (2nx, 2ny, 2nz) uint8.

    Parameters
    ----------
    planes, face_start, low, high
        Of the bodies in the world [m].
    thin : (n,) bool
    origin : (3,) float [m]
    cell : float [m]
    edges : (2nx, 2ny, 2nz) uint8
    """
    nx, ny, nz = edges.shape
    step, lap = 0.5 * cell, LAP * cell
    for row in prange(nx):
        i = np.int64(row)
        x = origin[0] + (i + 0.5) * step
        for b in range(len(low)):
            if not thin[b] or not low[b, 0] - 1.01 * step <= x <= high[b, 0] + 1.01 * step:
                continue
            first, last = face_start[b], face_start[b + 1]
            j0 = max(0, int(np.ceil((low[b, 1] - origin[1]) / step - 1.51)))
            j1 = min(ny - 1, int(np.floor((high[b, 1] - origin[1]) / step + 0.51)))
            k0 = max(0, int(np.ceil((low[b, 2] - origin[2]) / step - 1.51)))
            k1 = min(nz - 1, int(np.floor((high[b, 2] - origin[2]) / step + 0.51)))
            for j in range(j0, j1 + 1):
                y = origin[1] + (j + 0.5) * step
                for k in range(k0, k1 + 1):
                    z = origin[2] + (k + 0.5) * step
                    near = True
                    for f in range(first, last):
                        if planes[f, 0] * x + planes[f, 1] * y + planes[f, 2] * z - planes[f, 3] > 1.01 * step:
                            near = False
                            break
                    if not near:
                        continue
                    if clip(planes, first, last, lap, x, y, z, step, 0.0, 0.0)[1] >= 0:
                        edges[i, j, k] |= np.uint8(1)
                    if clip(planes, first, last, lap, x, y, z, 0.0, step, 0.0)[1] >= 0:
                        edges[i, j, k] |= np.uint8(2)
                    if clip(planes, first, last, lap, x, y, z, 0.0, 0.0, step)[1] >= 0:
                        edges[i, j, k] |= np.uint8(4)


@parallel
def split(distance, owner, thin, edges, main, touched):
    """Find which samples of each cell are on its side of thin walls, main (nx, ny, nz) uint8 a bit each, and mark the
    cells that there are thin walls in, touched (nx, ny, nz) uint8."""
    nx, ny, nz = main.shape
    for row in prange(nx):
        i = np.int64(row)
        label, room = np.empty(8, np.int64), np.empty(8, np.float32)
        for j in range(ny):
            for k in range(nz):
                main[i, j, k], touched[i, j, k] = WHOLE, 0
                walled, cut = False, False
                for s in range(8):
                    a, b, c = 2 * i + (s & 1), 2 * j + ((s >> 1) & 1), 2 * k + (s >> 2)
                    d, e = distance[a, b, c], edges[a, b, c]
                    room[s], label[s] = open_fraction(d), s if d > ZERO else -1
                    walled = walled or (d <= ZERO and owner[a, b, c] != NONE and thin[owner[a, b, c]])
                    cut = cut or e != 0
                if not walled and not cut:
                    continue
                touched[i, j, k] = 1
                for _ in range(7):
                    for s in range(8):
                        for axis in range(3):
                            other = s | (1 << axis)
                            if other == s or label[s] < 0 or label[other] < 0:
                                continue
                            if edges[2 * i + (s & 1), 2 * j + ((s >> 1) & 1), 2 * k + (s >> 2)] & (1 << axis):
                                continue
                            least = min(label[s], label[other])
                            label[s], label[other] = least, least
                best, most, parts = -1, ZERO, 0
                for s in range(8):
                    if label[s] != s:
                        continue
                    parts += 1
                    total = ZERO
                    for t in range(8):
                        total += room[t] if label[t] == s else ZERO
                    if total > most:
                        best, most = s, total
                if parts < 2:
                    continue
                mine = 0
                for s in range(8):
                    if label[s] == best:
                        mine |= 1 << s
                for s in range(8):
                    # what is closed goes with what it is beside
                    beside = label[s ^ 1] == best or label[s ^ 2] == best or label[s ^ 4] == best
                    if label[s] < 0 and beside:
                        mine |= 1 << s
                main[i, j, k] = mine


@kernel
def _edge(edges, axis, a, b, c):
    """Whether the way from a sample to the next along an axis is crossed."""
    return (edges[a, b, c] & (1 << axis)) != 0


@parallel
def give_home(distance, edges, main, home):
    """Say whose room the samples of cells are that a thin wall divides, home (2nx, 2ny, 2nz) uint8."""
    nx, ny, nz = main.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                if main[i, j, k] == WHOLE:
                    continue
                for s in range(8):
                    if main[i, j, k] & (1 << s):
                        continue
                    a, b, c = 2 * i + (s & 1), 2 * j + ((s >> 1) & 1), 2 * k + (s >> 2)
                    home[a, b, c] = NOBODY
                    if distance[a, b, c] <= ZERO:
                        continue
                    for axis in range(3):
                        up = (s >> axis) & 1
                        p, q, r = a - (axis == 0), b - (axis == 1), c - (axis == 2)
                        x, y, z = i - (axis == 0), j - (axis == 1), k - (axis == 2)
                        if up:
                            p, q, r = a + (axis == 0), b + (axis == 1), c + (axis == 2)
                            x, y, z = i + (axis == 0), j + (axis == 1), k + (axis == 2)
                        if min(x, y, z) < 0 or x >= nx or y >= ny or z >= nz or distance[p, q, r] <= ZERO:
                            continue
                        crossed = _edge(edges, axis, a, b, c) if up else _edge(edges, axis, p, q, r)
                        if not crossed and main[x, y, z] & (1 << (s ^ (1 << axis))):
                            home[a, b, c] = 1 + 2 * axis + up
                            break


@parallel
def close_faces(distance, edges, main, touched, axis, weight, blocked):
    """Close the faces across an axis that there is no open way across beside thin walls, and leave others what is
    open on their side; blocked (nx, ny, nz) uint8: bits 1 + 2 axis behind, 2 axis before."""
    nx, ny, nz = main.shape
    for row in prange(nx):
        i = np.int64(row)
        if axis == 0 and i == 0:
            continue
        for j in range(1 if axis == 1 else 0, ny):
            for k in range(1 if axis == 2 else 0, nz):
                p, q, r = i - (axis == 0), j - (axis == 1), k - (axis == 2)
                if touched[i, j, k] == 0 and touched[p, q, r] == 0:
                    continue
                connected, room, plain = False, ZERO, True
                for s in range(8):
                    if s & (1 << axis):
                        continue
                    # a sample behind the face, and the one before it
                    a, b, c = 2 * i + (s & 1), 2 * j + ((s >> 1) & 1), 2 * k + (s >> 2)
                    x, y, z = a - (axis == 0), b - (axis == 1), c - (axis == 2)
                    behind = (main[i, j, k] & (1 << s)) != 0
                    before = (main[p, q, r] & (1 << (s | (1 << axis)))) != 0
                    plain = plain and behind and before
                    room += open_fraction(distance[a, b, c]) if behind else ZERO
                    room += open_fraction(distance[x, y, z]) if before else ZERO
                    both = behind and before and distance[a, b, c] > ZERO and distance[x, y, z] > ZERO
                    connected = connected or (both and not _edge(edges, axis, x, y, z))
                if not connected:
                    weight[i, j, k] = ZERO
                    blocked[i, j, k] |= low_face(axis)
                elif not plain:
                    weight[i, j, k] = min(weight[i, j, k], room * np.float32(0.125))


@parallel
def block_behind(blocked):
    """Mark faces that are blocked from before from behind too."""
    nx, ny, nz = blocked.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                for axis in range(3):
                    p, q, r = i + (axis == 0), j + (axis == 1), k + (axis == 2)
                    if p < nx and q < ny and r < nz and blocked[p, q, r] & low_face(axis):
                        blocked[i, j, k] |= high_face(axis)


@serial
def share_out(distance, main, touched, home, fraction):
    """Give each cell the open fraction of what is its room, share (nx, ny, nz)."""
    nx, ny, nz = main.shape
    eighth = np.float32(0.125)
    for i in range(nx):
        for j in range(ny):
            for k in range(nz):
                if touched[i, j, k] == 0 or main[i, j, k] == WHOLE:
                    continue
                for s in range(8):
                    if main[i, j, k] & (1 << s):
                        continue
                    a, b, c = 2 * i + (s & 1), 2 * j + ((s >> 1) & 1), 2 * k + (s >> 2)
                    part = eighth * open_fraction(distance[a, b, c])
                    fraction[i, j, k] -= part
                    x, y, z = cell_of(home, i, j, k, a, b, c)
                    if x >= 0:
                        fraction[x, y, z] += part


@kernel
def cell_of(home, i, j, k, a, b, c):
    """The cell whose room a sample (a, b, c) of a cell (i, j, k) is, -1 for nobody's."""
    h = home[a, b, c]
    if h == NOBODY:
        return -1, -1, -1
    if h == OWN:
        return i, j, k
    side = 1 if (h - 1) & 1 else -1
    axis = (h - 1) >> 1
    return i + (side if axis == 0 else 0), j + (side if axis == 1 else 0), k + (side if axis == 2 else 0)


@kernel
def reached(reach, i, j, k, x, y, z):
    """Whether a cell (x, y, z), two from (i, j, k) at most, can be reached from it past thin walls.

    Parameters
    ----------
    reach : (nx, ny, nz) uint32
    i, j, k, x, y, z : int
    """
    if reach[i, j, k] == ALL:
        return True
    da, db, dc = x - i, y - j, z - k
    a, b, c = min(max(da, -1), 1), min(max(db, -1), 1), min(max(dc, -1), 1)
    if not reach[i, j, k] & np.uint32(1 << (9 * (a + 1) + 3 * (b + 1) + c + 1)):
        return False
    if a == da and b == db and c == dc:
        return True
    p, q, r = da - a, db - b, dc - c
    if max(max(abs(p), abs(q)), abs(r)) > 1:
        return False
    return (reach[i + a, j + b, k + c] & np.uint32(1 << (9 * (p + 1) + 3 * (q + 1) + r + 1))) != 0


@called
def apart(f, reach, i, j, k, x, y, z):
    """The same as `between` for what is reached from a cell past thin walls; what is not is as that on average.

    Parameters
    ----------
    f : (nx, ny, nz) float32
    reach : (nx, ny, nz) uint32
    i, j, k : int
        The cell.
    x, y, z : float32
        The place [cells].
    """
    x = min(max(x - HALF, ZERO), np.float32(f.shape[0] - 1.001))
    y = min(max(y - HALF, ZERO), np.float32(f.shape[1] - 1.001))
    z = min(max(z - HALF, ZERO), np.float32(f.shape[2] - 1.001))
    p, q, r = np.int64(x), np.int64(y), np.int64(z)
    a, b, c = x - np.float32(p), y - np.float32(q), z - np.float32(r)
    total, weights = ZERO, ZERO
    for s in range(8):
        l, m, n = p + (s & 1), q + ((s >> 1) & 1), r + (s >> 2)
        if reached(reach, i, j, k, l, m, n):
            weight = (a if s & 1 else ONE - a) * (b if s & 2 else ONE - b) * (c if s & 4 else ONE - c)
            total += weight * f[l, m, n]
            weights += weight
    return total / weights if weights > np.float32(1e-3) else f[i, j, k]


@parallel
def find_reach(blocked, reach):
    """Find which of the 26 cells about each can be reached from it without leaving them, reach (nx, ny, nz) uint32 a
    bit each."""
    nx, ny, nz = blocked.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                reach[i, j, k] = ALL
                found = False
                for a in range(max(i - 1, 0), min(i + 2, nx)):
                    for b in range(max(j - 1, 0), min(j + 2, ny)):
                        for c in range(max(k - 1, 0), min(k + 2, nz)):
                            found = found or blocked[a, b, c] != 0
                if not found:
                    continue
                seen = 1 << 13
                for _ in range(6):
                    for n in range(27):
                        if not seen & (1 << n):
                            continue
                        a, b, c = n // 9 - 1, (n // 3) % 3 - 1, n % 3 - 1
                        x, y, z = i + a, j + b, k + c
                        if min(x, y, z) < 0 or x >= nx or y >= ny or z >= nz:
                            continue
                        here = blocked[x, y, z]
                        if a > -1 and not here & 1:
                            seen |= 1 << (n - 9)
                        if a < 1 and not here & 2:
                            seen |= 1 << (n + 9)
                        if b > -1 and not here & 4:
                            seen |= 1 << (n - 3)
                        if b < 1 and not here & 8:
                            seen |= 1 << (n + 3)
                        if c > -1 and not here & 16:
                            seen |= 1 << (n - 1)
                        if c < 1 and not here & 32:
                            seen |= 1 << (n + 1)
                reach[i, j, k] = np.uint32(seen)


@parallel
def guard(reach, out):
    """Copy reach (nx, ny, nz) uint32 and mark the cells within two of any that does not reach all about it, but ALL
    elsewhere."""
    nx, ny, nz = reach.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                out[i, j, k] = reach[i, j, k]
                for a in range(max(i - 2, 0), min(i + 3, nx)):
                    for b in range(max(j - 2, 0), min(j + 3, ny)):
                        for c in range(max(k - 2, 0), min(k + 3, nz)):
                            if reach[a, b, c] != ALL:
                                out[i, j, k] |= GUARDED


@parallel
def room_about(distance, home, reach, fraction, room):
    """Write the open fraction of the tent about the middle of each guarded cell, as far as it is reached from there."""
    nx, ny, nz = room.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                if reach[i, j, k] == ALL:
                    continue
                total = ZERO
                for s in range(64):
                    a, b, c = (s & 3) - 1, ((s >> 2) & 3) - 1, (s >> 4) - 1
                    w = np.float32(0.125) * tent(a) * tent(b) * tent(c)
                    a, b, c = 2 * i + a, 2 * j + b, 2 * k + c
                    if min(a, b, c) < 0 or a >= distance.shape[0] or b >= distance.shape[1] or c >= distance.shape[2]:
                        continue
                    x, y, z = cell_of(home, a // 2, b // 2, c // 2, a, b, c)
                    if x >= 0 and reached(reach, i, j, k, x, y, z):
                        total += w * open_fraction(distance[a, b, c])
                room[i, j, k] = total


@serial
def joined(open_, blocked, i, j, k, out):
    """Mark the open cells, (nx, ny, nz) bool, that are joined to one of them past thin walls, out (nx, ny, nz) bool,
    False."""
    nx, ny, nz = open_.shape
    stack = np.empty((open_.size, 3), np.int32)
    stack[0, 0], stack[0, 1], stack[0, 2] = i, j, k
    out[i, j, k], n = True, 1
    while n:
        n -= 1
        i, j, k = stack[n, 0], stack[n, 1], stack[n, 2]
        for side in range(6):
            if blocked[i, j, k] & face(side):
                continue
            step = 1 if side & 1 else -1
            x, y, z = i + (step if side < 2 else 0), j + (step if side in (2, 3) else 0), k + (step if side > 3 else 0)
            if min(x, y, z) < 0 or x >= nx or y >= ny or z >= nz or out[x, y, z] or not open_[x, y, z]:
                continue
            out[x, y, z] = True
            stack[n, 0], stack[n, 1], stack[n, 2] = x, y, z
            n += 1


@serial
def beside(low, high, thin, reach):
    """List for each body the thin ones whose bounds, (n, 3) each [m], are no farther than `reach` [m] from its own,
    itself among them: numbers (m,), and where those of each begin (n + 1,)."""
    n = len(low)
    start, m = np.zeros(n + 1, np.int64), 0
    for turn in range(2):
        found, m = np.empty(m, np.int64), 0
        for a in range(n):
            for b in range(n):
                near = thin[b]
                for c in range(3):
                    near = near and low[a, c] - reach <= high[b, c] and low[b, c] - reach <= high[a, c]
                if near:
                    if turn:
                        found[m] = b
                    m += 1
            start[a + 1] = m
    return found, start


@kernel
def _taken(turn, shift, origin, cell, body, u, v, w):
    """Where a place has gone with a body since that was placed last [cells]."""
    x, y, z = origin[0] + cell * u, origin[1] + cell * v, origin[2] + cell * w
    p = turn[body, 0, 0] * x + turn[body, 0, 1] * y + turn[body, 0, 2] * z + shift[body, 0]
    q = turn[body, 1, 0] * x + turn[body, 1, 1] * y + turn[body, 1, 2] * z + shift[body, 1]
    r = turn[body, 2, 0] * x + turn[body, 2, 1] * y + turn[body, 2, 2] * z + shift[body, 2]
    return (p - origin[0]) / cell, (q - origin[1]) / cell, (r - origin[2]) / cell


@called
def hit(met, goes, u, v, w, x, y, z, lap):
    """Where a way between two places [cells] meets a thin wall: the fraction of it, 2 if there is none, the wall, its
    plane, and the place from which it is as the wall sees it, which has gone along since it was placed last if it
    `goes`.

    Walls are looked for that are nearest to some place of the way, and those beside them.

    Parameters
    ----------
    met : tuple
        What `Walls.met` returns.
    goes : bool
    u, v, w, x, y, z : float
        Both places.
    lap : float
        By how much walls are larger [cells].
    """
    planes, face_start, owner, beside, beside_start, turn, shift, _, _, _, origin, cell = met
    nearest, wall, face, last = 2.0, -1, -1, -1
    su, sv, sw = u, v, w
    ou, ov, ow = u, v, w
    if goes:
        # from where the nearest has taken it
        body = owner[
            min(max(np.int64(2.0 * u), 0), owner.shape[0] - 1),
            min(max(np.int64(2.0 * v), 0), owner.shape[1] - 1),
            min(max(np.int64(2.0 * w), 0), owner.shape[2] - 1),
        ]
        if body != NONE:
            ou, ov, ow = _taken(turn, shift, origin, cell, body, u, v, w)
    count = min(1 + int(2.0 * (abs(x - ou) + abs(y - ov) + abs(z - ow))), 16)
    for n in range(count + 1):
        t = n / count
        a = min(max(np.int64(2.0 * (ou + t * (x - ou))), 0), owner.shape[0] - 1)
        b = min(max(np.int64(2.0 * (ov + t * (y - ov))), 0), owner.shape[1] - 1)
        c = min(max(np.int64(2.0 * (ow + t * (z - ow))), 0), owner.shape[2] - 1)
        first = owner[a, b, c]
        if first == NONE or first == last:
            continue
        last = first
        for m in range(beside_start[first], beside_start[first + 1]):
            body = beside[m]
            px, py, pz = u, v, w
            if goes:
                px, py, pz = _taken(turn, shift, origin, cell, body, u, v, w)
            t, f = clip(
                planes,
                face_start[body],
                face_start[body + 1],
                lap * cell,
                origin[0] + cell * px,
                origin[1] + cell * py,
                origin[2] + cell * pz,
                cell * (x - px),
                cell * (y - py),
                cell * (z - pz),
            )
            if t < nearest:
                nearest, wall, face, su, sv, sw = t, body, f, px, py, pz
    return nearest, wall, face, su, sv, sw


@called
def stopped(met, before, x, y, z, velocity, stand):
    """Where a particle gets to that goes from `before` (3,) to (x, y, z) [cells] beside thin walls, which it does not
    pass; of its velocity (3,) [m/s] what leads into them is lost. For met see `hit`.

    Parameters
    ----------
    met : tuple
    before : (3,) float32
    x, y, z : float32
    velocity : (3,) float32
        Changed in place.
    stand : float32
        Distance kept from walls [cells].
    """
    planes, _, _, _, _, _, _, velocities, positions, spins, origin, cell = met
    u, v, w = float(before[0]), float(before[1]), float(before[2])
    tx, ty, tz = float(x), float(y), float(z)
    ou, ov, ow = u, v, w
    for turn in range(4):
        t, wall, face, su, sv, sw = hit(met, turn == 0, u, v, w, tx, ty, tz, LAP)
        if wall < 0:
            break
        if turn == 0:
            ou, ov, ow = su, sv, sw
        if turn == 3:
            # in a corner it goes as the wall does
            tx, ty, tz = ou, ov, ow
            rx, ry, rz = origin[0] + cell * ou, origin[1] + cell * ov, origin[2] + cell * ow
            rx, ry, rz = rx - positions[wall, 0], ry - positions[wall, 1], rz - positions[wall, 2]
            velocity[0] = np.float32(velocities[wall, 0] + spins[wall, 1] * rz - spins[wall, 2] * ry)
            velocity[1] = np.float32(velocities[wall, 1] + spins[wall, 2] * rx - spins[wall, 0] * rz)
            velocity[2] = np.float32(velocities[wall, 2] + spins[wall, 0] * ry - spins[wall, 1] * rx)
            break
        nx, ny, nz = planes[face, 0], planes[face, 1], planes[face, 2]
        hx, hy, hz = su + t * (tx - su), sv + t * (ty - sv), sw + t * (tz - sw)
        rx = origin[0] + cell * hx - positions[wall, 0]
        ry = origin[1] + cell * hy - positions[wall, 1]
        rz = origin[2] + cell * hz - positions[wall, 2]
        own = nx * (velocities[wall, 0] + spins[wall, 1] * rz - spins[wall, 2] * ry)
        own += ny * (velocities[wall, 1] + spins[wall, 2] * rx - spins[wall, 0] * rz)
        own += nz * (velocities[wall, 2] + spins[wall, 0] * ry - spins[wall, 1] * rx)
        into = min(velocity[0] * nx + velocity[1] * ny + velocity[2] * nz - own, 0.0)
        velocity[0] -= np.float32(into * nx)
        velocity[1] -= np.float32(into * ny)
        velocity[2] -= np.float32(into * nz)
        # on along the wall
        off = min((tx - hx) * nx + (ty - hy) * ny + (tz - hz) * nz, 0.0) - stand
        u, v, w = ou, ov, ow
        tx, ty, tz = tx - off * nx, ty - off * ny, tz - off * nz
    return np.float32(tx), np.float32(ty), np.float32(tz)


@serial
def edge_of(mine, fraction, blocked, most, out):
    """Mark the cells open by `most` at most that are beside some, mine (nx, ny, nz) bool, past thin walls, and these,
    out."""
    nx, ny, nz = mine.shape
    for i in range(nx):
        for j in range(ny):
            for k in range(nz):
                out[i, j, k] = mine[i, j, k]
                if mine[i, j, k] or fraction[i, j, k] > most:
                    continue
                for side in range(6):
                    step = 1 if side & 1 else -1
                    x, y, z = (
                        i + (step if side < 2 else 0),
                        j + (step if side in (2, 3) else 0),
                        k + (step if side > 3 else 0),
                    )
                    if min(x, y, z) >= 0 and x < nx and y < ny and z < nz and not blocked[i, j, k] & face(side):
                        out[i, j, k] = out[i, j, k] or mine[x, y, z]


@parallel
def clear(position, reach, met, out):
    """Write whether places (n, 3) [cells] lie in no thin wall, out (n,) bool; for met see `hit`."""
    for number in prange(len(position)):
        n = np.int64(number)
        x, y, z = float(position[n, 0]), float(position[n, 1]), float(position[n, 2])
        out[n] = reach[np.int64(x), np.int64(y), np.int64(z)] == ALL or hit(met, False, x, y, z, x, y, z, LAP)[1] < 0


@parallel
def find_owner_cells(position, distance, home, reach, met, owner_cell):
    """Find whose room each particle is in, owner_cell (n,) int32, the number of a cell: that of the nearest sample that
    it sees.

    Parameters
    ----------
    position : (n, 3) float32 [cells]
    distance, home : (2nx, 2ny, 2nz)
    reach : (nx, ny, nz) uint32
    met : tuple
        What `Walls.met` returns.
    owner_cell : (n,) int32
    """
    nx, ny, nz = reach.shape
    for number in prange(len(position)):
        n = np.int64(number)
        x, y, z = float(position[n, 0]), float(position[n, 1]), float(position[n, 2])
        i, j, k = np.int64(x), np.int64(y), np.int64(z)
        owner_cell[n] = (i * ny + j) * nz + k
        if reach[i, j, k] == ALL:
            continue
        a, b, c = np.int64(x + x), np.int64(y + y), np.int64(z + z)
        # towards the samples on this side of the octant
        p = 1 if x + x - a > 0.5 else -1
        q = 1 if y + y - b > 0.5 else -1
        r = 1 if z + z - c > 0.5 else -1
        least = 1e30
        for s in range(8):
            u, v, w = a + (p if s & 1 else 0), b + (q if s & 2 else 0), c + (r if s & 4 else 0)
            if min(u, v, w) < 0 or u >= distance.shape[0] or v >= distance.shape[1] or w >= distance.shape[2]:
                continue
            if distance[u, v, w] <= ZERO:
                continue
            dx, dy, dz = 0.5 * u + 0.25 - x, 0.5 * v + 0.25 - y, 0.5 * w + 0.25 - z
            away = dx * dx + dy * dy + dz * dz
            if away < least and hit(met, False, x, y, z, x + dx, y + dy, z + dz, 0.0)[1] < 0:
                e, f, g = cell_of(home, u // 2, v // 2, w // 2, u, v, w)
                if e >= 0:
                    least = away
                    owner_cell[n] = (e * ny + f) * nz + g
