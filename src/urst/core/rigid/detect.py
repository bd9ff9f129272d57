"""Where two convex shapes touch or may soon: their normal and up to four pairs of points.

A shape is the hull of its corners grown by a radius: a polyhedron, or a ball (one corner) or capsule (two). A face
that lies on the other shape is clipped against it, so that it rests on a patch.
"""

from typing import NamedTuple

import numpy as np

from urst.core.jit import kernel, serial
from urst.core.rigid.separation import distance, edges_meet, facing, gap_along, least_overlap, support

#: what `detect` found
PARTED, NEAR = 1, 2
#: points kept of a patch
POINTS = 4
#: nearer than this two hulls count as in each other [m]
TOUCH = 1e-7
#: faces whose normals lie nearer to the way between two edges than this cosine lie along each other
_ALONG = 0.985


@kernel
def clip(shapes, i, j, face, other, scratch):
    """Lay a face of `j` into `scratch.poly`, clipped by the sides of a face of `i`; returns how many corners are left.

    Parameters
    ----------
    shapes : Shapes
    i, j : int
    face : int
        Of `i`.
    other : int
        Of `j`; -1: all its corners.
    scratch : Scratch
    """
    v, planes, loops, loop_start = shapes.vertices, shapes.planes, shapes.loops, shapes.loop_start
    nx, ny, nz = planes[0, face], planes[1, face], planes[2, face]
    poly, work = scratch.poly, scratch.spare
    n, base = 0, shapes.vertex_start[j]
    if other >= 0:
        for k in range(loop_start[other], loop_start[other + 1]):
            for c in range(3):
                poly[n, c] = v[c, base + loops[k]]
            n += 1
    else:
        for k in range(base, shapes.vertex_start[j + 1]):
            for c in range(3):
                poly[n, c] = v[c, k]
            n += 1
    base, first, last = shapes.vertex_start[i], loop_start[face], loop_start[face + 1]
    for k in range(first, last):
        a, b = base + loops[k], base + loops[k + 1 if k + 1 < last else first]
        dx, dy, dz = v[0, b] - v[0, a], v[1, b] - v[1, a], v[2, b] - v[2, a]
        sx, sy, sz = dy * nz - dz * ny, dz * nx - dx * nz, dx * ny - dy * nx
        limit = sx * v[0, a] + sy * v[1, a] + sz * v[2, a]
        kept = 0
        for c in range(n):
            e = c + 1 if c + 1 < n else 0
            dc = sx * poly[c, 0] + sy * poly[c, 1] + sz * poly[c, 2] - limit
            de = sx * poly[e, 0] + sy * poly[e, 1] + sz * poly[e, 2] - limit
            if dc <= 0.0 and kept < len(poly):
                for x in range(3):
                    work[kept, x] = poly[c, x]
                kept += 1
            if ((dc < 0.0 and de > 0.0) or (dc > 0.0 and de < 0.0)) and kept < len(poly):
                t = dc / (dc - de)
                for x in range(3):
                    work[kept, x] = poly[c, x] + t * (poly[e, x] - poly[c, x])
                kept += 1
        n = kept
        for c in range(n):
            for x in range(3):
                poly[c, x] = work[c, x]
        if n == 0:
            break
    return n


class Patch(NamedTuple):
    """Where two shapes touch or may touch."""

    axis: np.ndarray
    """(3,) float64: a unit vector from the first to the second, the normal, or what parts them"""
    points: np.ndarray
    """(4, 2, 3) float64: points on the first and on the second [m]"""
    gaps: np.ndarray
    """(4,) float64: how far they are apart along the normal [m]"""


@kernel
def _rest_on(shapes, i, j, face, margin, sign, patch, scratch):
    """The patch on which `j` rests on a face of `i`: at most four pairs of points within `margin`."""
    planes, v, normal = shapes.planes, shapes.vertices, patch.axis
    nx, ny, nz, offset = planes[0, face], planes[1, face], planes[2, face], planes[3, face]
    normal[0], normal[1], normal[2] = sign * nx, sign * ny, sign * nz
    poly, gap = scratch.poly, scratch.gap
    n, kept, shown = clip(shapes, i, j, face, facing(shapes, j, -nx, -ny, -nz), scratch), 0, np.inf
    for c in range(n):
        d = nx * poly[c, 0] + ny * poly[c, 1] + nz * poly[c, 2] - offset
        if d <= margin:
            gap[kept] = d
            for x in range(3):
                poly[kept, x] = poly[c, x]
            kept += 1
            shown = min(shown, d)
    # a corner may stand deeper than the facing polygon shows: of a spinning shard, or where clipping left nothing
    corner, reach = support(shapes, j, -nx, -ny, -nz)
    low = -reach - offset
    if low < 0.0 and low < shown - 1e-5 and kept < len(poly):
        gap[kept] = low
        for x in range(3):
            poly[kept, x] = v[x, corner]
        kept += 1
    return thin(kept, nx, ny, nz, sign, scratch, patch.points, patch.gaps)


@kernel
def _lie_along(shapes, i, j, least, margin, patch, scratch):
    """Points beside the first of a patch, where two edges cross: those within `margin` of two faces that lie nearly
    along each other.

    Two plates that meet at their edges may slap flat on each other within a check. `least`: gap of the first [m].
    Returns how many points there are.
    """
    axis, points, gaps, planes = patch.axis, patch.points, patch.gaps, shapes.planes
    nx, ny, nz = axis[0], axis[1], axis[2]
    face, other = facing(shapes, i, nx, ny, nz), facing(shapes, j, -nx, -ny, -nz)
    if face < 0 or other < 0:
        return 1
    steep = planes[0, face] * nx + planes[1, face] * ny + planes[2, face] * nz
    if steep < _ALONG or planes[0, other] * nx + planes[1, other] * ny + planes[2, other] * nz > -_ALONG:
        return 1
    poly, gap = scratch.poly, scratch.gap
    n, kept = clip(shapes, i, j, face, other, scratch), 0
    for c in range(n):
        d = planes[0, face] * poly[c, 0] + planes[1, face] * poly[c, 1] + planes[2, face] * poly[c, 2]
        d = (d - planes[3, face]) / steep
        if least < d <= margin:
            gap[kept] = d
            for x in range(3):
                poly[kept, x] = poly[c, x]
            kept += 1
    if kept == len(poly):
        kept -= 1
    gap[kept] = least
    for x in range(3):
        poly[kept, x] = points[0, 1, x]
    return thin(kept + 1, nx, ny, nz, 1.0, scratch, points, gaps)


@kernel
def thin(n, nx, ny, nz, sign, scratch, points, gaps):
    """Keep at most four of the points in `scratch.poly`: the deepest, the farthest from it, the two widest beside that
    line.

    Parameters
    ----------
    n : int
        How many points there are, with their distances from the face in `scratch.gap`.
    nx, ny, nz : float
        Normal of the face.
    sign : float
        1 where the face is the first shape's, -1 where it is the second's.
    scratch : Scratch
    points, gaps
        As for `detect`; written.

    Returns
    -------
    int
    """
    poly, gap, chosen = scratch.poly, scratch.gap, scratch.chosen
    a = 0
    for c in range(1, n):
        if gap[c] < gap[a]:
            a = c
    kept = 0
    if n > 0:
        chosen[0] = a
        kept = 1
    b, far = -1, 1e-8
    for c in range(n):
        d = (poly[c, 0] - poly[a, 0]) ** 2 + (poly[c, 1] - poly[a, 1]) ** 2 + (poly[c, 2] - poly[a, 2]) ** 2
        if d > far:
            b, far = c, d
    if b >= 0:
        chosen[kept] = b
        kept += 1
        ux, uy, uz = poly[b, 0] - poly[a, 0], poly[b, 1] - poly[a, 1], poly[b, 2] - poly[a, 2]
        sx, sy, sz = uy * nz - uz * ny, uz * nx - ux * nz, ux * ny - uy * nx
        left, right, most, least = -1, -1, 1e-4 * far, -1e-4 * far
        for c in range(n):
            d = sx * (poly[c, 0] - poly[a, 0]) + sy * (poly[c, 1] - poly[a, 1]) + sz * (poly[c, 2] - poly[a, 2])
            if d > most:
                left, most = c, d
            elif d < least:
                right, least = c, d
        if left >= 0:
            chosen[kept] = left
            kept += 1
        if right >= 0:
            chosen[kept] = right
            kept += 1
    normals = (nx, ny, nz)
    for k in range(kept):
        c = chosen[k]
        gaps[k] = gap[c]
        # the polygon lies on the second of the two, its foot on the face of the first
        for x in range(3):
            foot = poly[c, x] - gap[c] * normals[x]
            points[k, 0, x] = foot if sign > 0.0 else poly[c, x]
            points[k, 1, x] = poly[c, x] if sign > 0.0 else foot
    return kept


@kernel
def detect(shapes, i, j, margin, inside, patch, scratch):
    """Find where two shapes touch or may touch.

    Parameters
    ----------
    shapes : Shapes
    i, j : int
    margin : float
        How far apart they may be to be noted [m].
    inside : bool
        Whether they are thought to be in each other: then the search over faces and edges comes first, else that for
        their distance. The result is the same.
    patch : Patch
        Its axis says where to look first; written.
    scratch : Scratch

    Returns
    -------
    (state, count, apart, share)
        PARTED or NEAR, the number of points, a distance that is proven to part them [m], and which body the points go
        along with: 1 the second, whose corner rests on a face of the first, 0 the first, 0.5 neither more than the
        other.
    """
    axis, points, gaps = patch.axis, patch.points, patch.gaps
    rounding = shapes.rounding[i] + shapes.rounding[j]
    reach = margin + rounding
    apart = gap_along(shapes, i, j, axis[0], axis[1], axis[2]) + rounding
    if apart > reach:
        return PARTED, 0, apart - rounding, 0.5
    gap, kind, first, second = -np.inf, -1, -1, -1
    starts = shapes.face_start
    flat = starts[i + 1] > starts[i] or starts[j + 1] > starts[j]
    if inside and apart <= TOUCH and flat:
        gap, kind, first, second = least_overlap(shapes, i, j, scratch)
    if gap > TOUCH or kind < 0:
        if kind >= 0:
            sign = 1.0 if kind == 0 else -1.0
            for c in range(3):
                axis[c] = scratch.normal[c] if kind == 2 else sign * shapes.planes[c, first]
        apart = distance(shapes, i, j, reach, axis, scratch)
        if apart > reach:
            return PARTED, 0, apart - rounding, 0.5
        if apart <= TOUCH and kind < 0:
            if flat:
                gap, kind, first, second = least_overlap(shapes, i, j, scratch)
            else:
                # two balls with one middle: any way out is as good
                gap, kind = 0.0, 3
    else:
        apart = gap
    slack = 1e-3 * margin + 1e-6
    count, fraction = 0, 0.5
    if apart > TOUCH:
        wx, wy, wz = axis[0], axis[1], axis[2]
        # a face lies across the way if it parts them as well as the way itself
        gap, side, face = -np.inf, -1, -1
        for s in range(2):
            a, b, sign = (i, j, 1.0) if s == 0 else (j, i, -1.0)
            f = facing(shapes, a, sign * axis[0], sign * axis[1], sign * axis[2])
            if f >= 0:
                p = shapes.planes
                _, low = support(shapes, b, -p[0, f], -p[1, f], -p[2, f])
                away = -low - p[3, f]
                if away > gap + (0.0 if s == 0 else 1e-6):
                    gap, side, face = away, s, f
        if gap > apart - slack:
            fraction = 1.0 if side == 0 else 0.0
            if side == 0:
                count = _rest_on(shapes, i, j, face, reach, 1.0, patch, scratch)
            else:
                count = _rest_on(shapes, j, i, face, reach, -1.0, patch, scratch)
        least = np.inf
        for k in range(count):
            least = min(least, gaps[k])
        if least > apart + 1e-4:
            # the nearest points alone, since no corner of the patch is as near
            count, fraction, gaps[0] = 1, 0.5, 0.0
            # along the way that is proven to part them: that from point to point is all rounding where they nearly
            # touch
            axis[0], axis[1], axis[2] = wx, wy, wz
            for c in range(3):
                points[0, 0, c], points[0, 1, c] = scratch.point[0, c], scratch.point[1, c]
                gaps[0] += axis[c] * (scratch.point[1, c] - scratch.point[0, c])
            count = _lie_along(shapes, i, j, gaps[0], reach, patch, scratch)
    else:
        if kind == 3:
            count, gaps[0] = 1, gap
            for c in range(3):
                points[0, 0, c] = points[0, 1, c] = shapes.centre[i, c]
        elif kind == 2:
            count = 1
            edges_meet(shapes, i, j, first, second, points[0])
            for c in range(3):
                axis[c] = scratch.normal[c]
            gaps[0] = gap
            count = _lie_along(shapes, i, j, gap, reach, patch, scratch)
        elif kind == 0:
            fraction = 1.0
            count = _rest_on(shapes, i, j, first, reach, 1.0, patch, scratch)
        elif kind == 1:
            fraction = 0.0
            count = _rest_on(shapes, j, i, first, reach, -1.0, patch, scratch)
        apart = gap
    for k in range(count):
        gaps[k] -= rounding
        for c in range(3):
            points[k, 0, c] += shapes.rounding[i] * axis[c]
            points[k, 1, c] -= shapes.rounding[j] * axis[c]
    return NEAR, count, apart - rounding, fraction


class Scratch(NamedTuple):
    """Work arrays of `detect`, one set a thread."""

    simplex: np.ndarray
    fraction: np.ndarray
    work: np.ndarray
    corner: np.ndarray
    point: np.ndarray
    normal: np.ndarray
    poly: np.ndarray
    spare: np.ndarray
    gap: np.ndarray
    chosen: np.ndarray
    of_i: np.ndarray
    of_j: np.ndarray
    low: np.ndarray
    edges_i: np.ndarray
    edges_j: np.ndarray


@serial
def scratch(shapes):
    """Make work arrays for some shapes."""
    corners, faces, edges, room = shapes.most
    # clipping one convex outline by another adds a corner a side at most; rounding may add a few
    room = 2 * room + 8
    return Scratch(
        np.zeros((4, 3)),
        np.zeros(4),
        np.zeros(4),
        np.zeros((4, 2), np.int64),
        np.zeros((2, 3)),
        np.zeros(3),
        np.zeros((room, 3)),
        np.zeros((room, 3)),
        np.zeros(room),
        np.zeros(4, np.int64),
        np.zeros(corners * faces),
        np.zeros(corners * faces),
        np.zeros(faces),
        np.zeros(edges, np.int64),
        np.zeros(edges, np.int64),
    )
