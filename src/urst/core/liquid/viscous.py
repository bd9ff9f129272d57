"""What makes a liquid thick and round: viscosity, solved implicitly, and surface tension."""

from collections.abc import Callable

import numpy as np

from urst.core.liquid import viscous_kernels as kernels
from urst.core.liquid.no_slip import NoSlipFaces
from urst.core.solids.walls import Walls
from urst.errors import SolverFailed

#: fraction of what is to be done that may be left, and rounds at most
TOLERANCE, MOST = 1e-4, 400
#: fraction of the longest step at which capillary waves are stable (Brackbill, Kothe & Zemach 1992)
_STEADY = 0.7


#: finds the faces that liquid clings to, of what faces are, what of each is liquid, and how that goes
Find = Callable[[list[np.ndarray], list[np.ndarray], list[np.ndarray]], NoSlipFaces | None]


def apply_viscosity(
    velocity: list[np.ndarray],
    phi: np.ndarray,
    walls: Walls,
    viscosity: float,
    dt: float,
    find: Find = lambda kind, fraction, velocity: None,
) -> tuple[int, NoSlipFaces | None, np.ndarray]:
    """Let a flow rub against itself and against walls, with which it goes where it touches them, in place.

    Conjugate gradients over all faces at once, so that what turns as a whole goes on turning and a thread buckles.

    Parameters
    ----------
    velocity : three arrays of faces, float32 [m/s]
    phi : (nx, ny, nz) float32
        Distance from the surface [cells].
    walls : Walls
        Whose velocities are set.
    viscosity : float
        Kinematic [m2/s].
    dt : float [s]
    find : callable, optional
        Finds the faces of bodies that give way.

    Returns
    -------
    (rounds, clinging, force)
        How many it took; what it clings to, with how that goes now, and what it does there to each face (m,), in
        velocities of a full cell.

    Raises
    ------
    SolverFailed
        If it does not converge.
    """
    strength = np.float32(viscosity * dt / walls.cell**2)
    ends = np.array([walls.ends(axis) for axis in range(3)])
    kind = [np.empty(u.shape, np.uint8) for u in velocity]
    fraction, diagonal = ([np.empty_like(u) for u in velocity] for _ in range(2))
    for axis in range(3):
        kernels.faces(phi, walls.weights[axis], axis, kind[axis], fraction[axis])
        kernels.diagonal(phi, axis, kind[axis], fraction[axis], strength, diagonal[axis])
    cling, reaction = find(kind, fraction, velocity), [np.zeros_like(u) for u in velocity]
    for axis in range(3):
        wall = kind[axis] == kernels.WALL
        velocity[axis][wall] = walls.walls[axis][wall]

    def product(x: list[np.ndarray]) -> list[np.ndarray]:
        out = [np.empty_like(u) for u in x[:3]]
        if cling is not None:
            cling.expand(x[3], x[:3])
        for axis in range(3):
            u, v, w = (x[(axis + n) % 3] for n in range(3))
            flow = kernels.Stressed(phi, u, v, w, ends)
            kernels.apply(flow, axis, kind[axis], fraction[axis], strength, out[axis])
            if cling is not None:
                kernels.wall_stress(flow, axis, kind[axis], strength, reaction[axis])
        if cling is not None:
            out.append(np.einsum("kij,kj->ki", cling.mass, x[3]) - cling.gathered(cling.chained(reaction)))
        return out

    def guessed(r: list[np.ndarray]) -> list[np.ndarray]:
        found = [a / d for a, d in zip(r, diagonal)]
        return found if cling is None else [*found, np.einsum("kij,kj->ki", own, r[3])]

    x = list(velocity)
    if cling is not None:
        own = cling.guess(float(strength))
        x.append(cling.velocity)
        wanted = np.einsum("kij,kj->ki", cling.mass, cling.velocity)
    pushed = product(x)
    left = [
        np.where(k == kernels.FREE, s * u, 0.0).astype(np.float32) - p
        for k, s, u, p in zip(kind, fraction, velocity, pushed)
    ]
    if cling is not None:
        left.append(wanted - pushed[3])
    guess = guessed(left)
    direction, gain = guess, _dot(left, guess)
    first = gain
    for turn in range(MOST):
        if gain <= TOLERANCE**2 * first or gain < 1e-20:
            if cling is None:
                return turn, None, np.zeros(0)
            product(x)
            return turn, cling, cling.forces(reaction)
        pushed = product(direction)
        step = np.float32(gain / _dot(direction, pushed))
        for u, r, p, q in zip(x, left, direction, pushed):
            u += step * p
            r -= step * q
        guess = guessed(left)
        before, gain = gain, _dot(left, guess)
        direction = [z + np.float32(gain / before) * p for z, p in zip(guess, direction)]
    raise SolverFailed(
        f"Viscosity left {np.sqrt(gain / first):.2g} after {MOST} rounds: use a lower viscosity, or more substeps."
    )


def _dot(x: list[np.ndarray], y: list[np.ndarray]) -> float:
    return sum(float(np.vdot(a.astype(np.float64), b)) for a, b in zip(x, y))


def apply_surface_tension(
    velocity: list[np.ndarray], phi: np.ndarray, cell: float, tension: float, dt: float, least: np.float32
) -> None:
    """Let surface tension pull, in place.

    Parameters
    ----------
    velocity : three arrays of faces, float32 [m/s]
    phi : (nx, ny, nz) float32 [cells]
    cell : float [m]
    tension : float
        Over the density [m3/s2].
    dt : float [s]
    least : float32
        Cells above -least are no liquid [cells].
    """
    strength = np.float32(tension * dt / cell**2)
    for axis in range(3):
        kernels.pull(phi, axis, strength, least, velocity[axis])


def steady_dt(tension: float, cell: float) -> float:
    """Return the longest step at which capillary waves of two cells are stable [s].

    Parameters
    ----------
    tension : float
        Over the density [m3/s2].
    cell : float [m]
    """
    return float(_STEADY * np.sqrt(cell**3 / (2.0 * np.pi * tension))) if tension > 0.0 else float("inf")
