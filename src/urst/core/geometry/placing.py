"""Kernels that bring packed convex hulls to where their bodies are."""

import numpy as np

from urst.core.jit import serial


@serial
def place(position, rotation, vertices, vertex_start, planes, face_start, margin, out_vertices, out_planes, low, high):
    """Bring hulls from body to world coordinates and bound each, widened by `margin` (n,) [m].

    position (n, 3), rotation (n, 3, 3); the hull arrays as in `Hulls`; the last four arrays are written.
    """
    for b in range(len(position)):
        r = rotation[b]
        for c in range(3):
            low[b, c], high[b, c] = np.inf, -np.inf
        for k in range(vertex_start[b], vertex_start[b + 1]):
            for c in range(3):
                x = r[c, 0] * vertices[k, 0] + r[c, 1] * vertices[k, 1] + r[c, 2] * vertices[k, 2] + position[b, c]
                out_vertices[k, c] = x
                low[b, c] = min(low[b, c], x)
                high[b, c] = max(high[b, c], x)
        for c in range(3):
            low[b, c] -= margin[b]
            high[b, c] += margin[b]
        for f in range(face_start[b], face_start[b + 1]):
            shift = planes[f, 3]
            for c in range(3):
                n = r[c, 0] * planes[f, 0] + r[c, 1] * planes[f, 1] + r[c, 2] * planes[f, 2]
                out_planes[f, c] = n
                shift += n * position[b, c]
            out_planes[f, 3] = shift
