"""What the kinds share whose matter set pieces give off, and that moves among the bodies that stop it."""

from typing import Any, ClassVar

from urst.kinds.kind import Kind, piece_problem
from urst.kinds.surroundings import around
from urst.scene import content
from urst.scene.sources import PieceSource
from urst.scene.taking_part import Matter


class Emitting(Kind):
    """A kind whose settings list `sources`: set pieces that give its matter off."""

    gives: ClassVar[str]
    """what it gives off, as a sentence calls it"""
    counted: ClassVar[str]
    """unit of how much"""
    stopped: ClassVar[Matter]
    """as what it is stopped by the set"""

    def problem(self, shot: Any, layer: Any) -> str:
        return piece_problem(shot, [s.piece for s in layer.settings.sources], f"gives off {self.gives} from")

    def sources(self, layer: Any) -> list[tuple[PieceSource, str]]:
        return [(s, self.counted) for s in layer.settings.sources]

    def rename_references(self, settings: dict[str, Any], before: str, now: str) -> dict[str, Any]:
        sources = [s | {"piece": now if s["piece"] == before else s["piece"]} for s in settings.get("sources", [])]
        return settings | {"sources": sources}

    def content(self, shot: Any, layer: Any) -> dict[str, Any]:
        settings = layer.settings.model_dump(mode="json")
        settings["sources"] = [
            s.model_dump(mode="json", exclude={"piece"}) | {"from": content.motion(shot.piece(s.piece), shot)}
            for s in layer.settings.sources
        ]
        return {"settings": settings, "clock": content.clock(shot)} | around(shot, layer, self.stopped)
