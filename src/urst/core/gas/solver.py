"""The gas solver: air on a staggered grid that carries dust and warmth among moving solids."""

from collections.abc import Callable

import numpy as np
from scipy import ndimage

from urst.core.fields import advect
from urst.core.fields.pressure import PressureSolver, Solution
from urst.core.fracture.fragments import Fragments
from urst.core.gas import kernels
from urst.core.gas.settings import GasSettings
from urst.core.geometry import placing, rotation
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
        self.solution = Solution(0, 0.0, True)
        self.substeps = 0

    def step(
        self,
        dt: float,
        bodies: dict[str, np.ndarray] | None = None,
        points: dict[str, np.ndarray] | None = None,
        pulse: Callable[[], None] = lambda: None,
    ):
        """Advance by one frame of `dt` seconds.

        bodies : a frame of the rigid bodies: position, orientation, velocity, spin
        points : sources: position (n, 3) [m], velocity (n, 3) [m/s], mass (n,) [kg] given off in this frame,
            radius [m]
        pulse : called between stages of the work; what it raises ends it
        """
        if bodies is not None and self.fragments is not None:
            self._set_solids(bodies)
        fastest = max(float(np.abs(u).max()) for u in self.velocity)
        if points is not None and len(points["position"]):
            fastest = max(fastest, float(np.abs(points["velocity"]).max()))
        self.substeps = int(np.clip(np.ceil(fastest * dt / (COURANT * self.cell)), 1, self.settings.most_substeps))
        h = dt / self.substeps
        for _ in range(self.substeps):
            pulse()
            self._advect(h)
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

    def _set_solids(self, bodies):
        hulls = self.fragments.hulls
        n = len(self.fragments)
        vertices, planes = np.empty_like(hulls.vertices), np.empty_like(hulls.planes)
        low, high = np.empty((n, 3)), np.empty((n, 3))
        position = bodies["position"].astype(float)
        turned = np.ascontiguousarray(rotation.matrix(bodies["orientation"].astype(float)))
        placing.place(
            position, turned, hulls.vertices, hulls.vertex_start, hulls.planes, hulls.face_start, np.zeros(n),
            vertices, planes, low, high,
        )  # fmt: skip
        kernels.rasterise(planes, hulls.face_start, low, high, self.origin, self.cell, self.solid)
        velocity, spin = bodies["velocity"].astype(float), bodies["spin"].astype(float)
        for axis in range(3):
            kernels.open_faces(
                self.solid, axis, position, velocity, spin, self.origin, self.cell, self.weights[axis], self.walls[axis]
            )
        # dust a body has moved over is gone into it, not carried inside
        covered = self.solid != kernels.NONE
        self.density[covered], self.heat[covered] = 0.0, 0.0

    def _carried(self, fields, flow, h, axis=advect.CENTRE):
        """Fields of one place on the grid, carried along the flow for `h` seconds."""
        step = np.float32(h / self.cell)
        origin = [np.empty_like(fields[0]) for _ in range(3)]
        advect.trace(*flow, step, axis, *origin)
        ahead = [np.empty_like(f) for f in fields]
        for field, out in zip(fields, ahead):
            advect.gather(field, *origin, out)
        if not self.settings.sharp:
            return ahead
        goal = [np.empty_like(fields[0]) for _ in range(3)]
        advect.trace(*flow, -step, axis, *goal)
        carried = [np.empty_like(f) for f in fields]
        for field, once, out in zip(fields, ahead, carried):
            advect.correct(field, once, *origin, *goal, out)
        return carried

    def _advect(self, h):
        flow = self.velocity
        if self.heat.any():
            self.density, self.heat = self._carried([self.density, self.heat], flow, h)
        else:
            (self.density,) = self._carried([self.density], flow, h)
        # clean air comes in through open sides
        for field in (self.density, self.heat):
            for axis in range(3):
                for end in (0, -1):
                    side = [slice(None)] * 3
                    side[axis] = end
                    inward = flow[axis][tuple(side)] * (1 if end == 0 else -1) > 0
                    field[tuple(side)][inward] = 0.0
        self.velocity = [self._carried([u], flow, h, axis)[0] for axis, u in enumerate(flow)]

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
        return state | {"density": self.density.copy(), "heat": self.heat.copy(), "given": np.array([self.given])}

    def restore(self, state: dict[str, np.ndarray]) -> None:
        """Take up the state that `snapshot` returned."""
        self.velocity = [state[f"velocity_{a}"].copy() for a in "xyz"]
        self.density, self.heat = state["density"].copy(), state["heat"].copy()
        self.given = float(state["given"][0])


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
