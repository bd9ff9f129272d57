"""Kernels of the fracture: cutting a convex polyhedron by planes, and the patches two polyhedra share."""

import numpy as np

from urst.core.jit import serial

MAX_FACES = 96
MAX_CORNERS = 48


@serial
def cut(polygons, counts, tags, faces, nx, ny, nz, offset, tag, tolerance, scratch, cap):
    """Keep the part of a convex polyhedron with normal . x <= offset; return the new number of faces.

    polygons (MAX_FACES, MAX_CORNERS, 3), counts and tags (MAX_FACES,) are changed in place; `faces` of them
    are in use. `scratch` (MAX_CORNERS, 3) and `cap` (MAX_CORNERS, 3) are work space. The new face carries `tag`.
    Returns -1 where a limit of the work space would be passed. An edge is always cut from its kept end to its
    lost end, so the two faces that share it get the very same point.
    """
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
                if m >= MAX_CORNERS:
                    return -1
                scratch[m] = polygons[f, k]
                m += 1
            if k_in != j_in:
                a, b, da, db = (k, j, dk, dj) if k_in else (j, k, dj, dk)
                t = da / (da - db)
                if t < 0.0:
                    t = 0.0
                if m >= MAX_CORNERS:
                    return -1
                for c in range(3):
                    scratch[m, c] = polygons[f, a, c] + t * (polygons[f, b, c] - polygons[f, a, c])
                if k_in:
                    if caps >= MAX_CORNERS:
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
        if kept >= MAX_FACES:
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
def cell(site, sites, order, polygons, counts, tags, faces, tolerance, scratch, cap):
    """Cut the polyhedron down to the Voronoi cell of `sites[site]`.

    `order` lists other sites, nearest first. Returns (faces left, whether the list was long enough to be sure);
    a cell is sure once the next bisector lies beyond its farthest corner.
    """
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
        faces = cut(polygons, counts, tags, faces, nx, ny, nz, 0.5 * middle, q, tolerance, scratch, cap)
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


@serial
def shared_patches(vertices, vertex_start, planes, face_start, loops, loop_start, low, high, gap, out, pairs):
    """Find where faces of different convex polyhedra lie flat against each other.

    All polyhedra in world coordinates; `low`, `high` (n, 3) their bounds, `gap` the widest joint [m]. Writes rows
    of `out` (m, 14): area, centroid (3), normal from the first to the second (3), first in-plane axis (3), the
    second moments about the two axes [m4], the half extents along them [m]; and of `pairs` (m, 2). Returns the
    number of rows, or -1 when `out` is too short. Pairs come sorted by first index, then second.
    """
    n = len(vertex_start) - 1
    order = np.argsort(low[:, 0])
    rows = 0
    poly = np.empty((2 * MAX_CORNERS, 2))
    work = np.empty((2 * MAX_CORNERS, 2))
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
                    if _patch(vertices, vertex_start, planes, loops, loop_start, i, j, f, g, poly, work, out[rows]):
                        pairs[rows, 0], pairs[rows, 1] = i, j
                        rows += 1
    return rows


@serial
def _patch(vertices, vertex_start, planes, loops, loop_start, i, j, f, g, poly, work, row):
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
    return True
