"""Bonds: what holds fragments together until it snaps."""

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from urst.core.bodies.fragments import Fragments
from urst.core.bodies.mobility import DRIVEN, FIXED, LOOSE
from urst.core.bodies.patches import Patches
from urst.core.curves.varies import in_space
from urst.core.rigid import bond_kernels, sections
from urst.core.rigid.bond_kernels import BondState
from urst.core.rigid.matter import Matter
from urst.core.rigid.sections import Sections
from urst.core.rigid.settings import BondSettings
from urst.core.rigid.state import Bodies

#: damping of the bonds: the time that multiplies their stiffness [s]
LAG = 1e-3
#: stiffest bond that the substeps can carry, as the square of its angular frequency times the substep
PACE = 1.0
#: strength of what is one solid [Pa]
WHOLE = 1e18
#: least area of a bond, as a fraction of the smaller fragment's volume to the power 2/3
HAIR = 0.02
#: waves that a random field is made of
_WAVES = 128
#: Poisson's ratio of what is held together, and the fraction of a section that carries shear (Timoshenko, a rectangle)
POISSON, SHEARED = 0.2, 5.0 / 6.0


class Bonds:
    """The bonds of a set of fragments.

    Parameters
    ----------
    fragments : Fragments
    patches : Patches
        Where they touch.
    bodies : Bodies
        At the start.
    matter : Matter
        What bonds may hold, and how well.
    later : (n,) bool
        What is held or driven at the start and let go later: what of it is driven is bonded among itself.
    settings : BondSettings
    h : float
        Substep [s].
    """

    def __init__(
        self,
        fragments: Fragments,
        patches: Patches,
        bodies: Bodies,
        matter: Matter,
        later: np.ndarray,
        settings: BondSettings,
        h: float,
    ) -> None:
        self.settings = settings
        kind = bodies.kind
        i, j = patches.pair.T if len(patches) else (np.zeros(0, int),) * 2
        use = ((kind[i] == LOOSE) | (kind[j] == LOOSE)) & (kind[i] != DRIVEN) & (kind[j] != DRIVEN)
        use |= (kind[i] == DRIVEN) & (kind[j] == DRIVEN) & later[i] & later[j]
        kind = np.where(later, LOOSE, kind)
        use &= matter.bonded[i] & matter.bonded[j] & (in_space(settings.tension, patches.centre) > 0)
        # a weld turns a sliver of area into a hinge pin of endless stress: such hairs do not hold
        least = np.minimum(fragments.volume[i], fragments.volume[j])
        use &= patches.area > HAIR * np.cbrt(least) ** 2
        whole = np.full(len(kind), -1) if matter.whole is None else matter.whole
        same = (whole[i] == whole[j]) & (whole[i] >= 0)
        use |= same & (kind[i] == LOOSE)
        self.patch = np.flatnonzero(use)
        pair, centre = patches.pair[use], patches.centre[use]
        b = len(pair)
        normal, axis = patches.normal[use], patches.axis[use]
        self.length = _lengths(fragments, patches, use, kind)
        """(b,) between the middles of what it joins [m]"""
        field = _correlated(centre, settings.correlation, settings.seed) if settings.scatter else np.zeros(b)
        scatter = np.clip(1.0 + settings.scatter * field, 0.05, None)
        self.extent = patches.extent[use]
        if settings.chunks:
            chunk = _chunks(fragments, settings.chunks, settings.seed)
            scatter[chunk[pair[:, 0]] == chunk[pair[:, 1]]] *= settings.chunk_holds
        if matter.holds is not None:
            scatter *= matter.holds[pair].min(axis=1)
        elongation = np.full(b, settings.elongation)
        if matter.elongation is not None:
            own = matter.elongation[pair]
            elongation = np.where(np.isnan(own), settings.elongation, own).min(axis=1)
        strength = [in_space(s, centre) * scatter for s in (settings.tension, settings.shear)]
        strength = [np.where(same[use], WHOLE, s) for s in strength]
        press = scatter * (np.inf if matter.compression is None else matter.compression[pair].min(axis=1))
        stiffness = _stiffness(patches, use, self.length, settings.modulus)
        # a crack's energy is half of its strength times how far it opens, as strength fades evenly
        crack = 2.0 * settings.toughness / strength[0]
        self.state = BondState(
            body=pair.copy(),
            anchor=np.stack([centre - fragments.centre[pair[:, 0]], centre - fragments.centre[pair[:, 1]]], axis=1),
            frame=np.stack([normal, axis, np.cross(normal, axis)], axis=1),
            alive=np.ones(b, np.uint8),
            section=_section(patches, use),
            corner=patches.corner[use],
            relief=np.ones((b, 2)),
            strength=np.column_stack(
                [*strength, np.full(b, np.tan(np.radians(settings.friction_angle))), np.where(same[use], WHOLE, press)]
            ),
            gives=elongation * self.length + crack,
            crack=crack,
            reach=np.column_stack([self.extent.max(axis=1), self.extent[:, 1], self.extent[:, 0]]),
            yielded=np.zeros(b),
            stiffness=stiffness,
            swept=np.minimum(stiffness, _bearable(bodies, kind, pair, h)),
            rest=np.zeros((b, 6)),
            force=np.zeros((b, 6)),
            impulse=np.zeros((b, 6)),
            load=np.zeros((b, 6)),
            full=np.zeros(b, np.uint8),
            room=np.zeros(b),
            left=np.ones(b),
            axes=np.zeros((b, 3, 3)),
            strain=np.zeros((b, 6)),
            arm=np.zeros((b, 2, 3)),
            soft=np.zeros((b, 2, 6)),
            inverse=np.zeros((b, 6, 6)),
        )
        self.area = patches.area[use]
        """(b,) [m2]"""
        self.tied = same[use]
        """(b,) bool, which hold parts of one solid"""
        links = coo_matrix((np.ones(self.tied.sum()), pair[self.tied].T), shape=(len(kind), len(kind)))
        self._solid = connected_components(links, directed=False)[1]
        own = np.where(self.tied, 0.0, self.state.strength[:, 0] * self.area)
        self._capacity = np.zeros(len(kind))
        np.add.at(self._capacity, self._solid[pair], own[:, None])
        self.utilisation = np.zeros(b)
        """(b,) tension or shear over strength"""
        self.pressure = np.zeros(b)
        """(b,) compression over strength"""
        self._sections = _sections(self.state, fragments, np.where(kind == FIXED, FIXED, LOOSE), centre, self.tied)
        sections.measure(self._sections, self.state, np.arange(b))

    def __len__(self) -> int:
        return len(self.state.alive)

    def capacity(self) -> np.ndarray:
        """Return what all bonds of each body, or of the solid it is a part of, bore in tension at the start (n,) [N].

        Endless for a solid that no bonds hold to others any more; 0 for what never had bonds.
        """
        found = self._capacity[self._solid]
        left = np.zeros(len(found), bool)
        left[self._solid[self.state.body[(self.state.alive == 1) & ~self.tied].ravel()]] = True
        found[(np.bincount(self._solid)[self._solid] > 1) & ~left[self._solid]] = np.inf
        return found

    def left(self) -> float:
        """Return the fraction of bonds that hold still, of those that may part."""
        may = self.state.alive[~self.tied]
        return float(may.mean()) if len(may) else 1.0

    def join(self, pairs: np.ndarray) -> np.ndarray:
        """Return which pairs of bodies (p, 2), the smaller number first, a living bond joins, (p,) bool."""
        body = np.sort(self.state.body[self.state.alive == 1], axis=1)
        span = 1 + max(body.max(initial=0), pairs.max(initial=0))
        return np.isin(pairs[:, 0] * span + pairs[:, 1], body[:, 0] * span + body[:, 1])

    def clusters(self, kind: np.ndarray) -> np.ndarray:
        """Return a label for each body, the same for loose ones that living bonds join, (n,) int64."""
        label = np.empty(len(kind), np.int64)
        bond_kernels.clusters(len(kind), kind, self.state.body, self.state.alive, label)
        return label

    def anchored(self, kind: np.ndarray, label: np.ndarray) -> np.ndarray:
        """Return whether a bond holds the cluster of each body to something fixed, (n,) bool.

        Parameters
        ----------
        kind, label : (n,) int64
            What may move them, and the clusters.
        """
        i, j = self.state.body[self.state.alive == 1].T
        held = np.zeros(len(kind), bool)
        held[label[i[kind[j] == FIXED]]] = True
        held[label[j[kind[i] == FIXED]]] = True
        return held[label] & (kind == LOOSE)

    def loosen(self, some: np.ndarray) -> None:
        """End some bonds (b,) bool, but those within one solid."""
        self.part(some & ~self.tied)

    def part(self, gone: np.ndarray) -> None:
        """End some bonds (b,) bool."""
        self.state.alive[gone] = 0
        self.state.impulse[gone], self.state.force[gone] = 0.0, 0.0
        self.utilisation[gone], self.pressure[gone] = 0.0, 0.0
        self.remeasure(gone)

    def remeasure(self, gone: np.ndarray | None = None) -> None:
        """See anew what is left of the sections of which some bonds (b,) bool were members; of all, if not given."""
        if gone is None:
            sections.measure(self._sections, self.state, np.arange(len(self)))
            return
        member = self._sections.member
        counts = np.add.reduceat(gone[member], self._sections.start[:-1]) if len(member) else gone[:0]
        sections.measure(self._sections, self.state, np.flatnonzero(counts > 0))

    def strain(self, some: np.ndarray, bodies: Bodies) -> np.ndarray:
        """Return how the ends of some bonds lie apart and are turned, (k, 6) in their own directions [m] and [rad].

        Parameters
        ----------
        some : (k,) int64
        bodies : Bodies
        """
        strain = np.empty((len(some), 6))
        bond_kernels.strains(self.state, some, bodies.position, bodies.rotation, bodies.orientation, strain)
        return strain

    def slacken(self, some: np.ndarray, stiffness: np.ndarray, bodies: Bodies) -> None:
        """Let some bonds go on with the forces they carry, but from now on with another stiffness.

        Parameters
        ----------
        some : (k,) int64
        stiffness : (k, 6) float [N/m], [N m/rad]
        bodies : Bodies
        """
        self.state.rest[some] = self.strain(some, bodies) + self.state.force[some] / stiffness

    def judge(self, some: np.ndarray) -> np.ndarray:
        """Judge what some bonds carry; returns which carry more than they can, (b,) bool.

        Parameters
        ----------
        some : (k,) int64
        """
        utilisation, pressure = np.empty(len(some)), np.empty(len(some))
        sections.judge(self._sections, self.state, some, utilisation, pressure)
        self.utilisation[some], self.pressure[some] = np.maximum(utilisation, 0.0), pressure
        over = np.zeros(len(self), bool)
        over[some] = ((utilisation > 1.0) | (pressure > 1.0)) & (self.state.alive[some] == 1)
        return over

    def tear(self, bodies: Bodies) -> tuple[np.ndarray, np.ndarray]:
        """Return which bonds of those that bore all they could part, and which did, (b,) bool each.

        The rest of such a bond moves until it carries just its strength (perfect plasticity). Once it has given by its
        elongation a crack opens, over which its strength fades evenly to nothing, and takes its energy: half of
        strength times opening (Hillerborg et al. 1976). So strain gathers where a crack has begun, and what is beside
        it is relieved.

        Parameters
        ----------
        bodies : Bodies
        """
        state = self.state
        full = (state.full > 0) & (state.alive == 1)
        some = np.flatnonzero(full & (state.full == 1) & (state.gives > 0.0))
        if len(some):
            strain = self.strain(some, bodies) - state.rest[some]
            utilisation = np.empty(len(some))
            bond_kernels.utilisations(state, some, -state.swept[some] * strain, utilisation)
            given = np.maximum(1.0 - 1.0 / np.maximum(utilisation, 1e-9), 0.0)[:, None] * strain
            state.rest[some] += given
            straight, turned = given[:, :3], np.abs(given[:, 3:])
            state.yielded[some] += np.linalg.norm(straight, axis=1) + (turned * state.reach[some]).sum(axis=1)
        crushed = (self.pressure > 1.0) & (state.alive == 1)
        torn = full & ((state.full == 2) | (state.gives == 0.0) | (state.yielded > state.gives))
        return torn | crushed, full | crushed


def _chunks(fragments: Fragments, count: int, seed: int) -> np.ndarray:
    """Which chunk of its piece each fragment belongs to, by the nearest of some that lie far from each other, (n,)."""
    chunk = np.zeros(len(fragments), np.int64)
    rng = np.random.default_rng([seed, 2])
    first = 0
    for piece in np.unique(fragments.piece):
        mine = np.flatnonzero(fragments.piece == piece)
        place = fragments.centre[mine]
        apart = np.linalg.norm(place - place[rng.integers(len(mine))], axis=1)
        near = np.zeros(len(mine), np.int64)
        for k in range(1, min(count, len(mine))):
            # what is far from all so far, but not always the farthest
            site = place[rng.choice(len(mine), p=apart**2 / max((apart**2).sum(), 1e-300))] if apart.any() else place[0]
            now = np.linalg.norm(place - site, axis=1)
            near[now < apart] = k
            apart = np.minimum(apart, now)
        chunk[mine] = first + near
        first += count
    return chunk


def _section(patches: Patches, use: np.ndarray) -> np.ndarray:
    """What a unit of force and twist strain the section of each patch by, (b, 4); see `bond_kernels`."""
    area, moment = patches.area[use], patches.moment[use]
    far = np.linalg.norm(patches.corner[use], axis=2).max(axis=1)
    return np.column_stack([1.0 / area, 1.0 / moment, far / moment.sum(axis=1)])


def _sections(
    bonds: BondState, fragments: Fragments, kind: np.ndarray, centre: np.ndarray, tied: np.ndarray
) -> Sections:
    """The sections that bonds are judged by; what is one solid has none."""
    b, pair = len(centre), bonds.body
    normal, size = bonds.frame[:, 0], np.cbrt(fragments.volume)
    loose = kind[pair] == LOOSE
    of = np.where(loose, size[pair], 0.0).max(axis=1)
    # what is fixed may reach far: it counts as just beyond the patch
    beyond = np.stack([-normal, normal], axis=1) * 0.5 * of[:, None, None]
    ends = np.where(loose[:, :, None], fragments.centre[pair], centre[:, None] + beyond)
    start, member = np.zeros(b + 1, np.int64), np.empty(sections.MOST * b, np.int64)
    side, through = np.empty(len(member)), np.empty(b, bool)
    where = centre, normal, np.where(tied, 0.0, of)
    count = sections.find(pair, ends, where, kind == LOOSE, start, (member, side, through))
    return Sections(
        start=start,
        member=member[:count].copy(),
        side=side[:count].copy(),
        centre=centre.copy(),
        axes=bonds.frame.copy(),
        ends=np.where((loose & through[:, None])[:, :, None], ends, centre[:, None]),
        area=np.zeros(b),
        middle=np.zeros((b, 3)),
        basis=np.zeros((b, 3, 3)),
        inverse=np.zeros((b, 3)),
        polar=np.zeros(b),
        ahead=np.zeros((b, 2)),
    )


def _correlated(place: np.ndarray, length: float, seed: int) -> np.ndarray:
    """A normal random field at some places (k, 3), alike over about a length [m]: a sum of waves whose covariance is
    exp(-r^2 / (2 length^2)) (Shinozuka & Deodatis 1996, by random draws of the wave vectors)."""
    rng = np.random.default_rng(seed)
    wave = rng.standard_normal((_WAVES, 3)) / length
    phase = rng.uniform(0.0, 2.0 * np.pi, _WAVES)
    return np.sqrt(2.0 / _WAVES) * np.cos(place @ wave.T + phase).sum(axis=1)


def _lengths(fragments: Fragments, patches: Patches, use: np.ndarray, kind: np.ndarray) -> np.ndarray:
    """From middle to middle across each patch (b,); what is fixed is rigid and adds nothing."""
    length = np.zeros(int(use.sum()))
    for body in patches.pair[use].T:
        size = np.cbrt(fragments.volume[body])
        half = np.abs(np.einsum("bi,bi->b", patches.centre[use] - fragments.centre[body], patches.normal[use]))
        length += np.where(kind[body] == FIXED, 0.0, np.clip(half, 0.1 * size, size))
    return length


def _stiffness(patches: Patches, use: np.ndarray, length: np.ndarray, modulus: float) -> np.ndarray:
    """A patch is a beam of the bonds' modulus from middle to middle: E A, G A and E I, G J over its length
    (Timoshenko).

    J is A^4 / (40 (I1 + I2)), close for any compact section (de Saint-Venant 1855).
    """
    area, moment = patches.area[use], patches.moment[use]
    shear = 0.5 * modulus / (1.0 + POISSON)
    across = SHEARED * shear * area
    twist = shear * area**4 / (40.0 * moment.sum(axis=1))
    return np.column_stack([modulus * area, across, across, twist, modulus * moment]) / length[:, None]


def _bearable(bodies: Bodies, kind: np.ndarray, pair: np.ndarray, h: float) -> np.ndarray:
    """The greatest stiffnesses that the substeps can carry between two bodies, (b, 6)."""
    loose = kind == LOOSE
    inverse_mass = np.where(loose, 1.0 / bodies.mass, 0.0)[pair].sum(axis=1)
    turning = np.where(loose, np.trace(bodies.inverse_inertia, axis1=1, axis2=2) / 3.0, 0.0)[pair].sum(axis=1)
    return np.repeat(PACE / h**2 / np.column_stack([inverse_mass, turning]), 3, axis=1)
