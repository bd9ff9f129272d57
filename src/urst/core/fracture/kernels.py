"""Kernels of the fracture: cutting a convex polyhedron by planes.

A body is a `Faces`; polygons (f, c, 3) [m] and counts (f,) are its own. Corners nearer to a plane, or to each other,
than tolerance [m] count as on it, or as one.
"""

from typing import NamedTuple

import numpy as np

from urst.core.jit import serial


class Faces(NamedTuple):
    """The faces of a convex polyhedron, with room for more, and work space to cut them in."""

    polygons: np.ndarray  # (f, c, 3) corners [m]
    counts: np.ndarray  # (f,) int64 corners of each
    tags: np.ndarray  # (f,) int64 what each came from
    scratch: np.ndarray  # (c, 3)
    cap: np.ndarray  # (c, 3)


class Plane(NamedTuple):
    """Where (x, y, z) . p = offset; the vector is a unit one."""

    x: float
    y: float
    z: float
    offset: float  # [m]


@serial
def cut(body, faces, plane, tag, tolerance):
    """Keep the part of a convex polyhedron below a plane; return the new number of faces.

    The first `faces` of `body` are in use; it is changed in place. The new face carries `tag`. Returns -1 where there
    is not room for all faces or corners: the polygons are then spoilt, and the cut must be made again with more. An
    edge is always cut from its kept end to its lost end, so the two faces that share it get the very same point.
    """
    polygons, counts, tags, scratch, cap = body
    nx, ny, nz, offset = plane
    most_faces, most_corners = polygons.shape[0], polygons.shape[1]
    inside_any, outside_any = False, False
    for f in range(faces):
        for k in range(counts[f]):
            d = nx * polygons[f, k, 0] + ny * polygons[f, k, 1] + nz * polygons[f, k, 2] - offset
            if d > tolerance:
                outside_any = True
            else:
                inside_any = True
    if not outside_any:
        return faces
    if not inside_any:
        return 0
    caps, kept = 0, 0
    for f in range(faces):
        n, m = counts[f], 0
        for k in range(n):
            j = k + 1 if k + 1 < n else 0
            dk = nx * polygons[f, k, 0] + ny * polygons[f, k, 1] + nz * polygons[f, k, 2] - offset
            dj = nx * polygons[f, j, 0] + ny * polygons[f, j, 1] + nz * polygons[f, j, 2] - offset
            k_in, j_in = dk <= tolerance, dj <= tolerance
            if k_in:
                if m >= most_corners:
                    return -1
                scratch[m] = polygons[f, k]
                m += 1
            if k_in != j_in:
                a, b, da, db = (k, j, dk, dj) if k_in else (j, k, dj, dk)
                t = da / (da - db)
                if t < 0.0:
                    t = 0.0
                if m >= most_corners:
                    return -1
                for c in range(3):
                    scratch[m, c] = polygons[f, a, c] + t * (polygons[f, b, c] - polygons[f, a, c])
                if k_in:
                    if caps >= most_corners:
                        return -1
                    cap[caps] = scratch[m]
                    caps += 1
                m += 1
        if m >= 3:
            polygons[kept, :m] = scratch[:m]
            counts[kept] = m
            tags[kept] = tags[f]
            kept += 1
    if caps >= 3:
        if kept >= most_faces:
            return -1
        _order(cap, caps, nx, ny, nz)
        polygons[kept, :caps] = cap[:caps]
        counts[kept] = caps
        tags[kept] = tag
        kept += 1
    return kept


@serial
def _order(points, n, nx, ny, nz):
    """Sort the corners of a convex polygon counter-clockwise about the normal."""
    ax, ay, az = 0.0, 0.0, 0.0
    if abs(nx) <= abs(ny) and abs(nx) <= abs(nz):
        ax = 1.0
    elif abs(ny) <= abs(nz):
        ay = 1.0
    else:
        az = 1.0
    ux, uy, uz = ny * az - nz * ay, nz * ax - nx * az, nx * ay - ny * ax
    vx, vy, vz = ny * uz - nz * uy, nz * ux - nx * uz, nx * uy - ny * ux
    cx, cy, cz = 0.0, 0.0, 0.0
    for k in range(n):
        cx += points[k, 0] / n
        cy += points[k, 1] / n
        cz += points[k, 2] / n
    angle = np.empty(n)
    for k in range(n):
        x, y, z = points[k, 0] - cx, points[k, 1] - cy, points[k, 2] - cz
        angle[k] = np.arctan2(x * vx + y * vy + z * vz, x * ux + y * uy + z * uz)
    order = np.argsort(angle)
    copy = points[:n].copy()
    for k in range(n):
        points[k] = copy[order[k]]


@serial
def cell(site, sites, order, body, faces, tolerance):
    """Cut a polyhedron, of which the first `faces` are in use, down to the Voronoi cell of `sites[site]`.

    `order` lists other sites, nearest first. Returns (faces left, whether the list was long enough to be sure);
    a cell is sure once the next bisector lies beyond its farthest corner.
    """
    polygons, counts = body.polygons, body.counts
    px, py, pz = sites[site]
    for q in order:
        nx, ny, nz = sites[q, 0] - px, sites[q, 1] - py, sites[q, 2] - pz
        distance = np.sqrt(nx * nx + ny * ny + nz * nz)
        reach = 0.0
        for f in range(faces):
            for k in range(counts[f]):
                x, y, z = polygons[f, k, 0] - px, polygons[f, k, 1] - py, polygons[f, k, 2] - pz
                reach = max(reach, x * x + y * y + z * z)
        if distance * distance > 4.0 * reach:
            return faces, True
        nx, ny, nz = nx / distance, ny / distance, nz / distance
        middle = nx * (px + sites[q, 0]) + ny * (py + sites[q, 1]) + nz * (pz + sites[q, 2])
        faces = cut(body, faces, Plane(nx, ny, nz, 0.5 * middle), q, tolerance)
        if faces <= 0:
            return faces, True
    return faces, False


@serial
def join(polygons, counts, faces, tolerance, vertices, loops, sizes, normals):
    """Join the corners of a cell's faces into one vertex list.

    Corners closer than `tolerance` become one; a face that vanishes thereby is dropped. Writes vertices (v, 3), the
    faces' corners end to end in `loops`, their `sizes` and unit `normals`; returns (vertices, faces, whether each edge
    joins two faces that run along it in opposite directions).
    """
    found, kept, at = 0, 0, 0
    near = tolerance * tolerance
    for f in range(faces):
        m = 0
        for k in range(counts[f]):
            p, index = polygons[f, k], -1
            for v in range(found):
                x, y, z = vertices[v, 0] - p[0], vertices[v, 1] - p[1], vertices[v, 2] - p[2]
                if x * x + y * y + z * z <= near:
                    index = v
                    break
            if index < 0:
                index = found
                vertices[found] = p
                found += 1
            if m == 0 or loops[at + m - 1] != index:
                loops[at + m] = index
                m += 1
        if m > 1 and loops[at] == loops[at + m - 1]:
            m -= 1
        if m < 3:
            continue
        nx, ny, nz = 0.0, 0.0, 0.0
        o = vertices[loops[at]]
        for k in range(1, m - 1):
            a, b = vertices[loops[at + k]], vertices[loops[at + k + 1]]
            ax, ay, az, bx, by, bz = a[0] - o[0], a[1] - o[1], a[2] - o[2], b[0] - o[0], b[1] - o[1], b[2] - o[2]
            nx, ny, nz = nx + ay * bz - az * by, ny + az * bx - ax * bz, nz + ax * by - ay * bx
        length = np.sqrt(nx * nx + ny * ny + nz * nz)
        if length == 0.0:
            continue
        normals[kept, 0], normals[kept, 1], normals[kept, 2] = nx / length, ny / length, nz / length
        sizes[kept] = m
        kept += 1
        at += m
    partner = np.zeros((found, found), np.int8)
    start = 0
    for f in range(kept):
        for k in range(sizes[f]):
            a, b = loops[start + k], loops[start + (k + 1) % sizes[f]]
            partner[a, b] += 1
        start += sizes[f]
    closed = kept > 0
    for a in range(found):
        for b in range(found):
            if partner[a, b] != partner[b, a]:
                closed = False
    return found, kept, closed
