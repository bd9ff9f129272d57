"""The gas solver: air on a staggered grid that carries dust and warmth among moving solids."""

from collections.abc import Callable

import numpy as np
from scipy import ndimage

from urst.core.fields import advect
from urst.core.fields.pressure import PressureSolver, Solution
from urst.core.fracture.fragments import Fragments
from urst.core.gas import kernels
from urst.core.gas.settings import GasSettings
from urst.core.geometry import placing
from urst.core.geometry.motion import Motion
from urst.errors import SolverFailed

AIR_DENSITY = 1.2  # kg/m3
AIR_TEMPERATURE = 293.0  # K
#: cells the fastest air may cross in one substep
COURANT = 2.5


class GasSolver:
    """Incompressible air with dust (Stam 1999; Fedkiw, Stam & Jensen 2001; Bridson 2015).

    Fields, float32: `velocity` three face arrays [m/s], `density` [kg/m3] of dust and `heat` [K] over the air in
    cell centres, shape (nx, ny, nz). All sides of the domain are open.
    """

    def __init__(self, settings: GasSettings, fragments: Fragments | None = None, gravity=(0.0, 0.0, -9.81)):
        self.settings, self.fragments = settings, fragments
        self.gravity = np.array(gravity, np.float32)
        self.shape = nx, ny, nz = settings.shape()
        self.origin = np.array(settings.low, float)
        self.cell = float(settings.cell_size)
        faces = ((nx + 1, ny, nz), (nx, ny + 1, nz), (nx, ny, nz + 1))
        self.velocity = [np.full(f, s, np.float32) for f, s in zip(faces, settings.wind)]
        self.density, self.heat = np.zeros(self.shape, np.float32), np.zeros(self.shape, np.float32)
        self.pressure = np.zeros(self.shape, np.float32)
        self.solid = np.full(self.shape, kernels.NONE, np.int32)
        self.weights = [np.ones(f, np.float32) for f in faces]
        self.walls = [np.zeros(f, np.float32) for f in faces]
        self.given = 0.0
        self.drifted = 0.0
        self.solution = Solution(0, 0.0, True)
        self.substeps = 0

    def step(
        self,
        dt: float,
        bodies: tuple[dict[str, np.ndarray], dict[str, np.ndarray]] | None = None,
        points: dict[str, np.ndarray] | None = None,
        pulse: Callable[[], None] = lambda: None,
    ):
        """Advance by one frame of `dt` seconds.

        bodies : the frames of the rigid bodies before and after, each with position and orientation
        points : sources: position (n, 3) [m], velocity (n, 3) [m/s], mass (n,) [kg] given off in this frame,
            radius [m]
        pulse : called between stages of the work; what it raises ends it
        """
        motion = None
        if bodies is not None and self.fragments is not None:
            motion = Motion(*bodies, dt)
            self._set_solids(motion, 0.0)
        fastest = max(float(np.abs(u).max()) for u in self.velocity)
        if points is not None and len(points["position"]):
            fastest = max(fastest, float(np.abs(points["velocity"]).max()))
        self.substeps = int(np.clip(np.ceil(fastest * dt / (COURANT * self.cell)), 1, self.settings.most_substeps))
        h = dt / self.substeps
        for k in range(self.substeps):
            pulse()
            was_open = self.solid == kernels.NONE
            if motion:
                self._set_solids(motion, (k + 1) / self.substeps)
            self._advect(h, was_open)
            pulse()
            if points is not None and len(points["position"]):
                self._source(points, 1.0 / self.substeps)
            self._force(h)
            self._project()
        keep = np.float32(np.exp(-dt * np.log(20.0) / self.settings.dissolve))
        self.density *= keep
        self.heat *= keep
        if not np.isfinite(self.density).all() or not all(np.isfinite(u).all() for u in self.velocity):
            raise SolverFailed("The gas has no finite velocity any more: raise the most substeps or lower the push.")

    def _set_solids(self, motion, share):
        """Put the bodies onto the grid where they are after a share of the frame."""
        hulls = self.fragments.hulls
        n = len(self.fragments)
        vertices, planes = np.empty_like(hulls.vertices), np.empty_like(hulls.planes)
        low, high = np.empty((n, 3)), np.empty((n, 3))
        position, turned = motion.pose(share)
        placing.place(
            position, turned, hulls.vertices, hulls.vertex_start, hulls.planes, hulls.face_start, np.zeros(n),
            vertices, planes, low, high,
        )  # fmt: skip
        kernels.rasterise(planes, hulls.face_start, low, high, self.origin, self.cell, self.solid)
        for axis in range(3):
            kernels.open_faces(
                self.solid, axis, position, motion.velocity, motion.spin, self.origin, self.cell, self.weights[axis],
                self.walls[axis],
            )  # fmt: skip

    def _advect(self, h, was_open):
        """Carry all fields along the flow.

        What a body has moved over since is still where it was: the air before the body comes from there.
        """
        flow, step = self.velocity, np.float32(h / self.cell)
        scalars = [self.density, self.heat] if self.heat.any() else [self.density]
        is_open = self.solid == kernels.NONE
        is_clear = np.empty_like(is_open)
        if self.settings.sharp:
            kernels.clear_of_solids(was_open, is_open, is_clear)
        before = float(self.density.sum(dtype=np.float64))
        origin, goal = self._traced(flow, step, advect.CENTRE, self.density)
        for number, field in enumerate(scalars):
            ahead, out = np.empty_like(field), np.empty_like(field)
            advect.gather_open(field, was_open, is_open, *origin, ahead)
            if self.settings.sharp:
                advect.correct_open(field, ahead, is_clear, *origin, *goal, out)
                out = _balanced(ahead, out)
            scalars[number] = out if self.settings.sharp else ahead
        self.density = scalars[0]
        self.drifted += (float(self.density.sum(dtype=np.float64)) - before) * self.cell**3
        if len(scalars) > 1:
            self.heat = scalars[1]
        # clean air comes in through open sides
        for field in (self.density, self.heat):
            for axis in range(3):
                for end in (0, -1):
                    side = [slice(None)] * 3
                    side[axis] = end
                    inward = flow[axis][tuple(side)] * (1 if end == 0 else -1) > 0
                    field[tuple(side)][inward] = 0.0
        self.velocity = [self._carried(u, flow, step, axis) for axis, u in enumerate(flow)]

    def _traced(self, flow, step, axis, like):
        """Where the samples of one place on the grid were `step` ago and, for the correction, will be."""
        origin, goal = ([np.empty_like(like) for _ in range(3)] for _ in range(2))
        advect.trace(*flow, step, axis, *origin)
        if self.settings.sharp:
            advect.trace(*flow, -step, axis, *goal)
        return origin, goal

    def _carried(self, u, flow, step, axis):
        """One component of the velocity carried along the flow; inside a solid it is the solid's own."""
        origin, goal = self._traced(flow, step, axis, u)
        ahead, out = np.empty_like(u), np.empty_like(u)
        advect.gather(u, *origin, ahead)
        if not self.settings.sharp:
            return ahead
        advect.correct(u, ahead, *origin, *goal, out)
        return out

    def _source(self, points, share):
        added = np.zeros(self.shape, np.float32)
        momentum = np.zeros((3, *self.shape), np.float32)
        mass = points["mass"] * share
        kernels.splat(
            points["position"], points["velocity"], mass, self.origin, self.cell, float(points["radius"]), self.solid,
            added, momentum,
        )  # fmt: skip
        self.given += float(added.sum(dtype=np.float64)) * self.cell**3
        if self.settings.heat:
            fresh = added / np.maximum(self.density + added, 1e-12)
            self.heat += fresh * (np.float32(self.settings.heat) - self.heat)
        self.density += added
        for axis in range(3):
            kernels.push(
                self.velocity[axis], self.weights[axis], axis, added, momentum[axis], np.float32(AIR_DENSITY),
                np.float32(self.settings.push),
            )  # fmt: skip

    def _force(self, h):
        s = self.settings
        for axis in range(3):
            if self.gravity[axis]:
                kernels.lift(
                    self.velocity[axis], self.weights[axis], axis, self.gravity[axis], self.density, self.heat,
                    np.float32(h), np.float32(s.weight), np.float32(AIR_DENSITY), np.float32(AIR_TEMPERATURE),
                )  # fmt: skip
        if s.swirl:
            vx, vy, vz, size = (np.zeros(self.shape, np.float32) for _ in range(4))
            kernels.vorticity(*self.velocity, np.float32(1.0 / self.cell), vx, vy, vz, size)
            for axis in range(3):
                kernels.confine(
                    self.velocity[axis], self.weights[axis], axis, vx, vy, vz, size, np.float32(s.swirl * self.cell * h)
                )

    def _project(self):
        """Make the flow free of divergence, with walls moving as their bodies do."""
        for u, weight, wall in zip(self.velocity, self.weights, self.walls):
            kernels.hold(u, weight, wall)
        rhs = np.empty(self.shape, np.float32)
        kernels.divergence(*self.velocity, self.solid, rhs)
        _balance_pockets(self.solid, rhs)
        solver = PressureSolver(self.solid == kernels.NONE)
        self.pressure, self.solution = solver.solve(rhs, tolerance=self.settings.tolerance)
        for axis in range(3):
            kernels.subtract_gradient(self.velocity[axis], self.weights[axis], self.pressure, axis)

    def frame(self) -> dict[str, np.ndarray]:
        """Return what a frame keeps: the dust [kg/m3], float16."""
        return {"density": self.density.astype(np.float16)}

    def gauges(self) -> dict[str, float]:
        """Return the numbers judged on every frame."""
        mass = float(self.density.sum(dtype=np.float64)) * self.cell**3
        peak = float(self.density.max())
        sides = [np.take(self.density, end, axis=axis).max() for axis in range(3) for end in (0, -1)]
        return {
            "dust_mass": mass,
            "dust_given": self.given,
            "dust_drift": self.drifted / self.given if self.given else 0.0,
            "densest": peak,
            "edge_share": float(max(sides)) / peak if peak > 1e-6 else 0.0,
            "top_speed": max(float(np.abs(u).max()) for u in self.velocity),
            "pressure_iterations": float(self.solution.iterations),
            "divergence_left": self.solution.residual,
            "substeps": float(self.substeps),
        }

    def snapshot(self) -> dict[str, np.ndarray]:
        """Return the whole state as named arrays."""
        state = {f"velocity_{a}": u.copy() for a, u in zip("xyz", self.velocity)}
        return state | {
            "density": self.density.copy(),
            "heat": self.heat.copy(),
            "given": np.array([self.given, self.drifted]),
        }

    def restore(self, state: dict[str, np.ndarray]) -> None:
        """Take up the state that `snapshot` returned."""
        self.velocity = [state[f"velocity_{a}"].copy() for a in "xyz"]
        self.density, self.heat = state["density"].copy(), state["heat"].copy()
        self.given, self.drifted = map(float, state["given"])


def _balanced(ahead, corrected):
    """The corrected field with what the correction adds and what it takes made equal: it moves dust, it makes none."""
    change = corrected - ahead
    added, taken = np.maximum(change, 0.0), np.minimum(change, 0.0)
    more, less = float(added.sum(dtype=np.float64)), -float(taken.sum(dtype=np.float64))
    if more > less:
        added *= np.float32(less / more)
    elif less > 0.0:
        taken *= np.float32(more / less)
    return ahead + added + taken


def _balance_pockets(solid, rhs):
    """Spread what a closed pocket's walls squeeze evenly over it: such a pocket has no other way to give."""
    label, count = ndimage.label(solid == kernels.NONE)
    if count < 2:
        return
    outside = np.unique(np.concatenate([np.take(label, e, axis=a).ravel() for a in range(3) for e in (0, -1)]))
    mean = ndimage.mean(rhs, label, np.arange(count + 1))
    mean[0] = 0.0
    mean[outside] = 0.0
    rhs -= mean[label].astype(np.float32)
