"""What set pieces are made of.

Densities of concrete, stone, steel, glass and timber are the unit weights of EN 1991-1-1 Annex A over g (quoted from
memory; `tests/test_fracture.py` holds them to its ranges). Toughness, stiffness and compressive strength are common
handbook figures for each kind of matter, as are friction, restitution and rolling resistance (no single source): good
for an estimate of fragment size, not for design. A drum's compressive strength is that of a shell which buckles.
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
    """fraction of the approach speed given back"""
    rolling: float
    """rolling resistance of a ball, as a fraction of its load times its radius"""
    compression: float
    """compressive strength; of steel where it yields, of timber across the grain [Pa]"""
    toughness: float
    """fracture toughness K_Ic [Pa sqrt(m)]"""
    stiffness: float
    """Young's modulus [Pa]"""
    colour: str
    """sRGB, for the stage and previews"""
    dust: str
    """sRGB of its dust in the light"""


MATERIALS = {
    "brick": Material(1900.0, 0.62, 0.08, 0.02, 20e6, 0.8e6, 14e9, "#8c5443", "#c4b6aa"),
    "concrete": Material(2450.0, 0.65, 0.05, 0.015, 30e6, 1.0e6, 30e9, "#8e8b84", "#c4bfb5"),
    "stone": Material(2650.0, 0.60, 0.10, 0.02, 100e6, 1.2e6, 45e9, "#77736a", "#bdb7aa"),
    "steel": Material(7850.0, 0.45, 0.20, 0.002, 250e6, 90e6, 210e9, "#4d5358", "#9c938a"),
    "timber": Material(430.0, 0.50, 0.15, 0.01, 5e6, 0.4e6, 11e9, "#9c7748", "#ccb08a"),
    "glass": Material(2550.0, 0.40, 0.10, 0.003, 500e6, 0.75e6, 70e9, "#9dc0bd", "#d3dcda"),
    "drum steel": Material(900.0, 0.45, 0.25, 0.005, 10e6, 90e6, 210e9, "#3f6a6b", "#9c938a"),
    "empty drum": Material(180.0, 0.45, 0.25, 0.005, 2e6, 90e6, 210e9, "#3f6a6b", "#9c938a"),
}

#: what floods
WATER = Material(1000.0, 0.0, 0.0, 0.0, 1e9, 1.0, 2.2e9, "#4f8f9c", "#dfe9ea")
#: its foam
FROTH = Material(100.0, 0.0, 0.0, 0.0, 1e9, 1.0, 1e5, "#e9eeee", "#e9eeee")
