"""What set pieces are made of.

Densities follow the unit weights of EN 1991-1-1 Annex A (quoted from memory): concrete 24 kN/m3, steel 77-78.5,
glass 25, softwood 4.2; brick, stone, plaster and friction values are common handbook figures (no single source).
"""

from dataclasses import dataclass


@dataclass(frozen=True)
class Material:
    """Bulk and surface of one kind of matter."""

    density: float
    """[kg/m3]"""
    friction: float
    """of the material on itself"""
    restitution: float
    """share of the approach speed given back"""
    colour: str
    """sRGB, for the stage and previews"""


MATERIALS = {
    "brick": Material(1900.0, 0.62, 0.08, "#8c5443"),
    "concrete": Material(2400.0, 0.65, 0.05, "#8e8b84"),
    "stone": Material(2600.0, 0.60, 0.10, "#77736a"),
    "steel": Material(7800.0, 0.45, 0.20, "#4d5358"),
    "timber": Material(500.0, 0.50, 0.15, "#9c7748"),
    "glass": Material(2500.0, 0.40, 0.10, "#9dc0bd"),
    "drum steel": Material(900.0, 0.45, 0.25, "#3f6a6b"),
}
