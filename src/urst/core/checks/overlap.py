"""How deep convex parts stand in each other before anything moves."""

import numpy as np

from urst.core.geometry.convex import Polyhedron


def overlap(a: Polyhedron, b: Polyhedron) -> tuple[float, np.ndarray]:
    """Least distance that parts two convex solids, 0 if they do not overlap, and the way to move `b`.

    Separating axes over faces and edge pairs (Gottschalk, Lin & Manocha 1996).

    Parameters
    ----------
    a, b : Polyhedron
        In the same coordinates [m].
    """
    crossed = np.cross(_directions(a)[:, None], _directions(b)[None]).reshape(-1, 3)
    axes = np.concatenate([a.normals, b.normals, crossed])
    length = np.linalg.norm(axes, axis=1)
    axes = axes[length > 1e-6] / length[length > 1e-6, None]
    reach_a, reach_b = a.vertices @ axes.T, b.vertices @ axes.T
    up = reach_a.max(axis=0) - reach_b.min(axis=0)
    down = reach_b.max(axis=0) - reach_a.min(axis=0)
    depth = np.minimum(up, down)
    best = int(depth.argmin())
    if depth[best] <= 0:
        return 0.0, np.zeros(3)
    return float(depth[best]), axes[best] if up[best] <= down[best] else -axes[best]


def _directions(solid: Polyhedron) -> np.ndarray:
    edges = np.concatenate([solid.vertices[np.roll(p, -1)] - solid.vertices[p] for p in solid.loops])
    edges /= np.linalg.norm(edges, axis=1, keepdims=True)
    # an edge and its opposite are one direction
    first = np.array([e[np.abs(e) > 1e-9][0] for e in edges])
    return np.unique(np.round(edges * np.sign(first)[:, None], 9), axis=0)
