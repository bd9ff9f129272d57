"""What is measured of bodies, bonds and contacts for frames and gauges."""

import numpy as np

from urst.core.bodies.fragments import Fragments
from urst.core.bodies.mobility import LOOSE
from urst.core.rigid.bonds import Bonds
from urst.core.rigid.contacts import Contacts
from urst.core.rigid.state import Bodies

#: speed below which a body counts as resting [m/s]
REST_SPEED = 0.01
#: nothing falls so far below all that is loose without being lost [m]
DEEP_BELOW = 100.0


def gauges(
    b: Bodies, bonds: Bonds, label: np.ndarray, contacts: Contacts, gravity: np.ndarray, floor: float, datum: float
) -> dict[str, float]:
    """Return the numbers judged on every frame, SI units.

    Parameters
    ----------
    b : Bodies
    bonds : Bonds
    label : (n,) int64
        The clusters.
    contacts : Contacts
    gravity : (3,) float [m/s2]
    floor, datum : float
        See `floors` [m].
    """
    loose = b.kind == LOOSE
    speed = np.linalg.norm(b.velocity, axis=1)
    turning = np.einsum("nij,nj->ni", np.transpose(b.rotation, (0, 2, 1)), b.spin)
    energy = 0.5 * b.mass * speed**2 + 0.5 * np.einsum("ni,nij,nj->n", turning, b.inertia, turning)
    cluster = np.bincount(label[loose], b.mass[loose], minlength=len(label)) if loose.any() else np.zeros(1)
    moving = loose & (speed > REST_SPEED)
    height = -float((b.mass * ((b.position - (0.0, 0.0, datum)) @ gravity))[loose].sum())
    living = bonds.utilisation[(bonds.state.alive == 1) & ~bonds.tied]
    # what was crushed stands in what crushed it, which is told apart
    gap = contacts.pairs.gap[contacts.touching() & (contacts.pairs.crushed == 0)]
    return {
        "moving": float(moving.sum()),
        "moving_mass": float(b.mass[moving].sum()),
        "kinetic_energy": float(energy[loose].sum()),
        "energy": float(energy[loose].sum() + height),
        "asleep": float((loose & (b.awake == 0)).sum()),
        "lost": float((loose & (b.position[:, 2] + b.radius < floor)).sum()),
        "deepest_overlap": float(max(0.0, -gap.min())) if len(gap) else 0.0,
        "bonds_left": bonds.left(),
        "bond_load": float(bonds.utilisation.max(initial=0.0)),
        "bond_load_99": float(np.percentile(living, 99)) if len(living) else 0.0,
        "bond_pressure": float(bonds.pressure.max(initial=0.0)),
        "largest_piece": float(cluster.max()),
        "top_speed": float(speed[loose].max()) if loose.any() else 0.0,
    }


def pressed(b: Bodies, contacts: Contacts, weight: float) -> np.ndarray:
    """Return what contacts press each body with, as a multiple of its weight, (n,).

    Parameters
    ----------
    b : Bodies
    contacts : Contacts
    weight : float
        Gravity [m/s2].
    """
    # what sleeps carries what it fell asleep under
    load = np.where((contacts.marks.set == 1) & (contacts.load == 0.0), contacts.marks.load, contacts.load)
    pressed = np.zeros(len(b.mass))
    for side in range(2):
        np.add.at(pressed, contacts.pairs.body[:, side], load)
    return pressed / (b.mass * max(weight, 1e-9))


def floors(fragments: Fragments, kind: np.ndarray) -> tuple[float, float]:
    """Return the lowest point of all there is at the start, but not far below what is loose, and that of what is loose
    [m].

    Parameters
    ----------
    fragments : Fragments
    kind : (n,) int64
        What may move them.
    """
    h = fragments.world_hulls()
    if not h.size:
        return 0.0, 0.0
    lowest = np.minimum.reduceat(h.vertices[:, 2], h.vertex_start[:-1])
    loose = float(lowest[kind == LOOSE].min()) if (kind == LOOSE).any() else float(lowest.min())
    return max(float(lowest.min()), loose - DEEP_BELOW), loose
