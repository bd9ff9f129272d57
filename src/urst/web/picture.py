"""A shot's card picture: its set through its camera, as SVG."""

import numpy as np

from urst.core.geometry.view import axes
from urst.core.preview.look import shade
from urst.scene.cameras import Camera
from urst.scene.materials import MATERIALS
from urst.scene.placing import field_of_view, placed
from urst.scene.world import World

_SUN = np.array([-0.36, -0.52, 0.85]) / 1.06
_WIDTH, _HEIGHT = 640, 330


def outline(shot: World) -> str:
    """Draw the set's triangles far to near, shaded by the sun."""
    triangles, colours = [], []
    for piece in shot.pieces:
        if not shot.part_of(piece).seen:
            continue
        base = MATERIALS[piece.material].colour
        rgb = np.array([int(base[i : i + 2], 16) for i in (1, 3, 5)], float)
        for number, mesh in enumerate(placed(piece, shot)):
            corners = mesh.vertices[mesh.triangles]
            triangles.append(corners)
            colours.append(np.tile(rgb * shade(np.array(number)), (len(corners), 1)))
    shapes = []
    if triangles and sum(map(len, triangles)) < 40_000:
        shapes = _project(np.concatenate(triangles), np.concatenate(colours), shot.camera)
    body = "".join(shapes)
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {_WIDTH} {_HEIGHT}">'
        f'<rect width="{_WIDTH}" height="{_HEIGHT}" fill="#8b8884"/>{body}</svg>'
    )


def _project(corners: np.ndarray, colours: np.ndarray, camera: Camera) -> list[str]:
    eye = np.array(camera.eye, float)
    right, down, forward = axes(eye, camera.target)
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-12)
    away = corners - eye
    depth = away @ forward
    front = (np.einsum("ij,ij->i", normal, away[:, 0]) < 0) & (depth.min(axis=1) > 0.1)
    scale = 0.5 * _WIDTH / np.tan(np.radians(field_of_view(camera.lens)) / 2)
    x = 0.5 * _WIDTH + scale * (away @ right) / np.maximum(depth, 0.1)
    y = 0.5 * _HEIGHT + scale * (away @ down) / np.maximum(depth, 0.1)
    light = 0.45 + 0.6 * np.clip(normal @ _SUN, 0, 1)
    shapes = []
    # large floors first, then far to near
    size = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    for t in np.lexsort((-depth.mean(axis=1), size < 60)):
        if front[t]:
            r, g, b = np.clip(colours[t] * light[t] * 1.15, 0, 255).astype(int)
            points = " ".join(f"{x[t, k]:.1f},{y[t, k]:.1f}" for k in range(3))
            colour = f"#{r:02x}{g:02x}{b:02x}"
            shapes.append(f'<polygon points="{points}" fill="{colour}" stroke="{colour}" stroke-width=".5"/>')
    return shapes
