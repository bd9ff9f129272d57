"""Where convex shapes meet triangles of a surface that carries on one side only.

A triangle alone would catch what slides over its edges: beside the edge of a flat pair a body is pushed by the side
of the next triangle. So a normal counts only where the surface as a whole has it, on a triangle's face or, leaning
over an edge, between the normals of the two that meet there (Voronoi regions; Ericson 2005, section 5.1.5); elsewhere
the face carries what stands over it.
"""

import numpy as np

from urst.core.jit import kernel
from urst.core.rigid.detect import NEAR, PARTED, clip, detect, thin
from urst.core.rigid.separation import SOLID, facing

#: sine of the angle by which a normal may lean more than the surface does
_SLACK = 5e-3
#: faces of a body that look down on a triangle by less than this cosine do not carry
_DOWN = 0.05


@kernel
def meet(shapes, i, j, margin, inside, deepest, patch, scratch):
    """Find where two shapes touch or may touch, as `detect` does; the second may be a triangle of a land.

    Parameters
    ----------
    shapes, i, j, margin, inside, patch, scratch
        As for `detect`.
    deepest : float
        What is farther behind a triangle is not brought back by it [m].

    Returns
    -------
    (state, count, apart, share)
        As `detect` returns them.
    """
    axis, gaps = patch.axis, patch.gaps
    state, count, apart, fraction = detect(shapes, i, j, margin, inside, patch, scratch)
    if count == 0 or shapes.fold[j, 0] == SOLID:
        return state, count, apart, fraction
    if _leans(shapes, j, axis):
        for k in range(count):
            if gaps[k] < -deepest:
                return PARTED, 0, apart, 0.5
        return state, count, apart, fraction
    x, y, z = axis[0], axis[1], axis[2]
    count = _stand_on_face(shapes, i, j, margin, deepest, patch, scratch)
    if count == 0:
        # the way along which they are apart
        axis[0], axis[1], axis[2] = x, y, z
        return PARTED, 0, apart, 0.5
    return NEAR, count, apart, 0.0


@kernel
def _leans(shapes, j, axis):
    """Whether the surface has a normal against `axis` at the edges of a triangle, and not on its face."""
    planes, top = shapes.planes, shapes.face_start[j]
    nx, ny, nz = planes[0, top], planes[1, top], planes[2, top]
    along = -(axis[0] * nx + axis[1] * ny + axis[2] * nz)
    if along > 1.0 - 1e-6:
        return False
    leaning = along > 0.0
    for k in range(3):
        side, bend = top + 2 + k, shapes.fold[j, k]
        over = -(axis[0] * planes[0, side] + axis[1] * planes[1, side] + axis[2] * planes[2, side])
        if over > 0.0:
            leaning = True
            # the angle between the normal and the triangle's, seen along the edge, is to be less than that of the fold
            if over * np.cos(bend) - along * np.sin(bend) > _SLACK:
                return False
    return leaning


@kernel
def _stand_on_face(shapes, i, j, margin, deepest, patch, scratch):
    """Let the face of a triangle carry what stands over it; returns how many points there are."""
    axis, points, gaps = patch.axis, patch.points, patch.gaps
    planes, v, top = shapes.planes, shapes.vertices, shapes.face_start[j]
    nx, ny, nz, offset = planes[0, top], planes[1, top], planes[2, top], planes[3, top]
    # what is behind the prism is the other side's of a thin shell
    deepest = min(deepest, offset + planes[3, top + 1])
    grown, poly, gap = shapes.rounding[i], scratch.poly, scratch.gap
    main, low = facing(shapes, i, -nx, -ny, -nz), np.inf
    # a corner or an edge may stand deeper over it than the face that looks at it
    base = shapes.vertex_start[i]
    for f in range(shapes.face_start[i], shapes.face_start[i + 1]):
        if f == main or planes[0, f] * nx + planes[1, f] * ny + planes[2, f] * nz > -_DOWN:
            continue
        near = np.inf
        for k in range(shapes.loop_start[f], shapes.loop_start[f + 1]):
            c = base + shapes.loops[k]
            near = min(near, nx * v[0, c] + ny * v[1, c] + nz * v[2, c] - offset)
        if near > min(margin, low):
            continue
        for c in range(clip(shapes, j, i, top, f, scratch)):
            d = nx * poly[c, 0] + ny * poly[c, 1] + nz * poly[c, 2] - offset
            if d < low and d >= -deepest and _belongs(shapes, j, d, poly[c]):
                low = d
                for x in range(3):
                    scratch.point[0, x] = poly[c, x]
    n, kept, shown = clip(shapes, j, i, top, main, scratch), 0, np.inf
    for c in range(n):
        d = nx * poly[c, 0] + ny * poly[c, 1] + nz * poly[c, 2] - offset
        if d <= margin + grown and d >= grown - deepest and _belongs(shapes, j, d, poly[c]):
            gap[kept], shown = d, min(shown, d)
            for x in range(3):
                poly[kept, x] = poly[c, x]
            kept += 1
    if low <= margin and low < shown - 1e-5 and kept < len(poly):
        gap[kept] = low
        for x in range(3):
            poly[kept, x] = scratch.point[0, x]
        kept += 1
    axis[0], axis[1], axis[2] = -nx, -ny, -nz
    count = thin(kept, nx, ny, nz, -1.0, scratch, points, gaps)
    for k in range(count):
        gaps[k] -= grown
        points[k, 0, 0] -= grown * nx
        points[k, 0, 1] -= grown * ny
        points[k, 0, 2] -= grown * nz
    return count


@kernel
def _belongs(shapes, j, d, point):
    """Whether a point at a distance `d` before a triangle is its own: behind a ridge, what is nearer to the other side
    of it is not."""
    if d >= 0.0:
        return True
    planes, top = shapes.planes, shapes.face_start[j]
    for k in range(3):
        side, bend = top + 2 + k, shapes.fold[j, k]
        away = planes[0, side] * point[0] + planes[1, side] * point[1] + planes[2, side] * point[2] - planes[3, side]
        if np.cos(bend) * d + np.sin(bend) * away > d + 1e-9:
            return False
    return True
