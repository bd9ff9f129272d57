"""Gas: a velocity field that drags what flies in it."""

from typing import Any

from urst.kinds.offers.grid import Grid
from urst.kinds.offers.offer import Facts, Offer


class GasFacts(Facts):
    """Where the gas is solved."""

    grid: Grid

    def content(self) -> dict[str, Any]:
        return self.grid.model_dump(mode="json")


GAS = Offer(
    "gas",
    GasFacts,
    outputs={
        "velocity_x": "(nx + 1, ny, nz) on the faces across x [m/s]",
        "velocity_y": "(nx, ny + 1, nz) [m/s]",
        "velocity_z": "(nx, ny, nz + 1) [m/s]",
    },
    sampled=True,
)
