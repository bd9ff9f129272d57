"""glTF 2.0: fragments as nodes, their motion as one animation. y up, as the format has it."""

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pygltflib as g

from urst.core.bodies.fragments import Fragments


def _upright(vectors: np.ndarray) -> np.ndarray:
    """From z up to y up."""
    return np.stack([vectors[..., 0], vectors[..., 2], -vectors[..., 1]], axis=-1)


class _Buffer:
    def __init__(self) -> None:
        self.parts: list[bytes] = []
        self.size = 0
        self.document = g.GLTF2(asset=g.Asset(version="2.0", generator="Urst"))

    def add(self, array: np.ndarray, component: int, kind: str, target: int | None = None, bounds: bool = False) -> int:
        data = np.ascontiguousarray(array)
        view = g.BufferView(buffer=0, byteOffset=self.size, byteLength=data.nbytes, target=target)
        self.document.bufferViews.append(view)
        accessor = g.Accessor(
            bufferView=len(self.document.bufferViews) - 1, componentType=component, count=len(data), type=kind
        )
        if bounds:
            flat = data.reshape(len(data), -1)
            accessor.min, accessor.max = flat.min(axis=0).tolist(), flat.max(axis=0).tolist()
        self.document.accessors.append(accessor)
        pad = -data.nbytes % 4
        self.parts.append(data.tobytes() + b"\0" * pad)
        self.size += data.nbytes + pad
        return len(self.document.accessors) - 1


def write_fragments(
    path: Path, fragments: Fragments, names: list[str], colours: list, frames: Iterator, rate: float, start: int
) -> None:
    """Write a binary glTF: one node a fragment, translation and rotation of those that move."""
    out = _Buffer()
    document = out.document
    for colour in colours:
        surface = g.PbrMetallicRoughness(
            baseColorFactor=[*map(float, colour), 1.0], metallicFactor=0.0, roughnessFactor=0.9
        )
        document.materials.append(g.Material(pbrMetallicRoughness=surface))
    pose = [(frame, a["position"], a["orientation"]) for frame, a in frames]
    times = np.array([(frame - start) / rate for frame, _, _ in pose], np.float32)
    clock = out.add(times, g.FLOAT, g.SCALAR, bounds=True)
    position = _upright(np.stack([p for _, p, _ in pose])).astype(np.float32)
    turn = np.stack([q for _, _, q in pose])
    # scalar last; the axis turns upright like any vector
    quaternion = np.concatenate([_upright(turn[..., 1:]), turn[..., :1]], axis=-1).astype(np.float32)
    animation = g.Animation(name="motion")
    for b in range(len(fragments)):
        corners = _upright(fragments.skin[fragments.skin_start[b] : fragments.skin_start[b + 1]]).astype(np.float32)
        normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-12)
        attributes = g.Attributes(
            POSITION=out.add(corners.reshape(-1, 3), g.FLOAT, g.VEC3, g.ARRAY_BUFFER, bounds=True),
            NORMAL=out.add(np.repeat(normal, 3, axis=0).astype(np.float32), g.FLOAT, g.VEC3, g.ARRAY_BUFFER),
        )
        piece = int(fragments.piece[b])
        document.meshes.append(g.Mesh(primitives=[g.Primitive(attributes=attributes, material=piece)]))
        node = g.Node(
            name=f"{names[piece]} {b}", mesh=b, translation=position[0, b].tolist(), rotation=quaternion[0, b].tolist()
        )
        document.nodes.append(node)
        for name, values, kind in (("translation", position[:, b], g.VEC3), ("rotation", quaternion[:, b], g.VEC4)):
            if np.ptp(values, axis=0).max() > 1e-6:
                animation.samplers.append(g.AnimationSampler(input=clock, output=out.add(values, g.FLOAT, kind)))
                target = g.AnimationChannelTarget(node=b, path=name)
                animation.channels.append(g.AnimationChannel(sampler=len(animation.samplers) - 1, target=target))
    document.scenes.append(g.Scene(nodes=list(range(len(fragments)))))
    document.scene = 0
    if animation.channels:
        document.animations.append(animation)
    document.buffers.append(g.Buffer(byteLength=out.size))
    document.set_binary_blob(b"".join(out.parts))
    document.save_binary(str(path))
