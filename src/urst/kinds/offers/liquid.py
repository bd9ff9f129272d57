"""Liquid: where it is, how it flows, and the sea it may be part of."""

from typing import Any

from urst.core.liquid.settings import WaveSettings
from urst.kinds.offers.grid import Grid
from urst.kinds.offers.offer import Facts, Offer


class SeaFacts(Facts):
    """The sea beyond the domain's sides."""

    waves: WaveSettings
    level: float
    """of the still water [m]"""
    depth: float
    """of the water, where the waves say nothing [m]"""
    seed: int


class LiquidFacts(Facts):
    """Where the liquid is solved, and what it is."""

    grid: Grid
    viscosity: float
    """kinematic [m2/s]"""
    density: float
    """[kg/m3]"""
    sea: SeaFacts | None = None
    """None where the liquid ends at the domain's sides"""

    def content(self) -> dict[str, Any]:
        return self.model_dump(mode="json")


LIQUID = Offer(
    "liquid",
    LiquidFacts,
    outputs={
        "phi": "(nx, ny, nz) distance from the surface, negative within [cells]",
        "flow": "(nx, ny, nz, 3) [m/s]",
        "walls": "(nx, ny, nz) distance from the walls, negative within [cells]",
        "blocked": "(nx, ny, nz) uint8: bits of the faces that thin walls close",
        "position": "(n, 3) of the particles [m]",
        "filled": "(1,) how many particles would fill it",
    },
)
