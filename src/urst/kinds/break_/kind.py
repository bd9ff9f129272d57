"""Break: fracture."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from urst.core.checks.findings import Finding
from urst.core.checks.meshes import check_solid
from urst.errors import BadMesh
from urst.kinds.break_.advice import breaking
from urst.kinds.break_.proposal import breakable, proposal
from urst.kinds.break_.settings import BreakSettings
from urst.kinds.gauge import Gauge, Quantity
from urst.kinds.kind import Kind, piece_problem
from urst.kinds.offers.fragments import FRAGMENTS, FragmentFacts
from urst.kinds.offers.offer import Offer
from urst.kinds.questions import METRES, Field, Note, Question
from urst.scene import content
from urst.scene.shapes import count, is_endless, is_sheet, meshes, volumes

_CRACKS = "Where do the cracks run?"


class Break(Kind):
    """Voronoi fracture of set pieces; one result, no frames."""

    name, title, version = "break", "Break", 9
    settings = BreakSettings
    hue = ("#c9694b", "#a84a2d")
    own = ("pieces", "focus")
    work = "urst.kinds.break_.work"
    moving = False
    offers = (FRAGMENTS,)
    representation = "bodies"
    unit = "fragments"
    seconds, memory = 1.5e-3, 9000.0
    quantities = (Quantity("fragments", "fragments", 4000.0),)
    gauges = (
        Gauge("fragments", "fragments"),
        Gauge("smallest", "smallest", "L", 1e3),
        Gauge("largest", "largest", "L", 1e3),
        Gauge("volume_kept", "volume kept", "%", 100, 99.99, 100.01),
        Gauge("shared_area", "shared area", "m2"),
    )
    questions = (
        Question("What breaks?", "set pieces", (Field("pieces", "Pieces"),)),
        Question(
            _CRACKS,
            "Voronoi",
            (
                Field("pattern", "Pattern"),
                Field("count", "Fragments"),
                Field("focus", "Focus x, y, z", **METRES),
                Field("focus_radius", "Focus reach", **METRES),
                Field("seed", "Seed"),
            ),
        ),
    )

    def problem(self, shot: Any, layer: Any) -> str:
        for name in layer.settings.pieces:
            piece = shot.piece(name)
            if piece and is_endless(piece.shape):
                return f"breaks '{name}', which has no end: let it break a piece that has"
        return piece_problem(shot, layer.settings.pieces, "breaks")

    def cast(self, shot: Any, layer: Any) -> list[int]:
        return [i for i, p in enumerate(shot.pieces) if p.name in layer.settings.pieces]

    def breaks(self, layer: Any) -> tuple[str, ...]:
        return layer.settings.pieces

    def facts(self, shot: Any, layer: Any, offer: Offer) -> FragmentFacts:
        pieces = self.cast(shot, layer)
        volume = np.array([sum(volumes(shot.pieces[i].shape)) for i in pieces])
        area = float((2.0 * volume ** (2 / 3)).sum() * max(1, layer.settings.count) ** (1 / 3))
        return FragmentFacts(pieces=tuple(pieces), count=self.count(shot, layer), area=area)

    def rename_references(self, settings: dict[str, Any], before: str, now: str) -> dict[str, Any]:
        return settings | {"pieces": [now if p == before else p for p in settings["pieces"]]}

    def content(self, shot: Any, layer: Any) -> dict[str, Any]:
        return {
            "settings": layer.settings.model_dump(mode="json", exclude={"pieces"}),
            "pieces": [content.stance(shot.pieces[i], shot) for i in self.cast(shot, layer)],
        }

    def proposal(self, shot: Any, reads: Sequence[Any]) -> dict[str, Any]:
        return proposal(shot)

    def copied(self, shot: Any, layer: Any) -> Any:
        # a piece is broken once, so a copy breaks the next
        return super().copied(shot, layer) | {"pieces": [breakable(shot)[0].name]}

    def draft(self, settings: dict[str, Any]) -> dict[str, Any]:
        return settings | {"count": max(1, settings["count"] // 2)}

    def count(self, shot: Any, layer: Any) -> int:
        parts = sum(count(shot.pieces[i].shape) for i in self.cast(shot, layer))
        return max(parts, layer.settings.count)

    def notes(self, shot: Any, layer: Any, first: dict[str, float]) -> dict[str, Note]:
        hint = breaking(shot, [shot.pieces[i] for i in self.cast(shot, layer)], layer.settings)
        if hint is None:
            return {}
        size = f"{hint.size * 100:.2g} cm"
        text = f"{hint.cause} at {hint.speed:.2g} m/s breaks this into pieces of about {size} (Grady 1982)"
        return {_CRACKS: Note(text, "count", str(hint.count), f"Use {hint.count} fragments")}

    def rehearsal(self) -> tuple[dict[str, Any]]:
        settings = {"pieces": ["Wall"], "pattern": "clustered", "count": 30, "focus": (0, 0, 0.7), "focus_radius": 0.4}
        return ({"id": self.name, "kind": self.name, "settings": settings},)

    def findings(self, shot: Any, layer: Any) -> list[Finding]:
        found = []
        for i in self.cast(shot, layer):
            piece = shot.pieces[i]
            why = "Only a closed solid has mass and can break."
            try:
                if piece.shape.kind == "mesh":
                    for mesh in meshes(piece.shape):
                        check_solid(mesh, f"'{piece.name}'")
                elif is_sheet(piece.shape):
                    raise BadMesh(f"'{piece.name}' is an open sheet: let it stand, or break a solid.")
            except BadMesh as error:
                found.append(Finding(str(error), why, grave=True, layer=layer.id))
        return found

    def summary(self, gauges: dict[str, float]) -> str:
        return (
            f"{gauges['fragments']:.0f} fragments, {gauges['smallest'] * 1000:.2g} to {gauges['largest'] * 1000:.3g} "
            "L · "
            f"{100 * gauges['volume_kept']:.2f} % of the volume kept"
        )
