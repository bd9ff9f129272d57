"""How clusters of bonded bodies give under load while they move as one.

Bonds are far stiffer than substeps could carry. So a cluster moves as a rigid compound, and its members stand against
each other as statics has it: K x = P - J^T k e for all bonds at once, where P are the forces on the members less what
moves the compound (inertia relief), k and e the bonds' own stiffnesses and strains, J what strains them and K = J^T k
J. The factors of a cluster are kept while its bonds hold and it has kept its shape; they turn with it. What lies still
on others stands on stiff springs instead of being relieved: contacts of something rigid do not tell how it shares its
weight among them.
"""

from typing import Any, NamedTuple

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.linalg import splu

from urst.core.rigid.bond_kernels import BondState
from urst.core.rigid.state import Bodies

#: a spring that holds the compound itself, as the time of its swing: so slow that it is felt by nothing else [s]
_SLOW = 10.0
#: rounds in which the slowest swing is sought
_ROUNDS = 8
#: how much stiffer than the stiffest bond the springs are on which a cluster stands, and along what it stands on: these
#: hold it in its place and no more, for friction that is never called upon shares in no load
_STIFFER, _ALONG = 10.0, 1e-5
#: turn of a member against the rest beyond which factors are made anew [rad]
_BENT = 0.02


class Supports(NamedTuple):
    """Points at which a cluster stands on others."""

    body: np.ndarray  # (s,) int64
    arm: np.ndarray  # (s, 3) from its centre [m]
    normal: np.ndarray  # (s, 3) towards it


class Cluster:
    """The members of a cluster, the bonds in it and to what is fixed, and its factors.

    Parameters
    ----------
    members : (m,) int64
    some : (k,) int64
        Its bonds.
    held : bool
        Whether one of them is to something fixed.
    bonds : BondState
    bodies : Bodies
    position, turn : (m, 3), (m, 3, 3) float
        How its members stood when its factors were made.
    supports : Supports, optional
        What it stands on, if it lies still.
    """

    def __init__(
        self,
        members: np.ndarray,
        some: np.ndarray,
        held: bool,
        bonds: BondState,
        bodies: Bodies,
        position: np.ndarray,
        turn: np.ndarray,
        supports: Supports | None = None,
    ) -> None:
        self.members, self.some, self.held = members, some, held
        self.mass, self.stiffness = bodies.mass[members], bonds.stiffness[some]
        self._stood = turn
        place = np.full(len(bodies.mass), -1)
        place[members] = np.arange(len(members))
        self._ends = place[bonds.body[some]]
        there = self._ends >= 0
        self._there = np.repeat(there, 6, axis=1)
        self._column = (6 * self._ends[:, :, None] + np.arange(6)).reshape(len(some), 12)
        end = np.where(there[:, :, None], position[self._ends], bodies.position[bonds.body[some]])
        turned = np.where(there[:, :, None, None], turn[self._ends], bodies.rotation[bonds.body[some]])
        self._rows = _rows(bonds, some, there, end, turned)
        heavy = np.zeros((len(members), 6, 6))
        heavy[:, [0, 1, 2], [0, 1, 2]] = self.mass[:, None]
        heavy[:, 3:, 3:] = turn @ bodies.inertia[members] @ np.swapaxes(turn, 1, 2)
        # minimum degree on a symmetric matrix needs no pivots: it is positive
        self.supports, self._stand = supports, np.zeros((0, 3, 6))
        if supports is not None:
            self._stand, self._on = _springs(supports), place[supports.body]
        self.reaction = np.zeros(len(self._stand))
        """with what force the supports push along their normals [N]"""
        self._solve = splu(
            self._matrix(heavy), permc_spec="MMD_AT_PLUS_A", diag_pivot_thresh=0.0, options={"SymmetricMode": True}
        ).solve
        self._whole, self._moved = np.zeros((heavy.size // 6, 0)), np.zeros((heavy.size // 6, 0))
        self.slowest = 0.0
        """angular frequency of its slowest swing [rad/s]"""
        if not held:
            self._whole, self._moved = _as_whole(position, self.mass, heavy)
        if supports is None:
            self.slowest = self._pace(heavy)

    def _matrix(self, heavy: np.ndarray) -> Any:
        block = np.einsum("kar,ka,kas->krs", self._rows, self.stiffness, self._rows)
        i, j = np.broadcast_arrays(self._column[:, :, None], self._column[:, None, :])
        inside = self._there[:, :, None] & self._there[:, None, :]
        own = 6 * np.arange(len(heavy))[:, None, None] + np.arange(6)
        oi, oj = np.broadcast_arrays(np.swapaxes(own, 1, 2), own)
        heavy = heavy / _SLOW**2
        if len(self._stand):
            held = np.array([1.0, _ALONG, _ALONG])
            np.add.at(heavy, self._on, self._under() * np.einsum("c,sci,scj->sij", held, self._stand, self._stand))
        numbers = np.concatenate([block[inside], heavy.ravel()])
        places = np.concatenate([i[inside], oi.ravel()]), np.concatenate([j[inside], oj.ravel()])
        return coo_matrix((numbers, places), shape=(heavy.size // 6,) * 2).tocsc()

    def bent(self, bodies: Bodies) -> bool:
        """Return whether a member has turned far against the others since the factors were made."""
        return bool(np.abs(bodies.rotation[self.members] - self._turn(bodies) @ self._stood).max() > _BENT)

    def _turn(self, bodies: Bodies) -> np.ndarray:
        """How far the cluster has turned since: the mean over its members."""
        if self.held or self.supports is not None:
            return np.eye(3)
        u, _, v = np.linalg.svd(np.einsum("mij,mkj->ik", bodies.rotation[self.members], self._stood))
        return u @ v

    def give(self, force: np.ndarray, strain: np.ndarray, bodies: Bodies) -> tuple[np.ndarray, np.ndarray]:
        """Return how members have yet to move until their bonds carry the forces on them, and what that strains the
        bonds by.

        Parameters
        ----------
        force : (m, 6) float
            About the members' own centres; what moves a free cluster as a whole does not count [N], [N m].
        strain : (k, 6) float
            Of the bonds, less their rest, in their own directions [m], [rad].
        bodies : Bodies

        Returns
        -------
        (way, strain)
            (m, 6) world, (k, 6) own directions [m], [rad].
        """
        turn = self._turn(bodies)
        pull = np.einsum("kar,ka->kr", self._rows, self.stiffness * strain)
        total = np.bincount(self._column[self._there], pull[self._there], minlength=force.size)
        displacement = self._balance((force.reshape(-1, 3) @ turn).ravel() - total).reshape(-1, 6)
        both = np.where((self._ends >= 0)[:, :, None], displacement[self._ends], 0.0).reshape(-1, 12)
        return (displacement.reshape(-1, 3) @ turn.T).reshape(-1, 6), np.einsum("kar,kr->ka", self._rows, both)

    def _under(self) -> float:
        return _STIFFER * self.stiffness[:, 0].max()

    def _balance(self, force: np.ndarray) -> np.ndarray:
        """Where forces (6 m,) bring the members, but for what moves or turns them as a whole."""
        if self.supports is None:
            force = force - self._moved @ (self._whole.T @ force)
        displacement = self._solve(force)
        if self.supports is not None:
            self.reaction = -self._under() * np.einsum(
                "si,si->s", self._stand[:, 0], displacement.reshape(-1, 6)[self._on]
            )
        return displacement - self._whole @ (self._moved.T @ displacement)

    def _pace(self, heavy: np.ndarray) -> float:
        """By inverse iteration; `heavy` (m, 6, 6) are the members' masses and inertias."""
        x = np.cumsum(np.tile([1.0, 0.3, -0.7, 0.0, 0.0, 0.0], len(self.members))) ** 2
        square = 0.0
        for _ in range(_ROUNDS):
            momentum = np.einsum("mij,mj->mi", heavy, x.reshape(-1, 6) / np.abs(x).max()).ravel()
            x = self._balance(momentum)
            own = np.einsum("mij,mj->mi", heavy, x.reshape(-1, 6)).ravel()
            square = (momentum @ x) / max(own @ x, 1e-300)
        return float(np.sqrt(max(square, 0.0)))


def _rows(bonds: BondState, some: np.ndarray, there: np.ndarray, end: np.ndarray, turned: np.ndarray) -> np.ndarray:
    """What shifts and turns of their ends strain the bonds by, (k, 6, 12)."""
    point = end + np.einsum("ksij,ksj->ksi", turned, bonds.anchor[some])
    # both ends are pushed at one point, so that what moves the whole strains nothing
    arm = point.mean(axis=1)[:, None] - end
    axes = np.einsum("kij,kaj->kai", turned[:, 0], bonds.frame[some])
    rows = np.zeros((len(some), 6, 2, 6))
    for side, sign in ((0, -1.0), (1, 1.0)):
        mine = sign * there[:, side, None, None]
        rows[:, :3, side, :3] = mine * axes
        rows[:, :3, side, 3:] = mine * np.cross(arm[:, None, side], axes)
        rows[:, 3:, side, 3:] = mine * axes
    return rows.reshape(len(some), 6, 12)


def _springs(supports: Supports) -> np.ndarray:
    """How shifts and turns of what stands on supports move it there, along the normal and two tangents, (s, 3, 6)."""
    normal = supports.normal
    other = np.eye(3)[np.abs(normal).argmin(axis=1)]
    first = np.cross(normal, other)
    first /= np.linalg.norm(first, axis=1, keepdims=True)
    axes = np.stack([normal, first, np.cross(normal, first)], axis=1)
    return np.concatenate([axes, np.cross(supports.arm[:, None], axes)], axis=2)


def _as_whole(position: np.ndarray, mass: np.ndarray, heavy: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """How members go as their cluster moves along and turns about each axis, and the momenta of that, (6 m, 6) each,
    orthonormal."""
    arm = position - mass @ position / mass.sum()
    whole = np.zeros((len(mass), 6, 6))
    for c, axis in enumerate(np.eye(3)):
        whole[:, c, c] = 1.0
        whole[:, :3, 3 + c], whole[:, 3 + c, 3 + c] = np.cross(axis, arm), 1.0
    momenta = np.einsum("mij,mjc->mic", heavy, whole).reshape(-1, 6)
    flat = whole.reshape(-1, 6)
    root = np.linalg.inv(np.linalg.cholesky(flat.T @ momenta)).T
    return flat @ root, momenta @ root
