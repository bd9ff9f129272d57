"""What is drawn of a frame, by representation: as small as the eye and the probe allow."""

import numpy as np

from urst.core.bodies.fragments import Fragments
from urst.core.bodies.shown import owners, shaded
from urst.core.preview import look
from urst.drawn.codec import Quantised, quantised
from urst.kinds.kind import Arrays

Drawn = tuple[dict[str, np.ndarray | Quantised], dict]

#: coarsest step that a quantised place may have [m]; farther flung ones are kept in 32 bits
_COARSEST = 2e-3
#: points and cells from which on a frame has coarser levels, each with so much fewer
_MANY_POINTS, _FEWER = 100_000, 4
_MANY_CELLS = 2_000_000
#: coarser levels at most
_LEVELS = 2
#: sides of a circle
_ROUND = 24
#: smallest and largest size of a point that is told from others [m]
_SIZES = (1e-4, 10.0)


def frame(representation: str, arrays: Arrays) -> list[Drawn]:
    """Return a frame's arrays for the browser, the full level first, then coarser ones if it is large.

    Parameters
    ----------
    representation : str
    arrays : dict
        In the terms of the representation; see `Kind.drawn`.
    """
    return _BY_NAME[representation](arrays)


def representations() -> tuple[str, ...]:
    """Return the representations there are."""
    return tuple(_BY_NAME)


def _places(position):
    found = quantised(position)
    fine = (found.high - found.low).max(initial=0.0) / 65535 <= _COARSEST
    return found if fine else np.asarray(position, np.float32)


def _bodies(arrays):
    out = {"position": _places(arrays["position"])}
    out["orientation"] = np.rint(32767 * np.asarray(arrays["orientation"])).astype(np.int16)
    # a probe reads these off
    out["velocity"] = np.asarray(arrays["velocity"], np.float16)
    if "awake" in arrays:
        out |= {
            "awake": arrays["awake"].astype(np.uint8),
            "pressed": np.minimum(arrays["pressed"], 6e4).astype(np.float16),
        }
    if "touch_point" in arrays:
        out |= {"touch_point": arrays["touch_point"], "touch_force": arrays["touch_force"]}
    if "bond_alive" in arrays:
        out |= {
            "bond_alive": arrays["bond_alive"].astype(np.uint8),
            "bond_load": arrays["bond_load"].astype(np.float16),
        }
    return [(out, {})]


def _points(arrays):
    n = len(arrays["size"])
    # any first part of a random order is a fair sample of all
    order = np.random.default_rng(n).permutation(n) if n > _MANY_POINTS else np.arange(n)
    low, high = np.log(_SIZES)
    size = np.clip((np.log(np.maximum(arrays["size"], 1e-12)) - low) / (high - low), 0, 1)
    size, found = np.rint(255 * size).astype(np.uint8)[order], []
    position = np.asarray(arrays["position"])[order]
    speed = (
        np.linalg.norm(arrays["velocity"].astype(np.float32), axis=1)[order] if "velocity" in arrays else np.zeros(n)
    )
    sort = {"sort": arrays["sort"][order]} if "sort" in arrays else {}
    fastest = float(speed.max(initial=1e-3))
    pace = np.rint(255 / fastest * speed).astype(np.uint8)
    for level in range(_LEVELS + 1):
        if level and n // _FEWER ** (level - 1) <= _MANY_POINTS:
            break
        some = slice(0, n // _FEWER**level)
        meta = {"sizes": list(_SIZES), "of": n, "fastest": fastest}
        found.append(
            (
                {"position": _places(position[some]), "size": size[some], "pace": pace[some]}
                | {n: x[some] for n, x in sort.items()},
                meta,
            )
        )
    return found


def _volume(arrays):
    density = np.asarray(arrays["density"], np.float32)
    most, found = float(density.max(initial=0.0)), []
    for level in range(_LEVELS + 1):
        if level:
            if density.size <= _MANY_CELLS:
                break
            density = _halved(density)
        # a square root keeps thin dust apart from none within eight bits
        share = np.sqrt(density / most) * 255.0 if most > 0 else density
        bytes_ = np.ascontiguousarray(np.rint(share).astype(np.uint8).transpose(2, 1, 0))
        found.append(({"density": bytes_}, {"most": most, "shape": list(density.shape), "across": 2**level}))
    return found


def _halved(density):
    """Means of 2 x 2 x 2 cells; a last odd layer counts with empty air beyond it."""
    padded = np.pad(density, [(0, n % 2) for n in density.shape])
    nx, ny, nz = (n // 2 for n in padded.shape)
    return padded.reshape(nx, 2, ny, 2, nz, 2).mean(axis=(1, 3, 5))


def _surface(arrays):
    out: dict = {"position": _places(arrays["position"]), "normal": np.rint(127 * arrays["normal"]).astype(np.int8)}
    # neighbours in the list share corners, so that differences are small
    index = np.asarray(arrays["triangles"], np.int64).reshape(-1)
    return [(out | {"steps": np.diff(index, prepend=0).astype(np.int32)}, {})]


_BY_NAME = {"bodies": _bodies, "points": _points, "volume": _volume, "surface": _surface}


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


def _shapes(arrays):
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
