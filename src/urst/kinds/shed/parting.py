"""How fast faces part, from what a frame of bodies keeps."""

import numpy as np

from urst.core.geometry import rotation


def parting_speeds(static: dict[str, np.ndarray], frame: dict[str, np.ndarray]) -> np.ndarray:
    """Return the speed with which the two sides of each parted bond move from each other, (m,) [m/s].

    Parameters
    ----------
    static, frame : dict
        Of a layer of bodies, as the store keeps them.
    """
    parted = frame["bond_alive"] == 0
    patches = static["bond"][parted]
    if not len(patches):
        return np.zeros(0)
    sides = []
    for body in static["patch_pair"][patches].T:
        arm = rotation.turns(frame["orientation"][body]).apply(static["patch_centre"][patches] - static["centre"][body])
        sides.append(frame["velocity"][body] + np.cross(frame["spin"][body], arm))
    return np.linalg.norm(sides[1] - sides[0], axis=1)
