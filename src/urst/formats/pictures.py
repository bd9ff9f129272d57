"""Pictures of a baked shot by the quick renderer."""

import io
from collections.abc import Iterator

import numpy as np
from PIL import Image

from urst.core.geometry import rotation
from urst.core.geometry.surface import shading
from urst.core.materials import MATERIALS
from urst.core.preview.colour import linear
from urst.errors import Stopped
from urst.formats.baked import Baked
from urst.shot import scene
from urst.shot.document import Shot
from urst.store.store import Store

CARD = (640, 330)


def pictures(baked: Baked, *, frames=None, size=(960, 540)) -> Iterator[np.ndarray]:
    """Render frames of a baked shot through its camera, (h, w, 3) uint8 each."""
    # imported here, since it brings the renderer's kernels and most formats do without
    from urst.core.preview.renderer import View, render

    shot, store = baked.shot, baked.store
    fall = baked.of("fall")[0]
    fragments, _, colours = baked.fragments(fall)
    count = np.diff(fragments.skin_start)
    body = np.repeat(np.arange(len(count)), count)
    wobble = 1.0 + 0.34 * ((fragments.part * 0.61803) % 1.0 - 0.5)
    tint = np.array(colours)[fragments.piece[body]] * wobble[body, None]
    tint = np.where(fragments.inner[:, None] == 1, np.minimum(1.3 * tint + 0.03, 1.0), tint)
    camera = shot.camera
    view = View(camera.eye, camera.target, scene.field_of_view(camera.lens), *size)
    shed, billow = baked.of("shed")[:1], baked.of("billow")[:1]
    broken = [p for p in shot.pieces if any(x.kind == "break" and p.name in x.settings.pieces for x in shot.layers)]
    source = (broken or list(shot.pieces))[0]
    chip_colour, albedo = 1.15 * linear(MATERIALS[source.material].colour), linear(MATERIALS[source.material].dust)
    skin = fragments.skin.astype(float)
    normals, crease = shading(fragments.skin, body, fragments.inner)
    walls = np.array([p.shape.kind == "brick wall" for p in shot.pieces], np.uint8)
    jointed = walls[fragments.piece[body]]
    for frame in frames or shot.frames():
        if baked.should_stop():
            raise Stopped("The hand-over was stopped; whole files are kept.")
        pose = store.read_frame(baked.keys[fall.id], frame)[0]
        turned = rotation.matrix(pose["orientation"].astype(float))
        triangles = np.einsum("tij,tkj->tki", turned[body], skin) + pose["position"][body][:, None].astype(float)
        facing = np.einsum("tij,tkj->tki", turned[body], normals.astype(float))
        points = dust = None
        if shed:
            p = store.read_frame(baked.keys[shed[0].id], frame)[0]
            chip = p["kind"] == 0
            points = (p["position"][chip], p["size"][chip], chip_colour)
        if billow:
            s = billow[0].settings
            density = store.read_frame(baked.keys[billow[0].id], frame)[0]["density"].astype(float)
            dust = (density, s.low, s.cell_size, albedo)
        yield render(view, triangles, tint, normals=facing, crease=crease, jointed=jointed, points=points, dust=dust)


def keep_card(shot: Shot, store: Store) -> None:
    """Keep a picture of the liveliest frame beside the result of the last layer, for the list of shots."""
    baked = Baked(shot, store)
    if not baked.of("fall"):
        return
    rows = store.read_gauges(baked.keys[baked.of("fall")[0].id])
    ready = set(rows).intersection(*(store.frames(baked.keys[x.id]) for x in shot.layers if x.kind != "break"))
    if not ready:
        return
    frame = max(sorted(ready), key=lambda f: rows[f].get("kinetic_energy", 0.0))
    (picture,) = pictures(baked, frames=[frame], size=CARD)
    data = io.BytesIO()
    Image.fromarray(picture).save(data, "PNG")
    store.write_beside(baked.keys[shot.layers[-1].id], "card.png", data.getvalue())
