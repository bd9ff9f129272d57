"""The blast of a charge in the open: what its pressure wave does to bodies.

Peak overpressure by Sadovsky (1952), the pulse by Friedlander (1946), its duration 1.5e-3 W^(1/6) R^(1/2) [s] by
Sadovsky, the pressure on a face that the wave meets head-on by Rankine and Hugoniot, p_r = 2 p (7 p_0 + 4 p) / (7 p_0
+ p); all quoted from memory. A face turned away from the charge is in its lee and gets nothing.
"""

import numpy as np

from urst.core.geometry.convex import Hulls

#: pressure of still air [Pa]
AIR = 101325.0
#: how fast a pulse dies, as the exponent at its end
DECAY = 1.0
#: nearer than so many metres a kilogram to the third it is the fireball itself, for which these laws are not meant
NEAR = 0.5


def overpressure(charge: float, distance: np.ndarray) -> np.ndarray:
    """Return the peak overpressure of a charge at some distances, (n,) [Pa].

    Parameters
    ----------
    charge : float
        As much TNT [kg].
    distance : (n,) float [m]
    """
    z = np.maximum(distance / np.cbrt(charge), NEAR)
    return 1e6 * (0.085 / z + 0.3 / z**2 + 0.8 / z**3)


def reflected(pressure: np.ndarray) -> np.ndarray:
    """Return the overpressure on a wall that a wave meets head-on, (n,) [Pa].

    Parameters
    ----------
    pressure : (n,) float
        Of the wave [Pa].
    """
    return 2.0 * pressure * (7.0 * AIR + 4.0 * pressure) / (7.0 * AIR + pressure)


def duration(charge: float, distance: np.ndarray) -> np.ndarray:
    """Return how long the overpressure lasts, (n,) [s]; see `overpressure`."""
    return 1.5e-3 * charge ** (1.0 / 6.0) * np.sqrt(np.maximum(distance, NEAR * np.cbrt(charge)))


def check_cancelled(charge: float, distance: np.ndarray) -> np.ndarray:
    """Return the impulse on a square metre that a wave meets head-on, (n,) [N s]; see `overpressure`.

    The integral of p (1 - t/T) exp(-b t/T) over T is p T (1/b - (1 - exp(-b)) / b^2).
    """
    fraction = 1.0 / DECAY - (1.0 - np.exp(-DECAY)) / DECAY**2
    return reflected(overpressure(charge, distance)) * duration(charge, distance) * fraction


def impulses(
    hulls: Hulls,
    position: np.ndarray,
    rotation: np.ndarray,
    covered: np.ndarray,
    charge: float,
    centre: tuple[float, float, float],
) -> tuple[np.ndarray, np.ndarray]:
    """Return what a charge does to bodies: impulses (n, 3) [N s] and twists about their centres (n, 3) [N m s].

    Parameters
    ----------
    hulls : Hulls
        In the bodies' frames.
    position, rotation : (n, 3), (n, 3, 3)
    covered : (f,) float
        Area of each face that other bodies cover [m2].
    charge : float
        As much TNT [kg].
    centre : (3,) float [m]
    """
    middle, area = faces(hulls)
    body = np.repeat(np.arange(len(position)), np.diff(hulls.face_start))
    arm = np.einsum("fij,fj->fi", rotation[body], middle)
    normal = np.einsum("fij,fj->fi", rotation[body], hulls.planes[:, :3])
    offset = position[body] + arm - np.asarray(centre, float)
    distance = np.linalg.norm(offset, axis=1)
    facing = np.maximum(-np.einsum("fi,fi->f", normal, offset) / np.maximum(distance, 1e-9), 0.0)
    size = check_cancelled(charge, distance) * np.maximum(area - covered, 0.0) * facing**2
    push = -size[:, None] * normal
    out, twist = np.zeros((2, len(position), 3))
    np.add.at(out, body, push)
    np.add.at(twist, body, np.cross(arm, push))
    return out, twist


def faces(hulls: Hulls) -> tuple[np.ndarray, np.ndarray]:
    """Return middles (f, 3) [m] and areas (f,) [m2] of the faces of hulls, in the bodies' frames."""
    count = np.diff(hulls.loop_start)
    body = np.repeat(np.arange(hulls.size), np.diff(hulls.face_start))
    corner = hulls.vertices[hulls.loops + np.repeat(hulls.vertex_start[body], count)]
    first = np.repeat(corner[hulls.loop_start[:-1]], count, axis=0)
    following = np.roll(np.arange(len(corner)), -1)
    ends = hulls.loop_start[1:] - 1
    following[ends] = hulls.loop_start[:-1]
    face = np.repeat(np.arange(len(count)), count)
    normal = hulls.planes[face, :3]
    area = 0.5 * np.einsum("vi,vi->v", np.cross(corner - first, corner[following] - first), normal)
    total = np.bincount(face, area, minlength=len(count))
    middle = np.zeros((len(count), 3))
    np.add.at(middle, face, area[:, None] * (first + corner + corner[following]) / 3.0)
    return middle / np.maximum(total, 1e-300)[:, None], total
