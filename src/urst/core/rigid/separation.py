"""The direction in which two convex shapes lie apart, or overlap least.

Apart, it is that of the shortest distance (Gilbert, Johnson & Keerthi 1988); in each other, that of the least overlap
over all faces and pairs of edges (Gottschalk, Lin & Manocha 1996), pairs of edges pruned by the arcs they span on the
Gauss map (Gregorius 2013).
"""

from typing import NamedTuple

import numpy as np

from urst.core.jit import kernel

#: what stands in `Shapes.fold` of a shape that is no triangle of a land
SOLID = -1.0
#: rounds in which the shortest distance is sought
_ROUNDS = 24
#: relative accuracy of the shortest distance
_EXACT = 1e-7


class Shapes(NamedTuple):
    """`s` convex shapes in world coordinates; see `Hulls` for the packing."""

    vertices: np.ndarray  # (3, v)
    vertex_start: np.ndarray
    planes: np.ndarray  # (4, f)
    face_start: np.ndarray
    loops: np.ndarray
    loop_start: np.ndarray
    edges: np.ndarray
    edge_start: np.ndarray
    centre: np.ndarray  # (s, 3) a point inside
    rounding: np.ndarray  # (s,) by how much the hull is grown [m]
    fold: np.ndarray  # (s, 3) of a triangle of a land, a prism whose first face carries: see `Land`; SOLID for all else
    most: np.ndarray  # (4,) int64 corners, faces and edges of a shape, and corners of a face, at most


@kernel
def support(shapes, s, x, y, z):
    """Return the corner of a shape that lies farthest along a direction, and how far that is.

    Parameters
    ----------
    shapes : Shapes
    s : int
    x, y, z : float
    """
    v = shapes.vertices
    best, corner = -np.inf, -1
    for k in range(shapes.vertex_start[s], shapes.vertex_start[s + 1]):
        d = v[0, k] * x + v[1, k] * y + v[2, k] * z
        if d > best:
            best, corner = d, k
    return corner, best


@kernel
def gap_along(shapes, i, j, x, y, z):
    """Return how far two shapes lie apart along a unit direction, from the first to the second [m]; negative if they
    overlap in it.

    Parameters
    ----------
    shapes : Shapes
    i, j : int
    x, y, z : float
    """
    _, top = support(shapes, i, x, y, z)
    _, bottom = support(shapes, j, -x, -y, -z)
    return -bottom - top - shapes.rounding[i] - shapes.rounding[j]


@kernel
def _segment(s, a, b, w):
    """Shares of the ends of a segment in its point nearest the origin."""
    dx, dy, dz = s[b, 0] - s[a, 0], s[b, 1] - s[a, 1], s[b, 2] - s[a, 2]
    square = dx * dx + dy * dy + dz * dz
    t = -(s[a, 0] * dx + s[a, 1] * dy + s[a, 2] * dz)
    t = 0.0 if t <= 0.0 or square == 0.0 else min(t / square, 1.0)
    w[a], w[b] = 1.0 - t, t


@kernel
def _triangle(s, a, b, c, w):
    """Shares of the corners of a triangle in its point nearest the origin (Ericson 2005, section 5.1.5)."""
    ux, uy, uz = s[b, 0] - s[a, 0], s[b, 1] - s[a, 1], s[b, 2] - s[a, 2]
    vx, vy, vz = s[c, 0] - s[a, 0], s[c, 1] - s[a, 1], s[c, 2] - s[a, 2]
    d1, d2 = -(ux * s[a, 0] + uy * s[a, 1] + uz * s[a, 2]), -(vx * s[a, 0] + vy * s[a, 1] + vz * s[a, 2])
    d3, d4 = -(ux * s[b, 0] + uy * s[b, 1] + uz * s[b, 2]), -(vx * s[b, 0] + vy * s[b, 1] + vz * s[b, 2])
    d5, d6 = -(ux * s[c, 0] + uy * s[c, 1] + uz * s[c, 2]), -(vx * s[c, 0] + vy * s[c, 1] + vz * s[c, 2])
    w[a], w[b], w[c] = 0.0, 0.0, 0.0
    if d1 <= 0.0 and d2 <= 0.0:
        w[a] = 1.0
        return
    if d3 >= 0.0 and d4 <= d3:
        w[b] = 1.0
        return
    vc = d1 * d4 - d3 * d2
    if vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
        w[b] = d1 / (d1 - d3)
        w[a] = 1.0 - w[b]
        return
    if d6 >= 0.0 and d5 <= d6:
        w[c] = 1.0
        return
    vb = d5 * d2 - d1 * d6
    if vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
        w[c] = d2 / (d2 - d6)
        w[a] = 1.0 - w[c]
        return
    va = d3 * d6 - d5 * d4
    if va <= 0.0 and d4 - d3 >= 0.0 and d5 - d6 >= 0.0:
        w[c] = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        w[b] = 1.0 - w[c]
        return
    w[b], w[c] = vb / (va + vb + vc), vc / (va + vb + vc)
    w[a] = 1.0 - w[b] - w[c]


@kernel
def _size(s, w):
    """Square of the distance from the origin of the point with these shares."""
    square = 0.0
    for c in range(3):
        x = w[0] * s[0, c] + w[1] * s[1, c] + w[2] * s[2, c] + w[3] * s[3, c]
        square += x * x
    return square


@kernel
def _tetrahedron(s, w, work):
    """Shares of the corners of a tetrahedron in its point nearest the origin; False if the origin lies inside."""
    best = np.inf
    for face in range(4):
        a, b, c = (face + 1) % 4, (face + 2) % 4, (face + 3) % 4
        ux, uy, uz = s[b, 0] - s[a, 0], s[b, 1] - s[a, 1], s[b, 2] - s[a, 2]
        vx, vy, vz = s[c, 0] - s[a, 0], s[c, 1] - s[a, 1], s[c, 2] - s[a, 2]
        nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
        origin = -(s[a, 0] * nx + s[a, 1] * ny + s[a, 2] * nz)
        other = (s[face, 0] - s[a, 0]) * nx + (s[face, 1] - s[a, 1]) * ny + (s[face, 2] - s[a, 2]) * nz
        if origin * other > 0.0:
            continue
        work[face] = 0.0
        _triangle(s, a, b, c, work)
        square = _size(s, work)
        if square < best:
            best = square
            for k in range(4):
                w[k] = work[k]
    return best < np.inf


@kernel
def distance(shapes, i, j, margin, axis, scratch):
    """Return the shortest distance between two hulls, without their rounding [m].

    It is proven: no points of the two lie nearer along `axis`. 0 or less: they overlap. The points nearest each other
    are left in `scratch.point`.

    Parameters
    ----------
    shapes : Shapes
    i, j : int
    margin : float
        Once the distance is proven to be above this, it is sought no further [m].
    axis : (3,)
        Where to look first; the direction found, from the first to the second, is written.
    scratch : Scratch
    """
    s, w, work, corner = scratch.simplex, scratch.fraction, scratch.work, scratch.corner
    v = shapes.vertices
    x, y, z = axis[0], axis[1], axis[2]
    count, proven = 0, -np.inf
    square = np.inf
    w[:] = 0.0
    for _ in range(_ROUNDS):
        p, top = support(shapes, i, x, y, z)
        q, bottom = support(shapes, j, -x, -y, -z)
        apart = -bottom - top
        if apart > proven:
            proven = apart
            axis[0], axis[1], axis[2] = x, y, z
            if proven > margin:
                return proven
        size = np.sqrt(square)
        if count > 0 and size - apart <= _EXACT * size + 1e-12:
            break
        again = False
        for k in range(count):
            again = again or (corner[k, 0] == p and corner[k, 1] == q)
        if again:
            break
        for c in range(3):
            s[count, c] = v[c, q] - v[c, p]
        corner[count, 0], corner[count, 1] = p, q
        count += 1
        for k in range(4):
            w[k] = 0.0
        if count == 1:
            w[0] = 1.0
        elif count == 2:
            _segment(s, 0, 1, w)
        elif count == 3:
            _triangle(s, 0, 1, 2, w)
        elif not _tetrahedron(s, w, work):
            return min(proven, 0.0)
        kept = 0
        for k in range(count):
            if w[k] > 0.0:
                w[kept] = w[k]
                corner[kept, 0], corner[kept, 1] = corner[k, 0], corner[k, 1]
                for c in range(3):
                    s[kept, c] = s[k, c]
                kept += 1
        for k in range(kept, 4):
            w[k] = 0.0
            for c in range(3):
                s[k, c] = 0.0
        count = kept
        nearer = _size(s, w)
        if nearer >= square or nearer < 1e-24:
            if nearer < 1e-24:
                return min(proven, 0.0)
            break
        square = nearer
        size = np.sqrt(square)
        x, y, z = 0.0, 0.0, 0.0
        for k in range(count):
            x += w[k] * s[k, 0] / size
            y += w[k] * s[k, 1] / size
            z += w[k] * s[k, 2] / size
    for side in range(2):
        for c in range(3):
            total = 0.0
            for k in range(count):
                total += w[k] * v[c, corner[k, side]]
            scratch.point[side, c] = total
    return proven


@kernel
def _faces_apart(shapes, i, j, dist, low):
    """How far every corner of `j` lies outside every face of `i`, in `dist`, corner after corner; the least of each
    face in `low`.

    Returns the face that parts them most, and by how much.
    """
    v, planes = shapes.vertices, shapes.planes
    first, faces = shapes.face_start[i], shapes.face_start[i + 1] - shapes.face_start[i]
    start, corners = shapes.vertex_start[j], shapes.vertex_start[j + 1] - shapes.vertex_start[j]
    nx, ny = planes[0, first : first + faces], planes[1, first : first + faces]
    nz, offset = planes[2, first : first + faces], planes[3, first : first + faces]
    for f in range(faces):
        low[f] = np.inf
    for k in range(corners):
        x, y, z = v[0, start + k], v[1, start + k], v[2, start + k]
        row = dist[k * faces : (k + 1) * faces]
        for f in range(faces):
            row[f] = nx[f] * x + ny[f] * y + nz[f] * z - offset[f]
        for f in range(faces):
            low[f] = min(low[f], row[f])
    best, face = -np.inf, -1
    for f in range(faces):
        if low[f] > best:
            best, face = low[f], f
    return best, first + face


@kernel
def _edges_near(shapes, i, j, best, dist, depth, kept):
    """List in `kept` the edges of `j` that come within `depth` of the surface of `i`; returns how many.

    `best`: the face of `i` that parts the two most; it rules out most edges at once. Where two edges give the least
    overlap, each has a point within that overlap of the other's body: one wholly farther outside one face, or wholly
    farther inside all of them, cannot be one of the two.
    """
    edges, faces = shapes.edges, shapes.face_start[i + 1] - shapes.face_start[i]
    n = 0
    for e in range(shapes.edge_start[j], shapes.edge_start[j + 1]):
        p, q = edges[e, 0] * faces, edges[e, 1] * faces
        if dist[p + best] > depth and dist[q + best] > depth:
            continue
        outside, inside = False, True
        for f in range(faces):
            inside = inside and dist[p + f] < -depth and dist[q + f] < -depth
            if dist[p + f] > depth and dist[q + f] > depth:
                outside = True
                break
        if not outside and not inside:
            kept[n] = e
            n += 1
    return n


@kernel
def least_overlap(shapes, i, j, scratch):
    """Search all faces and pairs of edges of two hulls in each other for the direction of least overlap.

    Parameters
    ----------
    shapes : Shapes
    i, j : int
    scratch : Scratch

    Returns
    -------
    (gap, kind, first, second)
        Kind 0 a face of the first, 1 of the second, 2 an edge of either; the direction of a pair of edges is left in
        `scratch.normal`.
    """
    v, planes, centre, edges = shapes.vertices, shapes.planes, shapes.centre, shapes.edges
    gap, first = _faces_apart(shapes, i, j, scratch.of_i, scratch.low)
    other, face = _faces_apart(shapes, j, i, scratch.of_j, scratch.low)
    kind, second, best_i, best_j = 0, -1, first - shapes.face_start[i], face - shapes.face_start[j]
    # the first body's faces are kept where both fit equally, so that rest is steady
    if other > gap + 1e-6:
        gap, kind, first = other, 1, face
    edge_gap = -np.inf
    vi, vj, fi, fj = shapes.vertex_start[i], shapes.vertex_start[j], shapes.face_start[i], shapes.face_start[j]
    some_j = _edges_near(shapes, i, j, best_i, scratch.of_i, -gap, scratch.edges_j)
    some_i = _edges_near(shapes, j, i, best_j, scratch.of_j, -gap, scratch.edges_i) if some_j else 0
    for m in range(some_i):
        a = scratch.edges_i[m]
        p0, p1 = vi + edges[a, 0], vi + edges[a, 1]
        a0, a1 = fi + edges[a, 2], fi + edges[a, 3]
        dx, dy, dz = v[0, p1] - v[0, p0], v[1, p1] - v[1, p0], v[2, p1] - v[2, p0]
        # the arc between the normals of its faces turns round the edge
        bx = planes[1, a1] * planes[2, a0] - planes[2, a1] * planes[1, a0]
        by = planes[2, a1] * planes[0, a0] - planes[0, a1] * planes[2, a0]
        bz = planes[0, a1] * planes[1, a0] - planes[1, a1] * planes[0, a0]
        for n in range(some_j):
            b = scratch.edges_j[n]
            b0, b1 = fj + edges[b, 2], fj + edges[b, 3]
            cba = -(planes[0, b0] * bx + planes[1, b0] * by + planes[2, b0] * bz)
            dba = -(planes[0, b1] * bx + planes[1, b1] * by + planes[2, b1] * bz)
            if cba * dba >= 0.0:
                continue
            cx = planes[1, b1] * planes[2, b0] - planes[2, b1] * planes[1, b0]
            cy = planes[2, b1] * planes[0, b0] - planes[0, b1] * planes[2, b0]
            cz = planes[0, b1] * planes[1, b0] - planes[1, b1] * planes[0, b0]
            adc = planes[0, a0] * cx + planes[1, a0] * cy + planes[2, a0] * cz
            bdc = planes[0, a1] * cx + planes[1, a1] * cy + planes[2, a1] * cz
            if adc * bdc >= 0.0 or cba * bdc <= 0.0:
                continue
            q0, q1 = vj + edges[b, 0], vj + edges[b, 1]
            gx, gy, gz = v[0, q1] - v[0, q0], v[1, q1] - v[1, q0], v[2, q1] - v[2, q0]
            nx, ny, nz = dy * gz - dz * gy, dz * gx - dx * gz, dx * gy - dy * gx
            square = nx * nx + ny * ny + nz * nz
            if square < 1e-6 * (dx * dx + dy * dy + dz * dz) * (gx * gx + gy * gy + gz * gz):
                continue
            length = np.sqrt(square)
            nx, ny, nz = nx / length, ny / length, nz / length
            px, py, pz = v[0, p0], v[1, p0], v[2, p0]
            if nx * (px - centre[i, 0]) + ny * (py - centre[i, 1]) + nz * (pz - centre[i, 2]) < 0.0:
                nx, ny, nz = -nx, -ny, -nz
            away = nx * (v[0, q0] - px) + ny * (v[1, q0] - py) + nz * (v[2, q0] - pz)
            # a face gives a steadier patch than a pair of edges, so an edge must win clearly
            if away > edge_gap and away > gap + 1e-4:
                edge_gap, first, second = away, a, b
                scratch.normal[0], scratch.normal[1], scratch.normal[2] = nx, ny, nz
    if second >= 0:
        return edge_gap, 2, first, second
    return gap, kind, first, second


@kernel
def facing(shapes, s, x, y, z):
    """Return the face of a hull that looks most along a direction, -1 if it has none.

    Parameters
    ----------
    shapes : Shapes
    s : int
    x, y, z : float
    """
    planes = shapes.planes
    best, face = -2.0, -1
    for f in range(shapes.face_start[s], shapes.face_start[s + 1]):
        d = planes[0, f] * x + planes[1, f] * y + planes[2, f] * z
        if d > best:
            best, face = d, f
    return face


@kernel
def edges_meet(shapes, i, j, first, second, point):
    """Find the points of two edges nearest each other.

    Parameters
    ----------
    shapes : Shapes
    i, j : int
    first, second : int
        Edge of `i` and edge of `j`.
    point : (2, 3)
        Written.
    """
    v, vi, vj = shapes.vertices, shapes.vertex_start[i], shapes.vertex_start[j]
    p0, p1 = vi + shapes.edges[first, 0], vi + shapes.edges[first, 1]
    q0, q1 = vj + shapes.edges[second, 0], vj + shapes.edges[second, 1]
    a, b, c, d, e = 0.0, 0.0, 0.0, 0.0, 0.0
    for k in range(3):
        u, w, o = v[k, p1] - v[k, p0], v[k, q1] - v[k, q0], v[k, p0] - v[k, q0]
        a += u * u
        b += u * w
        c += w * w
        d += u * o
        e += w * o
    det = a * c - b * b
    s = min(1.0, max(0.0, (b * e - c * d) / det))
    t = min(1.0, max(0.0, (a * e - b * d) / det))
    for k in range(3):
        point[0, k] = v[k, p0] + s * (v[k, p1] - v[k, p0])
        point[1, k] = v[k, q0] + t * (v[k, q1] - v[k, q0])
