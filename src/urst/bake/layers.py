"""What each kind of layer does to bake: set up, first frame, next frame, state.

The registries at the end are the only place that maps a kind of layer, or a group of kinds that act on each other, to
what bakes it; this module loads Numba.
"""

from collections.abc import Callable
from typing import Protocol

import numpy as np

from urst.core.debris import kernels as debris_kernels
from urst.core.debris.solver import DebrisSolver
from urst.core.fracture.breaking import JOINT, break_pieces
from urst.core.fracture.fragments import Fragments, Patches, Solid, assemble, find_patches, joined
from urst.core.gas.solver import GasSolver
from urst.core.geometry import rotation
from urst.core.rigid.collide import DRIVEN, FIXED, LOOSE
from urst.core.rigid.solver import Matter, RigidSolver
from urst.shot import scene
from urst.shot.document import Shot
from urst.store.store import Store

Arrays = dict[str, np.ndarray]
#: called often within long work; raises to end it
Pulse = Callable[[], None]
MOTION = {"fixed": FIXED, "driven": DRIVEN, "loose": LOOSE}


class LayerBake(Protocol):
    """One layer on its way to disk."""

    static: Arrays
    meta: dict
    moving: bool
    """whether it has frames at all"""

    def first(self) -> tuple[Arrays, dict]:
        """Return arrays and gauges of the first frame."""

    def next(self, frame: int) -> tuple[Arrays, dict]:
        """Advance to `frame`, return its arrays and gauges."""

    def snapshot(self) -> Arrays:
        """Return the state after the last frame."""

    def restore(self, frame: int, state: Arrays) -> None:
        """Take up the state after `frame`."""


class Inputs:
    """What a layer reads: the results of other layers of the same shot; and the pulse to call within long work."""

    def __init__(self, shot: Shot, store: Store, keys: dict[str, str], layer, pulse: Pulse):
        self.shot, self.store, self.pulse = shot, store, pulse
        self.by_kind: dict[str, list[str]] = {}
        for link in layer.reads:
            self.by_kind.setdefault(shot.layer(link.layer).kind, []).append(keys[link.layer])

    def static(self, kind: str, number: int = 0) -> tuple[Arrays, dict]:
        """Static part of the n-th layer of a kind that is read."""
        return self.store.read_static(self.by_kind[kind][number])

    def frame(self, kind: str, frame: int) -> Arrays:
        """Frame of the first layer of a kind that is read."""
        return self.store.read_frame(self.by_kind[kind][0], frame)[0]


class BreakBake:
    """Fracture: one static result, no frames."""

    moving = False

    def __init__(self, shot: Shot, layer, inputs: Inputs):
        pieces = [(i, scene.placed(p, shot)) for i, p in enumerate(shot.pieces) if p.name in layer.settings.pieces]
        broken = break_pieces(pieces, layer.settings, inputs.pulse)
        volume = broken.fragments.volume
        self.static = broken.fragments.to_arrays() | broken.patches.to_arrays()
        self.meta = {
            "gauges": {
                "fragments": float(len(volume)),
                "smallest": float(volume.min()),
                "largest": float(volume.max()),
                "volume_kept": float(volume.sum() / broken.volume),
                "shared_area": float(broken.patches.area.sum()),
            }
        }


class FallBake:
    """Rigid bodies: the fragments of all breaks that are read, and the pieces nobody broke."""

    moving = True

    def __init__(self, shot: Shot, layer, inputs: Inputs):
        self.shot, self.settings, self.pulse = shot, layer.settings, inputs.pulse
        names = [p.name for p in shot.pieces]
        sets, broken = [], set()
        for number in range(len(inputs.by_kind.get("break", []))):
            fragments = Fragments.from_arrays(inputs.static("break", number)[0])
            sets.append(fragments)
            broken.update(np.unique(fragments.piece).tolist())
        # a piece broken by a layer that is not read stands whole
        for i, piece in enumerate(shot.pieces):
            if i not in broken:
                meshes = scene.placed(piece, shot)
                solids = [Solid(i, m, np.zeros(len(m.triangles), bool), part=k) for k, m in enumerate(meshes)]
                sets.append(assemble(solids))
        self.fragments = joined(sets)
        self.patches = find_patches(self.fragments, JOINT)
        owner = [shot.pieces[i] for i in self.fragments.piece]
        bulk = np.array([p.bulk() for p in owner]).reshape(-1, 3)
        matter = Matter(
            density=bulk[:, 0].copy(),
            friction=bulk[:, 1].copy(),
            restitution=bulk[:, 2].copy(),
            kind=np.array([MOTION[p.motion] for p in owner], np.int64),
            velocity=self._start_velocity(owner),
            spin=np.array([p.spin for p in owner], float).reshape(-1, 3),
            bonded=np.array([p.bonded for p in owner], bool),
        )
        self.solver = RigidSolver(
            self.fragments,
            self.patches,
            matter,
            self.settings,
            gravity=shot.gravity,
            drive=self._drive(owner),
            rate=shot.rate,
        )
        self.static = self.fragments.to_arrays() | self.patches.to_arrays()
        self.static |= {
            "bond": self.solver.patch_of_bond,
            "mass": self.solver.bodies.mass,
            "motion": matter.kind,
        }
        self.meta = {"pieces": names, "materials": [p.material for p in shot.pieces]}

    def _start_velocity(self, owner):
        """A piece is thrown as a whole: its spin also moves the fragments away from its centre."""
        velocity = np.array([p.velocity for p in owner], float).reshape(-1, 3)
        spin = np.array([p.spin for p in owner], float).reshape(-1, 3)
        mass = self.fragments.volume
        for i in np.unique(self.fragments.piece):
            mine = self.fragments.piece == i
            middle = np.average(self.fragments.centre[mine], axis=0, weights=mass[mine])
            velocity[mine] += np.cross(spin[mine], self.fragments.centre[mine] - middle)
        return velocity

    def _drive(self, owner):
        driven = [b for b, p in enumerate(owner) if p.motion == "driven"]
        if not driven:
            return None
        paths = {p.name: scene.path(p) for p in owner if p.motion == "driven"}
        start = self.shot.start
        home = {name: path(start) for name, path in paths.items()}

        def drive(seconds):
            positions, turns = [], []
            now = {name: path(start + seconds * self.shot.rate) for name, path in paths.items()}
            for b in driven:
                name = owner[b].name
                position, turn = now[name]
                home_position, home_turn = home[name]
                relative = rotation.matrix(turn) @ rotation.matrix(home_turn).T
                x, y, z, w = rotation.Rotation.from_matrix(relative).as_quat()
                positions.append(position + relative @ (self.fragments.centre[b] - home_position))
                turns.append([w, x, y, z])
            return np.array(positions), np.array(turns)

        return drive

    def first(self):
        self.solver.settle(self.settings.settle, self.pulse)
        return self.solver.frame(), self.solver.gauges()

    def next(self, frame):
        for _ in range(self.settings.steps):
            self.pulse()
            self.solver.step(1.0 / (self.shot.rate * self.settings.steps))
        return self.solver.frame(), self.solver.gauges()

    def snapshot(self):
        return self.solver.snapshot()

    def restore(self, frame, state):
        self.solver.restore(state)


class ShedBake:
    """Debris points, from two frames of the fall at a time."""

    moving = True

    def __init__(self, shot: Shot, layer, inputs: Inputs):
        self.shot, self.inputs = shot, inputs
        arrays, _ = inputs.static("fall")
        self.solver = DebrisSolver(
            Fragments.from_arrays(arrays), Patches.from_arrays(arrays), arrays["bond"], layer.settings, shot.gravity
        )
        self.before = None
        self.static, self.meta = {}, {}

    def first(self):
        self.before = self.inputs.frame("fall", self.shot.start)
        return self.solver.frame(), self.solver.gauges()

    def next(self, frame):
        after = self.inputs.frame("fall", frame)
        self.solver.step(self.before, after, 1.0 / self.shot.rate)
        self.before = after
        return self.solver.frame(), self.solver.gauges()

    def snapshot(self):
        return self.solver.snapshot()

    def restore(self, frame, state):
        self.solver.restore(state)
        self.before = self.inputs.frame("fall", frame)


class BillowBake:
    """Gas, from the fall's solids and the puffs that were shed."""

    moving = True

    def __init__(self, shot: Shot, layer, inputs: Inputs):
        self.shot, self.inputs = shot, inputs
        fragments = Fragments.from_arrays(inputs.static("fall")[0]) if "fall" in inputs.by_kind else None
        self.solver = GasSolver(layer.settings, fragments, shot.gravity)
        shed = next(shot.layer(x.layer) for x in layer.reads if shot.layer(x.layer).kind == "shed")
        self.shed = shed.settings
        self.static = {}
        self.meta = {
            "origin": list(layer.settings.low),
            "cell": layer.settings.cell_size,
            "shape": list(self.solver.shape),
        }

    def _points(self, frame):
        points = self.inputs.frame("shed", frame)
        puff = points["kind"] == debris_kernels.PUFF
        dt = 1.0 / self.shot.rate
        # a puff that dies or is born within the frame gives its share of it
        share = np.minimum(points["age"][puff], dt) / self.shed.puff_life
        return {
            "position": points["position"][puff].astype(float),
            "velocity": points["velocity"][puff].astype(float),
            "mass": self.shed.puff_mass * share.astype(float),
            "radius": self.shed.puff_radius,
        }

    def first(self):
        return self.solver.frame(), self.solver.gauges()

    def next(self, frame):
        bodies = None
        if "fall" in self.inputs.by_kind:
            bodies = self.inputs.frame("fall", frame - 1), self.inputs.frame("fall", frame)
        self.solver.step(1.0 / self.shot.rate, bodies, self._points(frame), self.inputs.pulse)
        return self.solver.frame(), self.solver.gauges()

    def snapshot(self):
        return self.solver.snapshot()

    def restore(self, frame, state):
        self.solver.restore(state)


class Work(Protocol):
    """One step of a plan on its way to disk: one layer, or several that are stepped together.

    Everything is given by layer id; the state is that of the whole step.
    """

    statics: dict[str, tuple[Arrays, dict]]
    moving: bool

    def first(self) -> dict[str, tuple[Arrays, dict]]:
        """Return arrays and gauges of the first frame."""

    def next(self, frame: int) -> dict[str, tuple[Arrays, dict]]:
        """Advance to `frame`, return its arrays and gauges."""

    def snapshot(self) -> Arrays:
        """Return the state after the last frame."""

    def restore(self, frame: int, state: Arrays) -> None:
        """Take up the state after `frame`."""


class Alone:
    """A step of one layer."""

    def __init__(self, layer_id: str, bake: LayerBake):
        self.layer_id, self.bake = layer_id, bake
        self.statics, self.moving = {layer_id: (bake.static, bake.meta)}, bake.moving

    def first(self):
        return {self.layer_id: self.bake.first()}

    def next(self, frame):
        return {self.layer_id: self.bake.next(frame)}

    def snapshot(self):
        return self.bake.snapshot()

    def restore(self, frame, state):
        self.bake.restore(frame, state)


KINDS: dict[str, type] = {"break": BreakBake, "fall": FallBake, "shed": ShedBake, "billow": BillowBake}

#: what steps several kinds together, called with the shot, its layers of the group and the inputs of each
GROUPS: dict[frozenset[str], Callable[[Shot, list, list[Inputs]], Work]] = {}


def begin(shot: Shot, store: Store, layers: tuple[str, ...], keys: dict[str, str], pulse: Pulse) -> Work:
    """Set up one step of a plan."""
    members = [shot.layer(x) for x in layers]
    inputs = [Inputs(shot, store, keys, layer, pulse) for layer in members]
    if len(members) == 1:
        return Alone(members[0].id, KINDS[members[0].kind](shot, members[0], inputs[0]))
    return GROUPS[frozenset(layer.kind for layer in members)](shot, members, inputs)
