"""Kernels that find the flat patches convex polyhedra share."""

import numpy as np

from urst.core.jit import serial

#: corners that are kept of a patch, and the columns of its row
CORNERS = 8
COLUMNS = 14 + 2 * CORNERS


@serial
def shared_patches(hulls, low, high, gap, out, pairs):
    """Find where faces of different convex polyhedra lie flat against each other.

    `hulls` in world coordinates; `low`, `high` (n, 3) their bounds, `gap` the widest joint [m]. Writes rows
    of `out` (m, COLUMNS): area, centroid (3), normal from the first to the second (3), first in-plane axis (3), the
    second moments about the two axes [m4], the half extents along them [m], CORNERS corners in these axes [m]; and of
    `pairs` (m, 2). Returns the number of rows, or -1 when `out` is too short. Pairs come sorted by first index, then
    second.
    """
    n = len(low)
    order = np.argsort(low[:, 0])
    face_start, planes, loop_start = hulls.face_start, hulls.planes, hulls.loop_start
    rows = 0
    widest = 0
    for f in range(len(loop_start) - 1):
        widest = max(widest, loop_start[f + 1] - loop_start[f])
    # clipping one convex outline by another adds a corner a side at most; rounding may add a few
    poly = np.empty((2 * widest + 8, 2))
    work = np.empty((2 * widest + 8, 2))
    for s in range(n):
        a = order[s]
        for t in range(s + 1, n):
            b = order[t]
            if low[b, 0] > high[a, 0] + gap:
                break
            if low[b, 1] > high[a, 1] + gap or low[a, 1] > high[b, 1] + gap:
                continue
            if low[b, 2] > high[a, 2] + gap or low[a, 2] > high[b, 2] + gap:
                continue
            i, j = min(a, b), max(a, b)
            for f in range(face_start[i], face_start[i + 1]):
                for g in range(face_start[j], face_start[j + 1]):
                    dot = planes[f, 0] * planes[g, 0] + planes[f, 1] * planes[g, 1] + planes[f, 2] * planes[g, 2]
                    if dot > -0.9995 or abs(planes[f, 3] + planes[g, 3]) > gap:
                        continue
                    if rows >= len(out):
                        return -1
                    if _patch(hulls, i, j, f, g, poly, work, out[rows]):
                        pairs[rows, 0], pairs[rows, 1] = i, j
                        rows += 1
    return rows


@serial
def _patch(hulls, i, j, f, g, poly, work, row):
    vertices, vertex_start, planes = hulls.vertices, hulls.vertex_start, hulls.planes
    loops, loop_start = hulls.loops, hulls.loop_start
    nx, ny, nz = planes[f, 0], planes[f, 1], planes[f, 2]
    base = vertices[vertex_start[i] + loops[loop_start[f]]]
    second = vertices[vertex_start[i] + loops[loop_start[f] + 1]]
    ux, uy, uz = second[0] - base[0], second[1] - base[1], second[2] - base[2]
    length = np.sqrt(ux * ux + uy * uy + uz * uz)
    ux, uy, uz = ux / length, uy / length, uz / length
    vx, vy, vz = ny * uz - nz * uy, nz * ux - nx * uz, nx * uy - ny * ux
    n = loop_start[f + 1] - loop_start[f]
    for k in range(n):
        p = vertices[vertex_start[i] + loops[loop_start[f] + k]]
        x, y, z = p[0] - base[0], p[1] - base[1], p[2] - base[2]
        poly[k, 0], poly[k, 1] = x * ux + y * uy + z * uz, x * vx + y * vy + z * vz
    # the other face, seen from behind, runs clockwise in these axes: its inner side lies to the right
    m = loop_start[g + 1] - loop_start[g]
    for k in range(m):
        p = vertices[vertex_start[j] + loops[loop_start[g] + k]]
        q = vertices[vertex_start[j] + loops[loop_start[g] + (k + 1) % m]]
        ax, ay, az = p[0] - base[0], p[1] - base[1], p[2] - base[2]
        bx, by, bz = q[0] - base[0], q[1] - base[1], q[2] - base[2]
        a0, a1 = ax * ux + ay * uy + az * uz, ax * vx + ay * vy + az * vz
        b0, b1 = bx * ux + by * uy + bz * uz, bx * vx + by * vy + bz * vz
        kept = 0
        for c in range(n):
            if kept + 2 > len(work):
                return False
            e = (c + 1) % n
            dc = (b0 - a0) * (poly[c, 1] - a1) - (b1 - a1) * (poly[c, 0] - a0)
            de = (b0 - a0) * (poly[e, 1] - a1) - (b1 - a1) * (poly[e, 0] - a0)
            if dc <= 0.0:
                work[kept] = poly[c]
                kept += 1
            if (dc < 0.0 and de > 0.0) or (dc > 0.0 and de < 0.0):
                t = dc / (dc - de)
                work[kept, 0] = poly[c, 0] + t * (poly[e, 0] - poly[c, 0])
                work[kept, 1] = poly[c, 1] + t * (poly[e, 1] - poly[c, 1])
                kept += 1
        n = kept
        poly[:n] = work[:n]
        if n < 3:
            return False
    area, sx, sy, sxx, syy, sxy = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    for k in range(n):
        e = (k + 1) % n
        x0, y0, x1, y1 = poly[k, 0], poly[k, 1], poly[e, 0], poly[e, 1]
        w = x0 * y1 - x1 * y0
        area += 0.5 * w
        sx += w * (x0 + x1) / 6.0
        sy += w * (y0 + y1) / 6.0
        sxx += w * (x0 * x0 + x0 * x1 + x1 * x1) / 12.0
        syy += w * (y0 * y0 + y0 * y1 + y1 * y1) / 12.0
        sxy += w * (x0 * y1 + 2.0 * x0 * y0 + 2.0 * x1 * y1 + x1 * y0) / 24.0
    if area < 1e-10:
        return False
    cx, cy = sx / area, sy / area
    sxx, syy, sxy = sxx - area * cx * cx, syy - area * cy * cy, sxy - area * cx * cy
    turn = 0.0
    # a section alike in all directions keeps the axes of its first edge, so that a square's corners lie at its extents
    if np.hypot(2.0 * sxy, sxx - syy) > 1e-6 * (sxx + syy):
        turn = 0.5 * np.arctan2(2.0 * sxy, sxx - syy)
    c, s = np.cos(turn), np.sin(turn)
    extent1, extent2 = 0.0, 0.0
    for k in range(n):
        x, y = poly[k, 0] - cx, poly[k, 1] - cy
        extent1 = max(extent1, abs(c * x + s * y))
        extent2 = max(extent2, abs(-s * x + c * y))
    row[0] = area
    half = -0.5 * (planes[f, 3] + planes[g, 3])
    row[1] = base[0] + cx * ux + cy * vx + half * nx
    row[2] = base[1] + cx * uy + cy * vy + half * ny
    row[3] = base[2] + cx * uz + cy * vz + half * nz
    row[4], row[5], row[6] = nx, ny, nz
    row[7], row[8], row[9] = c * ux + s * vx, c * uy + s * vy, c * uz + s * vz
    # second moment about the first axis grows with the extent along the second
    row[10] = s * s * sxx - 2.0 * s * c * sxy + c * c * syy
    row[11] = c * c * sxx + 2.0 * s * c * sxy + s * s * syy
    row[12], row[13] = extent1, extent2
    for q in range(CORNERS):
        best = q if q < n else n - 1
        if n > CORNERS:
            # those that reach farthest in some directions
            toward, far = 2.0 * np.pi * q / CORNERS, -np.inf
            for k in range(n):
                reach = np.cos(toward) * (poly[k, 0] - cx) + np.sin(toward) * (poly[k, 1] - cy)
                if reach > far:
                    best, far = k, reach
        x, y = poly[best, 0] - cx, poly[best, 1] - cy
        row[14 + 2 * q], row[15 + 2 * q] = c * x + s * y, -s * x + c * y
    return True
