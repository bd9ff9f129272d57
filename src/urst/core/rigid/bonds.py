"""Bonds: what holds fragments together until it snaps."""

import numpy as np

from urst.core.bodies.fragments import Fragments
from urst.core.bodies.mobility import DRIVEN, LOOSE
from urst.core.bodies.patches import Patches
from urst.core.curves.varies import in_space
from urst.core.rigid import bond_kernels
from urst.core.rigid.bond_kernels import BondState, Section
from urst.core.rigid.settings import BondSettings
from urst.core.rigid.state import Bodies

#: damping of the bonds: the time that multiplies their stiffness [s]
LAG = 1e-3
#: stiffest bond that the substeps can carry, as the square of its angular frequency times the substep
PACE = 1.0
#: least area of a bond, as a share of the smaller fragment's volume to the power 2/3
HAIR = 0.02


class Bonds:
    """The bonds of a set of fragments.

    Parameters
    ----------
    fragments : Fragments
    patches : Patches
        Where they touch.
    bodies : Bodies
        At the start.
    bonded : (n,) bool
        What bonds may hold.
    settings : BondSettings
    h : float
        Substep [s].
    """

    def __init__(
        self, fragments: Fragments, patches: Patches, bodies: Bodies, bonded, settings: BondSettings, h: float
    ):
        self.settings = settings
        kind = bodies.kind
        i, j = patches.pair.T if len(patches) else (np.zeros(0, int),) * 2
        use = ((kind[i] == LOOSE) | (kind[j] == LOOSE)) & (kind[i] != DRIVEN) & (kind[j] != DRIVEN)
        use &= bonded[i] & bonded[j] & (in_space(settings.tension, patches.centre) > 0)
        # a weld turns a sliver of area into a hinge pin of endless stress: such hairs do not hold
        least = np.minimum(fragments.volume[i], fragments.volume[j])
        use &= patches.area > HAIR * np.cbrt(least) ** 2
        self.patch = np.flatnonzero(use)
        pair, centre = patches.pair[use], patches.centre[use]
        b = len(pair)
        self.state = BondState(
            body=pair.copy(),
            anchor=np.stack([centre - fragments.centre[pair[:, 0]], centre - fragments.centre[pair[:, 1]]], axis=1),
            alive=np.ones(b, np.uint8),
            impulse=np.zeros((b, 6)),
            load=np.zeros((b, 6)),
            stiffness=self._stiffness(fragments, patches, use, bodies, h),
            arm=np.zeros((b, 2, 3)),
            strain=np.zeros((b, 6)),
            inverse=np.zeros((b, 6, 6)),
        )
        self.section = Section(*(getattr(patches, name)[use] for name in Section._fields))
        rng = np.random.default_rng(settings.seed)
        share = np.clip(1.0 + settings.scatter * rng.standard_normal(b), 0.05, None)
        self.strength = np.column_stack([in_space(s, centre) * share for s in (settings.tension, settings.shear)])
        self.load_share = np.zeros(b)
        """(b,) stress over strength"""

    def __len__(self) -> int:
        return len(self.state.alive)

    def _stiffness(self, fragments, patches, use, bodies, h):
        """A patch is a bar of the bonds' modulus from centre to centre: E A / L and E I / L."""
        i, j = patches.pair[use].T
        length = np.abs(np.einsum("bi,bi->b", fragments.centre[j] - fragments.centre[i], patches.normal[use]))
        # a fixed neighbour may be a huge slab whose centre is far away: what bends is near the joint
        size = np.cbrt(np.minimum(fragments.volume[i], fragments.volume[j]))
        length = np.clip(length, 0.2 * size, 2.0 * size)
        per_area = self.settings.modulus / length
        stiffness = np.column_stack([per_area * patches.area[use], per_area * patches.moment[use].mean(axis=1)])
        loose = bodies.kind == LOOSE
        inverse_mass = np.where(loose, 1.0 / bodies.mass, 0.0)
        turning = np.where(loose, np.trace(bodies.inverse_inertia, axis1=1, axis2=2) / 3.0, 0.0)
        pace = PACE / h**2
        cap = np.column_stack([pace / (inverse_mass[i] + inverse_mass[j]), pace / (turning[i] + turning[j])])
        return np.minimum(stiffness, cap)

    def join(self, pairs: np.ndarray) -> np.ndarray:
        """Return which pairs of bodies (p, 2), the smaller number first, a living bond joins, (p,) bool."""
        body = np.sort(self.state.body[self.state.alive == 1], axis=1)
        span = 1 + max(body.max(initial=0), pairs.max(initial=0))
        return np.isin(pairs[:, 0] * span + pairs[:, 1], body[:, 0] * span + body[:, 1])

    def lumps(self, kind: np.ndarray) -> np.ndarray:
        """Return a label for each body, the same for loose ones that living bonds join, (n,) int64."""
        label = np.empty(len(kind), np.int64)
        bond_kernels.lumps(len(kind), kind, self.state.body, self.state.alive, label)
        return label

    def part(self, gone: np.ndarray) -> None:
        """End some bonds (b,) bool."""
        self.state.alive[gone] = 0
        self.state.impulse[gone], self.load_share[gone] = 0.0, 0.0

    def weigh(self, bodies: Bodies, moved: np.ndarray, dt: float) -> np.ndarray:
        """Take up what each bore over a check; return which bore more than they can, (b,) bool.

        Parameters
        ----------
        bodies : Bodies
        moved : (n,) bool
            Which bodies were solved; a bond between two others keeps its last load.
        dt : float [s]
        """
        state = self.state
        if not len(self):
            return np.zeros(0, bool)
        stress = np.empty((len(self), 2))
        bond_kernels.bond_stress(state, bodies.rotation, self.section, dt, stress)
        gained = np.maximum(-stress[:, 0], 0.0) * np.tan(np.radians(self.settings.friction_angle))
        share = np.maximum(stress[:, 0] / self.strength[:, 0], stress[:, 1] / (self.strength[:, 1] + gained))
        self.load_share = np.where(moved[state.body].any(axis=1), np.maximum(share, 0.0), self.load_share)
        return (self.load_share > 1.0) & (state.alive == 1)
