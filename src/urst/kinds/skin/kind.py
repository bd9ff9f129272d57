"""Skin: a liquid as a closed surface."""

from typing import Any

from urst.core.checks.findings import Finding
from urst.core.preview.look import SIGHT, Tint, tint
from urst.core.skin.settings import SkinSettings
from urst.kinds.gauge import Gauge, Quantity
from urst.kinds.kind import at
from urst.kinds.offers.liquid import LIQUID
from urst.kinds.on_liquid import OnLiquid
from urst.kinds.questions import CENTIMETRES, Field, Question
from urst.scene.materials import WATER, Material

#: draft cells are so much longer
_DRAFT = 1.5
#: a surface coarser than so many cells of its liquid loses what that shows, a finer one than that shows its grid
_COARSE, _FINE = 1.0, 0.2


class Skin(OnLiquid):
    """The surface of a liquid, closed, with normals and velocities."""

    name, title, version = "skin", "Skin", 5
    settings = SkinSettings
    hue = ("#7fc4cf", "#3b8d99")
    work = "urst.kinds.skin.work"
    does, rehearsed = "draw", {"smoothing": 0.1}
    representation = "surface"
    hands_over = ("surface", "ply", "obj", "glb", "levels", "csv")
    unit = "cells"
    seconds, memory = 2.5e-7, 60.0
    quantities = (
        Quantity("position", "corners, normals, velocities, triangles", 0.9),
        Quantity("levels", "its level set", 0.5, always=False),
    )
    chief = "triangles"
    gauges = (
        Gauge("triangles", "triangles"),
        Gauge("surface_volume", "enclosed volume", "m3"),
        Gauge(
            "surface_drift",
            "volume error",
            "%",
            100,
            -5,
            5,
            about="What the surface encloses beyond what the liquid's particles fill; it goes a little way into walls",
        ),
        Gauge("drops", "particles in drops"),
    )
    questions = (
        Question(
            "How fine?",
            "surface",
            (
                Field("cell_size", "Cell size", **CENTIMETRES),
                Field("smoothing", "Smoothing length", **CENTIMETRES),
            ),
        ),
        Question("What of single drops?", "spray", (Field("drops", "Drop size", "x real"),)),
        Question(
            "Where does it end?",
            "edges",
            (
                Field("horizon", "Sea to the horizon"),
                Field("overlap", "Overlap with walls", "cells"),
            ),
        ),
    )

    def draft(self, settings: dict[str, Any]) -> dict[str, Any]:
        size = settings.get("cell_size")
        return settings | {"cell_size": size * _DRAFT if size else size}

    def count(self, shot: Any, layer: Any) -> int:
        liquid = self.liquid(shot, layer)
        if liquid is None:
            return 1
        size = layer.settings.cell_size or 0.5 * liquid.grid.cell
        return int(liquid.grid.cells() * (liquid.grid.cell / size) ** 3)

    def findings(self, shot: Any, layer: Any) -> list[Finding]:
        liquid = self.liquid(shot, layer)
        if liquid is None:
            return super().findings(shot, layer)
        size, coarse = layer.settings.cell_size, liquid.grid.cell
        if size and not _FINE * coarse <= size <= _COARSE * coarse:
            return [
                Finding(
                    f"The surface '{layer.name}' has cells of {100 * size:g} cm, its liquid of {100 * coarse:g} cm.",
                    "It loses what the liquid shows."
                    if size > coarse
                    else "It shows no more than the liquid has, and costs its share.",
                    layer=layer.id,
                    fix="Take half of the liquid's",
                    changes=((at(shot, layer, "cell_size"), None),),
                )
            ]
        return []

    def matter(self, shot: Any, layer: Any) -> Material:
        return WATER

    def tint(self, shot: Any, layer: Any) -> Tint:
        found = (shot.kind_of(x).tint(shot, x) for x in shot.takes(layer, LIQUID))
        return next((x for x in found if x is not None), tint("", SIGHT))
