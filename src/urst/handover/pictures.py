"""Pictures of a baked shot by the quick renderer."""

import io
from collections.abc import Iterable, Iterator
from typing import Any

import numpy as np
from PIL import Image

from urst.core.bodies.fragments import Fragments
from urst.core.bodies.shown import owners, shaded
from urst.core.geometry import rotation
from urst.core.preview import look
from urst.core.preview.colour import linear
from urst.drawn.volume import as_dust
from urst.handover.baked import Baked, colours
from urst.scene.pieces import SetPiece
from urst.scene.placing import Drive, field_of_view, poses, seen
from urst.scene.shapes import is_endless, is_jointed
from urst.shot.document import Shot
from urst.store.store import Store

CARD = (640, 330)
#: bonds are broken where this fraction of them parts, mostly once so much of that is done; so much later what parted is
#: seen apart [s]
_BREAKS, _MOSTLY, _APART = 0.02, 0.8, 1.0 / 3.0
#: pictures of preview movies are so wide
_WIDTH = 960
#: squares of endless ground to each side of what the camera looks at, and their side [m]
_FLOOR, _SQUARE = 30, 2.0


class _Skins:
    """Bodies as triangles with what colours them."""

    def __init__(self, shot: Shot, fragments: Fragments, pieces: list[SetPiece]) -> None:
        self.shot, self.pieces, self.fragments = shot, pieces, fragments
        self.body = owners(fragments)
        self.normals, self.crease = shaded(fragments)
        tint = np.array(colours(pieces)).reshape(-1, 3)[fragments.piece[self.body]]
        tint = tint * look.shade(fragments.part)[self.body, None]
        self.tint = np.where(fragments.inner[:, None] == 1, np.minimum(1.3 * tint + 0.03, 1.0), tint)
        self.ends = ~np.array([is_endless(p.shape) for p in pieces], bool)
        walls = np.array([is_jointed(p.shape) for p in pieces], np.uint8)
        self.jointed = walls[fragments.piece[self.body]]

    def at(self, frame: float, position: np.ndarray, orientation: np.ndarray) -> tuple[np.ndarray, ...]:
        """Return triangles, tints, normals, creases and joints of what is seen at a frame."""
        rows = [self.shot.part_of(p) for p in self.pieces]
        seen = (self.ends & np.array([r.seen and r.there(frame) for r in rows], bool))[self.fragments.piece[self.body]]
        body = self.body[seen]
        turned = rotation.matrix(orientation.astype(float))[body]
        skin, normals = self.fragments.skin[seen].astype(float), self.normals[seen].astype(float)
        triangles = np.einsum("tij,tkj->tki", turned, skin) + position[body][:, None].astype(float)
        facing = np.einsum("tij,tkj->tki", turned, normals)
        return triangles, self.tint[seen], facing, self.crease[seen], self.jointed[seen]


def _floors(shot: Shot) -> list[Any]:
    """Endless ground as far as the camera needs it, in squares small enough for some to lie wholly before it."""
    parts = []
    for piece in shot.pieces:
        if not is_endless(piece.shape) or not shot.part_of(piece).seen:
            continue
        side = np.arange(-_FLOOR, _FLOOR) * _SQUARE
        x, y = (a.ravel() for a in np.meshgrid(side + shot.camera.target[0], side + shot.camera.target[1]))
        corner = np.stack([x, y, np.full_like(x, piece.position[2])], axis=1)
        a, b, c, d = (corner + np.array(o) * _SQUARE for o in ((0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)))
        triangles = np.concatenate([np.stack([a, b, c], axis=1), np.stack([a, c, d], axis=1)])
        n = len(triangles)
        tint, up = np.tile(colours([piece])[0], (n, 1)), np.tile([0.0, 0.0, 1.0], (n, 3, 1))
        parts.append((triangles, tint, up, np.zeros((n, 3), np.uint8), np.zeros(n, np.uint8)))
    return parts


def pictures(
    baked: Baked, *, frames: Iterable[float] | None = None, size: tuple[int, int] | None = None
) -> Iterator[np.ndarray]:
    """Render frames of a baked shot through its camera.

    Parameters
    ----------
    baked : Baked
    frames : iterable of float, optional
        Moments, in frames; all frames, if not given.
    size : (width, height), optional
        In the picture's shape and at most 960 wide, if not given.

    Returns
    -------
    iterator of (h, w, 3) uint8
    """
    # imported here, since it brings the renderer's kernels and most formats do without
    from urst.core.preview.renderer import View, render

    shot, camera = baked.shot, baked.shot.camera
    view = View(camera.eye, camera.target, field_of_view(camera.lens), *(size or shot.picture.within(_WIDTH)))
    falls = [(x, _Skins(shot, *baked.fragments(x))) for x in baked.drawn_as("bodies")]
    carried = {i for x, _ in falls for i in shot.kind_of(x).cast(shot, x)}
    rest = [i for i in range(len(shot.pieces)) if i not in carried]
    still = _Skins(shot, seen(shot, rest), [shot.pieces[i] for i in rest]) if rest else None
    drive = Drive(shot, rest, still.fragments) if still else None
    volumes = [(x, baked.static(x)[1], baked.shades(x)) for x in baked.drawn_as("volume")]
    floors, surfaces = _floors(shot), baked.drawn_as("surface")
    # a liquid is seen as its surface, where there is one
    skinned = {name for x in surfaces for name in x.reads}
    for frame in frames or shot.frames():
        baked.check()
        parts = list(floors)
        for layer, skins in falls:
            pose = baked.at(layer, frame)
            parts.append(skins.at(frame, pose["position"], pose["orientation"]))
        if still and drive is not None:
            parts.append(still.at(frame, *poses(still.fragments, drive, shot.clock().seconds(frame))))
        chain: list = [np.concatenate(c) for c in zip(*parts)] or [
            np.zeros((0, 3, 3)),
            np.zeros((0, 3)),
            None,
            None,
            None,
        ]
        points, water = [], []
        for layer in surfaces:
            x = baked.at(layer, frame)
            water.append((x["position"][x["triangles"]], x["normal"][x["triangles"]], baked.tint(layer)))
        for layer in baked.drawn_as("points"):
            if layer.id in skinned:
                continue
            p = baked.at(layer, frame)
            points.append((p["position"], p["size"], look.CHIP * linear(baked.matter(layer).colour)))
        dust = [
            (density, meta["origin"], meta["cell"], albedo)
            for x, meta, shades in volumes
            for density, albedo in [as_dust(baked.at(x, frame), shades)]
        ]
        triangles, tint, normals, crease, jointed = chain
        yield render(
            view,
            triangles,
            tint,
            normals=normals,
            crease=crease,
            jointed=jointed,
            points=points,
            dust=dust,
            water=water,
            exposure=shot.picture.exposure,
        )


def keep_card(shot: Shot, store: Store) -> None:
    """Keep a picture of the most telling frame beside the result of the last layer, for the list of shots."""
    baked = Baked(shot, store)
    moving = [x for x in shot.layers if shot.kind_of(x).moving and shot.kind_of(x).representation]
    ready = set(shot.frames()).intersection(*(store.frames(baked.keys[x.id]) for x in moving))
    lively = next((x for x in moving if shot.kind_of(x).activity), None)
    if not ready or lively is None:
        return
    frame = telling(shot.kind_of(lively), store.read_gauges(baked.keys[lively.id]), sorted(ready), shot.rate)
    (picture,) = pictures(baked, frames=[frame], size=CARD)
    data = io.BytesIO()
    Image.fromarray(picture).save(data, "PNG")
    store.write_beside(baked.keys[shot.layers[-1].id], "card.png", data.getvalue())


def telling(kind: Any, rows: dict[int, dict[str, float]], ready: list[int], rate: float) -> int:
    """Return the frame that tells most: soon after most of what breaks has broken, so that it has come apart; the
    liveliest, where nothing breaks.

    Parameters
    ----------
    kind : Kind
        Of the layer that tells.
    rows : dict of gauges by frame
    ready : list of int
        Frames that can be shown, rising.
    rate : float
        Frames a second.
    """
    left = np.array([rows[f].get(kind.breaking or "", 1.0) for f in ready])
    if left.min() < left[0] - _BREAKS:
        broken = ready[int(np.argmax(left <= left[0] - _MOSTLY * (left[0] - left.min())))]
        return min(ready, key=lambda f: abs(f - broken - _APART * rate))
    return max(ready, key=lambda f: rows[f].get(kind.activity or "", 0.0))
