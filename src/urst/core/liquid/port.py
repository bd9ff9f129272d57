"""The liquid as other solvers meet it: where it is, and how bodies push it."""

from abc import ABC, abstractmethod
from collections.abc import Sequence

import numpy as np

from urst.core.bodies.boundary import Boundary
from urst.core.fields.wet import Wet
from urst.core.liquid.pressure_step import PressureStep
from urst.core.liquid.settings import LiquidSettings
from urst.core.solids.walls import Walls

#: others are told of the flow so far beyond the surface [cells]
SEEN = 2.0


class Port(ABC):
    """The part of the liquid solver that exchanges act on; `coupling.ports.Liquid` says what these need."""

    settings: LiquidSettings
    walls: Walls
    phi: np.ndarray
    """(nx, ny, nz) distance from the surface [cells]"""
    velocity: list[np.ndarray]
    """three arrays of faces [m/s]"""
    origin: np.ndarray
    cell: float
    density: float
    """[kg/m3]"""
    pressure_step: PressureStep | None
    """the step whose pressure has been solved and that is not yet ended"""
    given: np.ndarray
    taken: np.ndarray
    """momentum that passed to solids, as the liquid and as these have it (3,) [N s]"""
    exchanged: float
    """sum of the sizes of all impulses [N s]"""
    _node_velocity: np.ndarray

    @abstractmethod
    def flow(self, beyond: float) -> np.ndarray:
        """Return the flow at cells' middles (nx, ny, nz, 3) [m/s].

        Parameters
        ----------
        beyond : float
            None farther than this beyond the surface [cells].
        """

    @abstractmethod
    def note(self, pressure_step: PressureStep) -> None:
        """Add to the ledger what a step passed to solids.

        Parameters
        ----------
        pressure_step : PressureStep
        """

    def boundaries(self) -> Sequence[Boundary]:
        """Return what stands or moves on its grid."""
        return self.walls.boundaries

    def immersed(self) -> np.ndarray:
        """Return the fraction of each body's volume that is in it, (n,)."""
        return self.walls.immersed(self.phi)

    def respond(self, change: np.ndarray) -> np.ndarray:
        """Let nodes that others have pushed since the first half of a step push the liquid, which gives way with them.

        Parameters
        ----------
        change : (k, 6) float
            How their velocities have changed by that [m/s], [rad/s].

        Returns
        -------
        (k, 6) float
            How the liquid changes them in turn.
        """
        pressure_step = self.pressure_step
        assert pressure_step is not None and pressure_step.nodes is not None
        impulse = pressure_step.respond(self.velocity, change, self.settings.tolerance)
        back = pressure_step.moved(impulse)
        self._node_velocity = self._node_velocity + change + back
        self.note(pressure_step)
        return back

    def momentum_lost(self) -> float:
        """Return what got lost between liquid and solids so far, as a fraction of all that passed."""
        return float(np.abs(self.given - self.taken).sum()) / self.exchanged if self.exchanged else 0.0

    def wet(self, time: float) -> Wet:
        """Return where it is and how it goes now, for what meets it; it knows of no other time [s]."""
        return Wet(self.phi, self.flow(SEEN), self.origin, self.cell, self.settings.kinematic(), self.density)
