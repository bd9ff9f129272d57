"""What the kinds share that are made of a liquid's frames."""

from typing import Any, ClassVar

from urst.core.checks.findings import Finding
from urst.kinds.kind import Kind
from urst.kinds.offers.liquid import LIQUID, LiquidFacts

#: a liquid for rehearsals
_FLOOD = {
    "id": "flood",
    "kind": "flood",
    "settings": {
        "cell_size": 0.12,
        "low": (-1.5, -1.5, -0.1),
        "high": (1.5, 1.5, 2.0),
        "level": 0.4,
        "fills": [{"piece": "Crate", "velocity": (0, 0, -1)}],
    },
}


class OnLiquid(Kind):
    """A kind that takes the frames of one liquid."""

    reads = (LIQUID,)
    joins = (LIQUID,)
    does: ClassVar[str]
    """what it has a liquid for, as a sentence ends"""
    rehearsed: ClassVar[dict[str, Any]] = {}
    """settings that call its kernels"""

    def liquid(self, shot: Any, layer: Any) -> LiquidFacts | None:
        """Return what is known of the liquid it takes, None if it takes none."""
        return next((shot.facts(x, LIQUID) for x in shot.takes(layer, LIQUID)), None)

    def rehearsal(self) -> tuple[dict[str, Any], dict[str, Any]]:
        return _FLOOD, {"id": self.name, "kind": self.name, "reads": ["flood"], "settings": self.rehearsed}

    def findings(self, shot: Any, layer: Any) -> list[Finding]:
        taken = shot.takes(layer, LIQUID)
        if len(taken) > 1:
            first, others = taken[0], [x.id for x in taken[1:]]
            names = " and ".join(f"'{x.name}'" for x in taken)
            return [
                Finding(
                    f"'{layer.name}' reads {names} and takes one.",
                    "Give each liquid a layer of its own.",
                    layer=layer.id,
                    grave=True,
                    fix=f"Let it read '{first.name}' only",
                    changes=(
                        (("layers", shot.layers.index(layer), "reads"), [x for x in layer.reads if x not in others]),
                    ),
                )
            ]
        if taken:
            return []
        return [
            Finding(
                f"'{layer.name}' has no liquid to {self.does}.",
                "It reads no layer that has any: let it read one that has.",
                layer=layer.id,
            )
        ]
