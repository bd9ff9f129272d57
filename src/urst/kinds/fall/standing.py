"""What looks wrong about how pieces stand before they fall: floating above something, too heavy for what is below."""

from typing import Any

import numpy as np

from urst.core.checks.findings import Finding
from urst.scene.pieces import SetPiece
from urst.scene.placing import placed_corners
from urst.scene.shapes import is_endless

#: a gap below a piece that somebody may have overlooked [m]
_LEAST_GAP, _MOST_GAP = 0.005, 0.25
#: what touches stands no farther apart [m]
_TOUCH = 0.002
#: more pieces than this are not compared with each other
_MANY = 2000
#: so many times heavier than what it stands on was tried and found to stand
_HEAVIER = 30_000.0


def findings(shot: Any, layer: Any, cast: list[int]) -> list[Finding]:
    """Return what looks wrong about the pieces of a layer, by the boxes about them.

    Parameters
    ----------
    shot : Shot
    layer : Layer
    cast : list of int
        The numbers of its pieces.
    """
    if not 0 < len(cast) <= _MANY:
        return []
    boxes = [_box(shot.pieces[i], shot) for i in cast]
    low, high = (np.array([b[k] for b in boxes]) for k in range(2))
    return [*_floating(shot, layer, cast, low, high), *_top_heavy(shot, layer, cast, low, high)]


def _box(piece: SetPiece, shot: Any) -> tuple[np.ndarray, np.ndarray]:
    if is_endless(piece.shape):
        return np.array([-np.inf, -np.inf, -np.inf]), np.array([np.inf, np.inf, piece.position[2]])
    corners = np.concatenate(placed_corners(piece, shot))
    return corners.min(axis=0), corners.max(axis=0)


def _under(low: np.ndarray, high: np.ndarray, n: int) -> tuple[np.ndarray, np.ndarray]:
    """Which boxes lie below another, at least in part, and how far, (k,) and (k,)."""
    over = np.all((low[:, :2] < high[n, :2] - _TOUCH) & (high[:, :2] > low[n, :2] + _TOUCH), axis=1)
    over[n] = False
    gap = low[n, 2] - high[:, 2]
    below = np.flatnonzero(over & (gap > -0.5 * (high[n, 2] - low[n, 2])))
    return below, gap[below]


def _floating(shot: Any, layer: Any, cast: list[int], low: np.ndarray, high: np.ndarray) -> list[Finding]:
    held = {name for e in layer.settings.events if e.what == "let go" for name in e.of}
    found = []
    for n, i in enumerate(cast):
        piece = shot.pieces[i]
        thrown = any(piece.velocity) or any(piece.spin) or any(piece.rotation)
        if piece.motion != "loose" or thrown or piece.name in held or held & set(piece.tags):
            continue
        below, gap = _under(low, high, n)
        beside = (low < high[n] + _TOUCH).all(axis=1) & (high > low[n] - _TOUCH).all(axis=1)
        if not len(below) or beside.sum() > 1 or not _LEAST_GAP < gap.min() < _MOST_GAP:
            continue
        # what is not flat is lower than its box
        if shot.pieces[cast[below[gap.argmin()]]].shape.kind in ("terrain", "mesh"):
            continue
        z = float(f"{piece.position[2] - gap.min():.9g}")
        found.append(
            Finding(
                f"'{piece.name}' floats {gap.min() * 100:.0f} cm above what is below it.",
                "It would drop as the shot begins, which nobody may have meant.",
                layer=layer.id,
                fix="Put it down",
                changes=((("pieces", i, "position", 2), z),),
            )
        )
    return found


def _top_heavy(shot: Any, layer: Any, cast: list[int], low: np.ndarray, high: np.ndarray) -> list[Finding]:
    size = np.prod(np.minimum(high - low, 1e3), axis=1)
    weight = np.array([shot.pieces[i].bulk()[0] for i in cast]) * size
    for n, i in enumerate(cast):
        if shot.pieces[i].motion != "loose":
            continue
        below, gap = _under(low, high, n)
        for k in below[np.abs(gap) < _TOUCH]:
            under = shot.pieces[cast[k]]
            if under.motion == "loose" and weight[n] > _HEAVIER * weight[k]:
                return [
                    Finding(
                        f"'{shot.pieces[i].name}' is about {weight[n] / weight[k]:,.0f} times heavier than "
                        f"'{under.name}' below it.",
                        f"Up to {_HEAVIER:,.0f} times stands still; more is mostly a density that was mistyped: look "
                        "at both.",
                        layer=layer.id,
                    )
                ]
    return []
