"""What an exchange needs of a solver: one small interface for each kind of matter, named as what layers offer.

A solver has a port if it has what the protocol lists; it declares nothing. Exchanges join two ports and know no solver.
"""

from collections.abc import Sequence
from typing import Protocol, runtime_checkable

import numpy as np

from urst.core.bodies.boundary import Boundary
from urst.core.bodies.nodes import Nodes
from urst.core.bodies.pushed import PushedByGas, PushedByLiquid
from urst.core.fields.sampled import SampledField
from urst.core.fields.wet import Wet
from urst.core.geometry.convex import Hulls

Outputs = dict[str, np.ndarray]


@runtime_checkable
class Output(Protocol):
    """A solver whose state others of its group follow as it moves."""

    def outputs(self) -> Outputs:
        """Return what is followed, as it is now."""


class Reader(Protocol):
    """What follows a solver's outputs, live or from frames on disk."""

    def update(self, before: Outputs, after: Outputs, start: float, dt: float) -> None:
        """Take up the outputs at the start of a span of time and at its end.

        Parameters
        ----------
        before, after : dict of arrays
        start, dt : float [s]
        """


class BodyState(Protocol):
    """Arrays of `n` bodies, changed in place; float64, world axes."""

    @property
    def position(self) -> np.ndarray:
        """(n, 3) centre of mass [m]"""

    @property
    def rotation(self) -> np.ndarray:
        """(n, 3, 3)"""

    @property
    def velocity(self) -> np.ndarray:
        """(n, 3) [m/s]"""

    @property
    def spin(self) -> np.ndarray:
        """(n, 3) [rad/s]"""

    @property
    def mass(self) -> np.ndarray:
        """(n,) [kg]"""

    @property
    def inertia(self) -> np.ndarray:
        """(n, 3, 3) in body axes [kg m2]"""


@runtime_checkable
class Bodies(Output, Protocol):
    """Rigid bodies: a moving boundary, and a sink of impulses."""

    time: float
    gravity: np.ndarray
    """(3,) [m/s2]"""
    hulls: Hulls
    """convex shapes, those of the first `n` are the bodies'"""
    radius: np.ndarray
    """(n,) farthest point from the centre [m]"""
    volume: np.ndarray
    """(n,) [m3]"""

    @property
    def impulse_taken(self) -> np.ndarray:
        """(3,) all impulse from outside so far, what held against it included [N s]."""

    @property
    def motion(self) -> BodyState:
        """The bodies as they are now."""

    @property
    def drag_coefficient(self) -> float:
        """Of form drag."""

    def inverse_mass(self) -> np.ndarray:
        """Return 1 / mass (n,) [1/kg], 0 for what does not move now."""

    def inverse_inertia(self) -> np.ndarray:
        """Return the inverse inertia in world axes (n, 3, 3) [1/(kg m2)], 0 for what does not move now."""

    def nodes(self) -> Nodes:
        """Return what moves as one now."""

    def apply_impulse(self, impulse: np.ndarray, twist: np.ndarray) -> None:
        """Take impulses through the centres and about them; wakes what sleeps if it must.

        Parameters
        ----------
        impulse, twist : (n, 3) float [N s], [N m s]
        """

    def apply_steady_force(self, force: np.ndarray, added_mass: np.ndarray) -> None:
        """Take forces and torques that act until they are replaced.

        Parameters
        ----------
        force : (n, 6) float [N], [N m]
        added_mass : (n,) float
            Mass of what moves along with each body [kg].
        """


class PointState(Protocol):
    """Arrays of `n` points, changed in place."""

    @property
    def position(self) -> np.ndarray:
        """(n, 3) [m]"""

    @property
    def velocity(self) -> np.ndarray:
        """(n, 3) [m/s]"""

    @property
    def size(self) -> np.ndarray:
        """(n,) diameter [m]"""

    @property
    def age(self) -> np.ndarray:
        """(n,) [s]; infinite ends it"""

    @property
    def airborne(self) -> np.ndarray:
        """(n,) uint8: 1 where something else than the solver drags it"""


@runtime_checkable
class Points(Output, Protocol):
    """Points that fly: chips with mass, and puffs that hang in the air."""

    time: float
    gravity: np.ndarray
    """(3,) [m/s2]"""
    impulse_taken: np.ndarray
    """(3,) all impulse from outside so far [N s]"""

    @property
    def points(self) -> PointState:
        """The points as they are now."""

    def mass(self) -> np.ndarray:
        """Return the mass of each point (n,) [kg]; 0 for puffs."""

    def density(self) -> float:
        """Return that of the points that have mass [kg/m3]."""

    def is_chip(self) -> np.ndarray:
        """Return which points have mass (n,) bool."""


class BodyGrid(Protocol):
    """Bodies as a gas has them on its grid."""

    solid: np.ndarray
    """(nx, ny, nz) int, number of the body in each cell, negative where there is none"""
    first: np.ndarray
    """(b + 1,) number of the first body of each boundary"""
    boundaries: Sequence[Boundary]


@runtime_checkable
class Gas(Protocol):
    """A gas on a grid: a velocity field with its adjoint deposit, and a pressure that pushes bodies."""

    solids: BodyGrid
    cell: float
    """[m]"""
    movable: PushedByGas | None
    """the bodies that its pressure pushes; set by the exchange"""
    lost: np.ndarray
    """(3,) momentum that its pressure has given to bodies so far [N s]"""

    def field(self) -> SampledField:
        """Return its velocity, to be sampled and pushed."""

    def bulk(self) -> float:
        """Return the sum of the sizes of the momenta of all its faces [N s]."""


@runtime_checkable
class Liquid(Protocol):
    """A liquid with a pressure that is solved together with the bodies in it."""

    gravity: np.ndarray
    """(3,) [m/s2]"""
    density: float
    """[kg/m3]"""
    afloat: PushedByLiquid | None
    """the bodies that its pressure pushes; set by the exchange"""

    def boundaries(self) -> Sequence[Boundary]:
        """Return what stands or moves on its grid."""

    def immersed(self) -> np.ndarray:
        """Return the fraction of each body's volume that is in it, (n,)."""

    def press(self, dt: float) -> None:
        """Solve the pressure of the step to come, which pushes the bodies.

        Parameters
        ----------
        dt : float [s]
        """

    def respond(self, change: np.ndarray) -> np.ndarray:
        """Let nodes whose velocities others have changed push the liquid; return how it changes them in turn, (k, 6).

        Parameters
        ----------
        change : (k, 6) float [m/s], [rad/s]
        """

    def momentum_lost(self) -> float:
        """Return what went missing between it and solids so far, as a fraction of all that passed."""

    def wet(self, time: float) -> Wet:
        """Return where it is and how it flows, for what meets it without pushing it.

        Parameters
        ----------
        time : float [s]
        """


#: by the name of the offer
PORTS: dict[str, type] = {"bodies": Bodies, "points": Points, "gas": Gas, "liquid": Liquid}
