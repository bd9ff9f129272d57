"""Joints: hinges, sliders, balls, welds, ropes and springs between bodies."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import connected_components, reverse_cuthill_mckee

from urst.core.bodies.mobility import LOOSE
from urst.core.geometry.convex import Hulls
from urst.core.rigid import joint_kernels
from urst.core.rigid.joint_kernels import ROPE, ROWS, SPRING, JointState
from urst.core.rigid.settings import JOINTS, Joint
from urst.core.rigid.state import Bodies

#: most rows of a joint, by its kind
MOST_ROWS = np.array([6, 7, 7, 3, 1, 2])
#: joints that one body may have, and products that factoring joints which hang together may take, if they are solved at
#: once
CROWD, MOST_WORK = 64, 2e6


@dataclass(frozen=True)
class Jointed:
    """A joint and the bodies of the pieces that it joins; it holds the nearest of each."""

    joint: Joint
    first: np.ndarray
    """(n,) bool"""
    second: np.ndarray | None
    """(n,) bool; None: the world"""


class Joints:
    """All joints of a set of bodies.

    Parameters
    ----------
    jointed : sequence of Jointed
    bodies : Bodies
        At the start.
    hulls : Hulls
        In the frames of their bodies.
    whole : (n,) int64, optional
        See `Matter`.
    """

    def __init__(
        self, jointed: Sequence[Jointed], bodies: Bodies, hulls: Hulls, whole: np.ndarray | None = None
    ) -> None:
        count, n = len(jointed), len(bodies.mass)
        self._solid = np.arange(n) if whole is None else np.where(whole >= 0, n + whole, np.arange(n))
        self.jointed, self._arranged = jointed, b""
        self.state = JointState(
            kind=np.array([JOINTS.index(x.joint.kind) for x in jointed], np.int64),
            body=np.full((count, 2), -1, np.int64),
            anchor=np.zeros((count, 2, 3)),
            axes=np.zeros((count, 2, 3, 3)),
            low=np.zeros(count),
            high=np.zeros(count),
            stiffness=np.array([x.joint.stiffness for x in jointed], float),
            damping=np.array([x.joint.damping for x in jointed], float),
            strength=np.array([x.joint.strength or np.inf for x in jointed], float),
            alive=np.ones(count, np.uint8),
            impulse=np.zeros((count, ROWS)),
            force=np.zeros(count),
            total=np.zeros((count, ROWS)),
            order=np.arange(count),
            at_once=np.zeros(count, np.uint8),
        )
        for k, x in enumerate(jointed):
            self._place(k, x, bodies, hulls)

    def __len__(self) -> int:
        return len(self.state.kind)

    def _place(self, k: int, jointed: Jointed, bodies: Bodies, hulls: Hulls) -> None:
        joint, s = jointed.joint, self.state
        spans = s.kind[k] in (ROPE, SPRING)
        ends = np.array(joint.at, float), np.array(joint.to if spans else joint.at, float)
        axis = np.array(joint.axis, float) / np.linalg.norm(joint.axis)
        across = np.cross(axis, np.eye(3)[np.abs(axis).argmin()])
        across /= np.linalg.norm(across)
        axes = np.stack([axis, across, np.cross(axis, across)])
        for side, (mine, end) in enumerate(zip((jointed.first, jointed.second), ends)):
            if mine is None:
                s.anchor[k, side], s.axes[k, side] = end, axes
                continue
            b = _nearest(end, np.flatnonzero(mine), bodies, hulls)
            s.body[k, side] = b
            turn = bodies.rotation[b]
            s.anchor[k, side], s.axes[k, side] = turn.T @ (end - bodies.position[b]), axes @ turn
        if spans:
            s.low[k] = joint.length or np.linalg.norm(ends[1] - ends[0])
        elif joint.kind == "hinge":
            # what is limited is how the first goes against the second
            s.low[k], s.high[k] = -np.radians(joint.turns[::-1])
            if joint.turns[1] - joint.turns[0] >= 360.0:
                s.low[k], s.high[k] = -np.inf, np.inf
        else:
            s.low[k], s.high[k] = -np.array(joint.slides[::-1])

    def arrange(self, kind: np.ndarray) -> None:
        """Choose in which order joints are laid out, and which are solved with all that they are joined to: those whose
        rows have a narrow envelope, as chains and linkages have. A hub of many is swept joint by joint.

        Parameters
        ----------
        kind : (n,) int64
            What may move each body.
        """
        s = self.state
        holds = (s.body >= 0) & (kind[s.body] == LOOSE) & (s.alive == 1)[:, None] & (s.kind != ROPE)[:, None]
        state = holds.tobytes()
        if state == self._arranged:
            return
        self._arranged = state
        count, (joint, side) = len(self), np.nonzero(holds)
        body = s.body[joint, side]
        crowded = np.bincount(body, minlength=len(kind)) > CROWD
        hub = np.zeros(count, bool)
        hub[joint[crowded[body]]] = True
        kept = ~hub[joint]
        meets = csr_matrix((np.ones(kept.sum()), (joint[kept], body[kept])), shape=(count, len(kind)))
        graph = csr_matrix(meets @ meets.T)
        s.order[:] = reverse_cuthill_mckee(graph, symmetric_mode=True)
        rank = np.empty(count, np.int64)
        rank[s.order] = np.arange(count)
        own = MOST_ROWS[s.kind]
        near = graph.tocoo()
        first = rank.copy()
        np.minimum.at(first, near.row, rank[near.col])
        before = np.concatenate([[0], np.cumsum(own[s.order])])
        width = before[rank + 1] - before[first]
        _, group = connected_components(graph, directed=False)
        work = np.bincount(group, own * width.astype(float) ** 2)
        hubs = np.bincount(group, hub) > 0
        s.at_once[:] = (work[group] <= MOST_WORK) & ~hubs[group] & holds.any(axis=1)

    def join(self, pairs: np.ndarray) -> np.ndarray:
        """Return which pairs of bodies (p, 2) are of solids that a joint joins, (p,) bool; ropes and springs do not
        count."""
        s = self.state
        near = (s.alive == 1) & (s.kind != ROPE) & (s.kind != SPRING) & (s.body[:, 1] >= 0)
        solids, asked = np.sort(self._solid[s.body[near]], axis=1), np.sort(self._solid[pairs], axis=1)
        span = 1 + max(solids.max(initial=0), asked.max(initial=0))
        return np.isin(asked[:, 0] * span + asked[:, 1], solids[:, 0] * span + solids[:, 1])

    def company(self, kind: np.ndarray, label: np.ndarray) -> np.ndarray:
        """Return labels of loose bodies that bonds or joints hold together, (n,) int64.

        Parameters
        ----------
        kind, label : (n,) int64
            What may move them, and the clusters.
        """
        label = label.copy()
        if len(self):
            joint_kernels.join(len(label), kind, self.state.body, self.state.alive, label)
        return label

    def tear(self) -> bool:
        """Let those part that bore more than they can; returns whether any did."""
        torn = (self.state.force > self.state.strength) & (self.state.alive == 1)
        self.state.alive[torn] = 0
        self.state.impulse[torn] = 0.0
        return bool(torn.any())


def _nearest(point: np.ndarray, some: np.ndarray, bodies: Bodies, hulls: Hulls) -> int:
    """The body whose hull a point lies in, or that it is nearest to."""
    deep = np.empty(len(some))
    for k, b in enumerate(some):
        planes = hulls.planes[hulls.face_start[b] : hulls.face_start[b + 1]]
        local = bodies.rotation[b].T @ (point - bodies.position[b])
        deep[k] = (planes[:, :3] @ local - planes[:, 3]).max() if len(planes) else np.linalg.norm(local)
    return int(some[deep.argmin()])
