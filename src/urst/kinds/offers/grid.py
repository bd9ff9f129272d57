"""The grid that a gas or a liquid lies on."""

from pydantic import BaseModel, ConfigDict


class Grid(BaseModel):
    """Cells of one size in a box."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    low: tuple[float, float, float]
    """least corner [m]"""
    cell: float
    """edge of a cell [m]"""
    shape: tuple[int, int, int]
    """cells along x, y, z"""

    def cells(self) -> int:
        """Return the number of cells."""
        nx, ny, nz = self.shape
        return nx * ny * nz
