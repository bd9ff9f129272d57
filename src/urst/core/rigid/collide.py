"""Kernels that find where convex bodies touch.

Separating axes over faces and edge pairs (Gottschalk, Lin & Manocha 1996), edge pairs pruned by the arcs they
span on the Gauss map (Gregorius 2013, The Separating Axis Test between Convex Polyhedra); the touching face is
clipped against the sides of the reference face and thinned to four points.
"""

from typing import NamedTuple

import numpy as np
from numba import prange

from urst.core.bodies.mobility import ABSENT, LOOSE
from urst.core.jit import inline, parallel, serial


class Touches(NamedTuple):
    """What was found for `p` pairs of bodies."""

    counts: np.ndarray  # (p,) int64 points found, 0 to 4
    normals: np.ndarray  # (p, 3) from the first body to the second
    points: np.ndarray  # (p, 4, 3) [m]
    gaps: np.ndarray  # (p, 4) [m]


class Ties(NamedTuple):
    """Which bodies bonds join, looked up by body."""

    start: np.ndarray  # (n + 1,) int64 into the next two
    neighbours: np.ndarray  # (k,) int64
    bond: np.ndarray  # (k,) int64


@serial
def find_pairs(low, high, kind, ties, bond_alive, pairs):
    """Write the pairs of bodies whose bounds overlap, both there, at least one loose, and no living bond between.

    Returns their number, or -1 if `pairs` (p, 2) is too short. Sorted by first body, then second.
    """
    n = len(low)
    order = np.argsort(low[:, 0])
    found = 0
    for s in range(n):
        a = order[s]
        for t in range(s + 1, n):
            b = order[t]
            if low[b, 0] > high[a, 0]:
                break
            if (kind[a] != LOOSE and kind[b] != LOOSE) or kind[a] == ABSENT or kind[b] == ABSENT:
                continue
            if low[b, 1] > high[a, 1] or low[a, 1] > high[b, 1] or low[b, 2] > high[a, 2] or low[a, 2] > high[b, 2]:
                continue
            i, j = min(a, b), max(a, b)
            held = False
            for k in range(ties.start[i], ties.start[i + 1]):
                if ties.neighbours[k] == j and bond_alive[ties.bond[k]]:
                    held = True
                    break
            if held:
                continue
            if found >= len(pairs):
                return -1
            pairs[found, 0], pairs[found, 1] = i, j
            found += 1
    key = pairs[:found, 0] * n + pairs[:found, 1]
    order = np.argsort(key)
    copy = pairs[:found].copy()
    for k in range(found):
        pairs[k] = copy[order[k]]
    return found


@parallel
def touch(pairs, margin, hulls, position, counts, normals, points, gaps):
    """Find the contact of every pair; see `Touches` for what is written.

    Arrays that a parallel loop writes stand as arguments of their own: stores through a tuple can get lost.

    `margin` (n,) [m]: how far apart two bodies may still be noted, the sum of both is used; `hulls` in world coordinates.
    """
    for p in prange(len(pairs)):
        i, j = pairs[p, 0], pairs[p, 1]
        counts[p] = _contact(i, j, margin[i] + margin[j], hulls, position, normals[p], points[p], gaps[p])


@inline
def _face_query(i, j, margin, vertices, vertex_start, planes, face_start):
    best, best_face = -np.inf, -1
    for f in range(face_start[i], face_start[i + 1]):
        nx, ny, nz = planes[f, 0], planes[f, 1], planes[f, 2]
        least = np.inf
        for k in range(vertex_start[j], vertex_start[j + 1]):
            d = nx * vertices[k, 0] + ny * vertices[k, 1] + nz * vertices[k, 2]
            if d < least:
                least = d
        least -= planes[f, 3]
        if least > best:
            best, best_face = least, f
            if best > margin:
                break
    return best, best_face


@serial
def _contact(i, j, margin, hulls, position, normal, points, gaps):
    vertices, vertex_start, planes, face_start = hulls.vertices, hulls.vertex_start, hulls.planes, hulls.face_start
    edges, edge_start = hulls.edges, hulls.edge_start
    gap_i, face_i = _face_query(i, j, margin, vertices, vertex_start, planes, face_start)
    if gap_i > margin:
        return 0
    gap_j, face_j = _face_query(j, i, margin, vertices, vertex_start, planes, face_start)
    if gap_j > margin:
        return 0
    gap_e, edge_i, edge_j = -np.inf, -1, -1
    ex, ey, ez = 0.0, 0.0, 0.0
    vi, vj, fi, fj = vertex_start[i], vertex_start[j], face_start[i], face_start[j]
    for a in range(edge_start[i], edge_start[i + 1]):
        p0, p1 = vi + edges[a, 0], vi + edges[a, 1]
        a0, a1 = fi + edges[a, 2], fi + edges[a, 3]
        dx, dy, dz = (
            vertices[p1, 0] - vertices[p0, 0],
            vertices[p1, 1] - vertices[p0, 1],
            vertices[p1, 2] - vertices[p0, 2],
        )
        # the arc between the two face normals runs round this axis
        bx = planes[a1, 1] * planes[a0, 2] - planes[a1, 2] * planes[a0, 1]
        by = planes[a1, 2] * planes[a0, 0] - planes[a1, 0] * planes[a0, 2]
        bz = planes[a1, 0] * planes[a0, 1] - planes[a1, 1] * planes[a0, 0]
        for b in range(edge_start[j], edge_start[j + 1]):
            b0, b1 = fj + edges[b, 2], fj + edges[b, 3]
            cba = -(planes[b0, 0] * bx + planes[b0, 1] * by + planes[b0, 2] * bz)
            dba = -(planes[b1, 0] * bx + planes[b1, 1] * by + planes[b1, 2] * bz)
            if cba * dba >= 0.0:
                continue
            cx = planes[b1, 1] * planes[b0, 2] - planes[b1, 2] * planes[b0, 1]
            cy = planes[b1, 2] * planes[b0, 0] - planes[b1, 0] * planes[b0, 2]
            cz = planes[b1, 0] * planes[b0, 1] - planes[b1, 1] * planes[b0, 0]
            adc = planes[a0, 0] * cx + planes[a0, 1] * cy + planes[a0, 2] * cz
            bdc = planes[a1, 0] * cx + planes[a1, 1] * cy + planes[a1, 2] * cz
            if adc * bdc >= 0.0 or cba * bdc <= 0.0:
                continue
            q0, q1 = vj + edges[b, 0], vj + edges[b, 1]
            gx, gy, gz = (
                vertices[q1, 0] - vertices[q0, 0],
                vertices[q1, 1] - vertices[q0, 1],
                vertices[q1, 2] - vertices[q0, 2],
            )
            nx, ny, nz = dy * gz - dz * gy, dz * gx - dx * gz, dx * gy - dy * gx
            square = nx * nx + ny * ny + nz * nz
            if square < 1e-6 * (dx * dx + dy * dy + dz * dz) * (gx * gx + gy * gy + gz * gz):
                continue
            length = np.sqrt(square)
            nx, ny, nz = nx / length, ny / length, nz / length
            px, py, pz = vertices[p0, 0], vertices[p0, 1], vertices[p0, 2]
            if nx * (px - position[i, 0]) + ny * (py - position[i, 1]) + nz * (pz - position[i, 2]) < 0.0:
                nx, ny, nz = -nx, -ny, -nz
            gap = nx * (vertices[q0, 0] - px) + ny * (vertices[q0, 1] - py) + nz * (vertices[q0, 2] - pz)
            if gap > gap_e:
                gap_e, edge_i, edge_j, ex, ey, ez = gap, a, b, nx, ny, nz
                if gap > margin:
                    return 0
    # a face gives a steadier patch than a pair of edges, so an edge must win clearly
    slack = 1e-3 * margin + 1e-5
    if edge_i >= 0 and gap_e > max(gap_i, gap_j) + slack:
        normal[0], normal[1], normal[2] = ex, ey, ez
        _edge_point(vi + edges[edge_i, 0], vi + edges[edge_i, 1], vj + edges[edge_j, 0], vj + edges[edge_j, 1],
                    vertices, points)  # fmt: skip
        gaps[0] = gap_e
        return 1
    if gap_i >= gap_j - slack:
        return _face_points(i, j, face_i, margin, hulls, normal, points, gaps, 1.0)
    return _face_points(j, i, face_j, margin, hulls, normal, points, gaps, -1.0)


@serial
def _edge_point(p0, p1, q0, q1, vertices, points):
    """Middle of the shortest line between two edges."""
    u, v, w = vertices[p1] - vertices[p0], vertices[q1] - vertices[q0], vertices[p0] - vertices[q0]
    a, b, c = (u * u).sum(), (u * v).sum(), (v * v).sum()
    d, e = (u * w).sum(), (v * w).sum()
    det = a * c - b * b
    s = min(1.0, max(0.0, (b * e - c * d) / det))
    t = min(1.0, max(0.0, (a * e - b * d) / det))
    for k in range(3):
        points[0, k] = 0.5 * (vertices[p0, k] + s * u[k] + vertices[q0, k] + t * v[k])


@serial
def _face_points(i, j, face, margin, hulls, normal, points, gaps, sign):
    vertices, vertex_start, planes, face_start = hulls.vertices, hulls.vertex_start, hulls.planes, hulls.face_start
    loops, loop_start = hulls.loops, hulls.loop_start
    nx, ny, nz, offset = planes[face, 0], planes[face, 1], planes[face, 2], planes[face, 3]
    facing, other = 2.0, -1
    for g in range(face_start[j], face_start[j + 1]):
        d = planes[g, 0] * nx + planes[g, 1] * ny + planes[g, 2] * nz
        if d < facing:
            facing, other = d, g
    # clipping one convex outline by another adds a corner a side at most; rounding may add a few
    room = loop_start[other + 1] - loop_start[other] + loop_start[face + 1] - loop_start[face] + 8
    poly = np.empty((room, 3))
    work = np.empty((room, 3))
    n = 0
    for k in range(loop_start[other], loop_start[other + 1]):
        poly[n] = vertices[vertex_start[j] + loops[k]]
        n += 1
    first, last = loop_start[face], loop_start[face + 1]
    for k in range(first, last):
        a = vertices[vertex_start[i] + loops[k]]
        b = vertices[vertex_start[i] + loops[k + 1 if k + 1 < last else first]]
        dx, dy, dz = b[0] - a[0], b[1] - a[1], b[2] - a[2]
        sx, sy, sz = dy * nz - dz * ny, dz * nx - dx * nz, dx * ny - dy * nx
        limit = sx * a[0] + sy * a[1] + sz * a[2]
        kept = 0
        for c in range(n):
            e = c + 1 if c + 1 < n else 0
            dc = sx * poly[c, 0] + sy * poly[c, 1] + sz * poly[c, 2] - limit
            de = sx * poly[e, 0] + sy * poly[e, 1] + sz * poly[e, 2] - limit
            if dc <= 0.0:
                work[kept] = poly[c]
                kept += 1
            if (dc < 0.0 and de > 0.0) or (dc > 0.0 and de < 0.0):
                t = dc / (dc - de)
                for x in range(3):
                    work[kept, x] = poly[c, x] + t * (poly[e, x] - poly[c, x])
                kept += 1
            if kept >= room - 2:
                break
        n = kept
        for c in range(n):
            poly[c] = work[c]
        if n == 0:
            break
    gap = np.empty(room)
    kept = 0
    for c in range(n):
        d = nx * poly[c, 0] + ny * poly[c, 1] + nz * poly[c, 2] - offset
        if d <= margin:
            gap[kept] = d
            # the point lies halfway between the two surfaces
            poly[kept, 0] = poly[c, 0] - 0.5 * d * nx
            poly[kept, 1] = poly[c, 1] - 0.5 * d * ny
            poly[kept, 2] = poly[c, 2] - 0.5 * d * nz
            kept += 1
    # a corner may stand deeper than the facing polygon shows: of a spinning shard, or where clipping left nothing
    low, corner = np.inf, -1
    for k in range(vertex_start[j], vertex_start[j + 1]):
        d = nx * vertices[k, 0] + ny * vertices[k, 1] + nz * vertices[k, 2] - offset
        if d < low:
            low, corner = d, k
    shown = np.inf
    for c in range(kept):
        shown = min(shown, gap[c])
    if low < 0.0 and low < shown - 1e-4 and kept < room:
        gap[kept] = low
        poly[kept, 0] = vertices[corner, 0] - 0.5 * low * nx
        poly[kept, 1] = vertices[corner, 1] - 0.5 * low * ny
        poly[kept, 2] = vertices[corner, 2] - 0.5 * low * nz
        kept += 1
    normal[0], normal[1], normal[2] = sign * nx, sign * ny, sign * nz
    return _thin(poly, gap, kept, nx, ny, nz, points, gaps)


@serial
def _thin(poly, gap, n, nx, ny, nz, points, gaps):
    """Keep at most four points: the deepest, the farthest from it, and the two widest to either side of that line."""
    if n <= 4:
        for c in range(n):
            points[c] = poly[c]
            gaps[c] = gap[c]
        return n
    a = 0
    for c in range(1, n):
        if gap[c] < gap[a]:
            a = c
    b, far = -1, -1.0
    for c in range(n):
        d = (poly[c, 0] - poly[a, 0]) ** 2 + (poly[c, 1] - poly[a, 1]) ** 2 + (poly[c, 2] - poly[a, 2]) ** 2
        if c != a and d > far:
            b, far = c, d
    ux, uy, uz = poly[b, 0] - poly[a, 0], poly[b, 1] - poly[a, 1], poly[b, 2] - poly[a, 2]
    sx, sy, sz = uy * nz - uz * ny, uz * nx - ux * nz, ux * ny - uy * nx
    left, right, most, least = -1, -1, 0.0, 0.0
    for c in range(n):
        if c == a or c == b:
            continue
        d = sx * (poly[c, 0] - poly[a, 0]) + sy * (poly[c, 1] - poly[a, 1]) + sz * (poly[c, 2] - poly[a, 2])
        if d > most:
            left, most = c, d
        elif d < least:
            right, least = c, d
    kept = 0
    for c in (a, b, left, right):
        if c >= 0:
            points[kept] = poly[c]
            gaps[kept] = gap[c]
            kept += 1
    return kept
