"""What does not change over time of a result, as the browser takes it."""

import numpy as np

from urst.core.bodies.fragments import Fragments
from urst.core.bodies.shown import owners, shaded
from urst.core.preview import look
from urst.drawn.representation import Drawn
from urst.kinds.kind import Arrays

#: sides of a circle
_ROUND = 24


def skins(fragments: Fragments) -> Arrays:
    """Return triangles corner by corner, with what shades them, and the bodies they belong to.

    Parameters
    ----------
    fragments : Fragments
    """
    normals, crease = shaded(fragments)
    whole: Arrays = {"whole": fragments.whole.astype(np.int32)} if fragments.whole.max(initial=-1) >= 0 else {}
    return whole | {
        "skin": fragments.skin.astype(np.float32).reshape(-1, 3),
        "normal": np.round(127 * normals).astype(np.int8),
        "crease": crease,
        "inner": fragments.inner,
        "body": owners(fragments),
        "piece": fragments.piece.astype(np.int32),
        "part": fragments.part.astype(np.int32),
        "shade": look.shade(fragments.part).astype(np.float32),
        "centre": fragments.centre.astype(np.float32),
        "volume": fragments.volume.astype(np.float32),
    }


def _shapes(arrays: dict[str, np.ndarray]) -> dict[str, np.ndarray]:
    """Edges of the convex shapes that collide, end by end, and their bodies; of a ball three circles."""
    start, ball = arrays["hull_vertex_start"], arrays["ball"]
    edges, edge_start = arrays["hull_edges"], arrays["hull_edge_start"]
    owner = np.repeat(np.arange(len(ball)), np.diff(edge_start))
    some = ball[owner] == 0.0
    ends = edges[some, :2] + start[owner[some], None]
    lines, body = [arrays["hull_vertices"][ends].reshape(-1, 3)], [np.repeat(owner[some], 2)]
    turn = np.linspace(0.0, 2.0 * np.pi, _ROUND + 1)
    ring = np.repeat(np.column_stack([np.cos(turn), np.sin(turn), np.zeros(_ROUND + 1)]), 2, axis=0)[1:-1]
    for b in np.flatnonzero(ball):
        lines += [ball[b] * np.roll(ring, axis, axis=1) for axis in range(3)]
        body.append(np.full(3 * len(ring), b))
    return {"hull_line": np.concatenate(lines).astype(np.float32), "hull_body": np.concatenate(body).astype(np.int32)}


def static(arrays: Arrays, meta: dict) -> Drawn:
    """Return what does not change over time of a result, for the browser.

    Parameters
    ----------
    arrays, meta : as the store keeps them
    """
    if "skin" not in arrays:
        return {}, meta
    out: dict = skins(Fragments.from_arrays(arrays))
    if "mass" in arrays:
        out |= _shapes(arrays) | {
            "mass": arrays["mass"].astype(np.float32),
            "motion": arrays["motion"].astype(np.int32),
        }
        out["bond_pair"] = arrays["patch_pair"][arrays["bond"]].astype(np.int32)
    return out, meta
