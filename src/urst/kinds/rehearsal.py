"""Tiny shots that call the kernels of a kind of layer, so that they are compiled before a bake needs them."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from urst.kinds.registry import KINDS

#: the rehearsal of layers that act on each other
COUPLED = "coupled"


@dataclass(frozen=True)
class Rehearsal:
    """A tiny shot that calls kernels."""

    title: str
    version: int
    document: dict
    after: tuple[str, ...]
    """rehearsals that call some of the same kernels, and so come first"""


_SET = [
    {
        "name": "Ground",
        "shape": {"kind": "box", "width": 6, "depth": 6, "height": 1},
        "position": (0, 0, -1),
        "motion": "fixed",
    },
    {
        "name": "Wall",
        "shape": {
            "kind": "brick wall",
            "width": 1.5,
            "depth": 0.25,
            "height": 1.0,
            "brick_length": 0.5,
            "course_height": 0.25,
        },
        "material": "brick",
    },
    {
        "name": "Crate",
        "shape": {"kind": "box", "width": 0.4, "depth": 0.4, "height": 0.4, "matter": "hollow", "wall": 0.05},
        "position": (0, -0.8, 0.05),
        "bonded": False,
        "spin": (1, 2, 0),
    },
    {
        "name": "Ball",
        "shape": {"kind": "ball", "radius": 0.25, "rings": 6},
        "motion": "driven",
        "keys": [{"frame": 1, "position": (0, 0.8, 0.7)}, {"frame": 6, "position": (0, -0.6, 0.7)}],
    },
]
_FRAMES = 12


def _shot(layers: tuple[dict[str, Any], ...], couplings: Sequence[dict[str, str]] = ()) -> dict[str, Any]:
    """A document in which something is struck, parts, falls and comes to rest."""
    return {
        "name": "rehearsal",
        "end": _FRAMES,
        "pieces": _SET,
        "layers": [{"name": x["id"]} | x for x in layers],
        "couplings": list(couplings),
    }


def rehearsals() -> dict[str, Rehearsal]:
    """Return the rehearsal of every kind that has one, by kind, and that of layers that act on each other."""
    found = {}
    for kind in KINDS.values():
        layers = kind.rehearsal()
        if layers:
            after = tuple(name for name in KINDS if name != kind.name and name in {x["kind"] for x in layers})
            found[kind.name] = Rehearsal(kind.title, kind.version, _shot(layers), after)
    shed, (*_, billow) = KINDS["shed"].rehearsal(), KINDS["billow"].rehearsal()
    *_, flood = KINDS["flood"].rehearsal()
    couplings = [
        {"first": "bodies", "second": "billow"},
        {"first": "shed", "second": "billow"},
        {"first": "bodies", "second": "flood"},
    ]
    thick = {"reads": ["bodies"], "settings": flood["settings"] | {"viscosity": 1.0}}
    layers = (*shed, billow | {"reads": ["bodies", "shed"]}, flood | thick)
    version = sum(k.version for k in KINDS.values())
    after = ("break", "fall", "shed", "billow", "flood")
    return found | {COUPLED: Rehearsal("layers that act on each other", version, _shot(layers, couplings), after)}
