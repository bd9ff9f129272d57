"""One step's pressure: the flow made free of divergence among walls, and bodies that give way."""

import numpy as np
from scipy import ndimage

from urst.core.bodies.nodes import NO_NODE, Nodes
from urst.core.fields.body_terms import BodyTerms, Held, inverse_masses
from urst.core.fields.face_fields import FaceFields
from urst.core.fields.pressure import LEAST_DEPTH, LEAST_OPEN, PressureSolver, Solution
from urst.core.fields.wet import DENSITY
from urst.core.liquid import air, flow_kernels, particle_kernels, seam_kernels
from urst.core.liquid.air import AirTerms, Kept
from urst.core.liquid.band import Band
from urst.core.liquid.no_slip import NoSlipFaces, no_slip
from urst.core.liquid.settings import PARTICLES
from urst.core.liquid.trapped import Trapped, trapped
from urst.core.liquid.viscous import apply_viscosity
from urst.core.solids import body_kernels
from urst.core.solids.walls import STAND, Walls

#: faces beyond the liquid that get a velocity [cells]
BEYOND = 4
#: fraction of a crowding that is wanted away in a step, how closely this is solved, and how far a particle goes for it
#: [cells]
EVEN, EVEN_TO, EVEN_MOST = 0.5, 0.05, 0.1
#: rounds of the pressure solve at most, and of what is put right after it
MOST, MOST_AGAIN = 120, 40
#: cells are liquid that lie so deep, and faces open that are so much [cells], [-]
LEAST, CLOSED = np.float32(LEAST_DEPTH), np.float32(LEAST_OPEN)


class PressureStep:
    """The pressure of a liquid that stands as it does at one moment.

    Parameters
    ----------
    walls : Walls
    phi : (nx, ny, nz) float32
        Distance from the surface, negative within [cells].
    up : (3,) float
        Away from where gravity pulls, of length 1, or 0.
    velocity : three arrays of faces, float32
        How it goes before [m/s].
    nodes : Nodes, optional
        Bodies that give way; all others go as they do.
    kept : bool
        Whether pockets of air keep their volume.
    density : float, optional
        Of the liquid [kg/m3].

    Attributes
    ----------
    weights : three arrays of faces, float32
        Open shares, with gaps in seams between bodies.
    phi : (nx, ny, nz) float32
        With the liquid in these.
    """

    def __init__(
        self,
        walls: Walls,
        phi: np.ndarray,
        up: np.ndarray,
        velocity: list[np.ndarray],
        nodes: Nodes | None = None,
        kept: bool = False,
        density: float = DENSITY,
    ) -> None:
        self.walls, self.phi, self.nodes = walls, phi, nodes
        self.weights = [np.where(w < CLOSED, np.float32(0.0), w) for w in walls.weights]
        if nodes is not None and nodes.loose.any():
            self._part(up, nodes)
        wx, wy, wz = self.weights
        self.solver = PressureSolver.cut(wx, wy, wz, self.phi)
        self.density, self.full = density, density * walls.cell**3
        """mass of a full cell [kg]"""
        self._pocket = np.empty(phi.shape, np.int32)
        self._known = [np.zeros(weight.shape, np.uint8) for weight in walls.weights]
        self.pockets = body_kernels.shut_in(wx, wy, wz, self.phi, LEAST, CLOSED, self._pocket)
        self.air: AirTerms | None = None
        """pockets of air that keep their volume"""
        self.label = air.found(self.weights, self.phi, LEAST, CLOSED) if kept else None
        self.held = Held(np.zeros(0, np.int64), np.zeros((0, 3), np.int64), np.zeros((0, 6)))
        self.terms: BodyTerms | None = None
        beside: Held | None = None
        self.given, self.taken, self.exchanged = np.zeros(3), np.zeros(3), 0.0
        """what pressure took from the liquid and gave to solids since this was asked, and the sum of its sizes [N s]"""
        self.trapped: Trapped | None = None
        self.inverse, self.node_velocity = np.zeros((0, 6, 6)), np.zeros((0, 6))
        """of nodes with what is stuck to them, and how they go with what has been found of pressure and viscosity"""
        self.viscous_impulse = np.zeros((len(walls.position), 6))
        """what viscosity did to each body, about its centre [N s], [N m s]"""
        if nodes is not None:
            self.inverse, self.node_velocity = inverse_masses(nodes.inverse_mass, nodes.inverse_inertia), nodes.velocity
            self.trapped = trapped(walls, self.phi, LEAST, nodes, velocity, self.full)
            if self.trapped is not None:
                self.inverse, self.node_velocity = self.trapped.merged(nodes)
            self.held = self._held(nodes)
            mine = nodes.node[self.held.body]
            value = self.held.value.copy()
            arm = walls.position[self.held.body] - nodes.centre[mine]
            value[:, 3:] += np.cross(arm, value[:, :3])
            whole = Held(mine, self.held.cell, value)
            wet = self.solver.solved()[tuple(self.held.cell.T)]
            if (nodes.inverse_mass[mine[wet]] > 0.0).any():
                self.terms = BodyTerms(
                    phi.shape,
                    Held(*(x[wet] for x in whole)),
                    self.inverse,
                    self.full,
                    self._pocket == 0 if self.pockets else None,
                )
                beside = Held(*(x[~wet] for x in whole))
        if self.label is not None and self.label.any():
            self.air = AirTerms(self.label, self.weights, self.phi, LEAST, CLOSED, self.terms, beside)

    def _part(self, up: np.ndarray, nodes: Nodes) -> None:
        """Let liquid between bodies that lie against something."""
        w, shape = self.walls, self.phi.shape
        seam = np.empty(shape, np.uint8)
        seam_kernels.find(w.distance, w.owner, nodes.node, nodes.loose, w.fraction, w.middle, w.boxed, seam)
        if not seam.any():
            return
        phi = np.empty_like(self.phi)
        seam_kernels.wet(seam, w.fraction, self.phi, np.asarray(up, np.float32), phi)
        wide = [np.empty_like(x) for x in self.weights]
        for axis in range(3):
            seam_kernels.widen(self.weights[axis], seam, w.fraction, axis, wide[axis])
        self.phi, self.weights = phi, wide

    def _held(self, nodes: Nodes) -> Held:
        """What bodies with a node hold of faces beside liquid that is solved."""
        w, parts, phi = self.walls, [], self.phi
        if self.label is not None:
            # pockets of air push as well
            phi = np.where(self.label > 0, np.float32(-1.0), phi)
        wet = body_kernels.Wetted(phi, LEAST)
        for axis in range(3):
            faces = w.faces(axis, self.weights[axis])
            count = np.empty(len(faces.weight), np.int64)
            body_kernels.count_held(w.samples(), nodes.node, faces, wet, count)
            first = np.concatenate([[0], np.cumsum(count)])
            part = Held(np.empty(first[-1], np.int64), np.empty((first[-1], 3), np.int64), np.empty((first[-1], 6)))
            body_kernels.list_held(w.samples(), nodes.node, faces, wet, w.position, w.frame(), first, part)
            parts.append(part)
        held = Held(*(np.concatenate(x) for x in zip(*parts)))
        # a cell that has no open face has no pressure
        solved = self.solver.solved()
        solved = (solved if self.label is None else solved | (self.label > 0))[tuple(held.cell.T)]
        return Held(*(x[solved] for x in held))

    def follow(self, before: Kept | None, dt: float) -> tuple[Kept | None, np.ndarray | None]:
        """Return the pockets of air with what they are to hold, and what each is to grow, as a speed across a cell
        [m/s].

        Parameters
        ----------
        before : Kept, optional
            Those of the step before.
        dt : float [s]
        """
        if self.label is None or self.air is None:
            return None, None
        now = air.volumes(self.label, self.phi, self.walls.fraction)
        kept = air.followed(before, self.label, now)
        return kept, min(air.BACK, air.MOST_BACK / dt) * (kept.volume - now) * self.walls.cell

    def shut(self) -> np.ndarray:
        """Return the cells from which liquid has no way out, (nx, ny, nz) bool."""
        return self._pocket > 0

    def apply_viscosity(self, velocity: list[np.ndarray], viscosity: float, dt: float) -> int:
        """Let viscosity act on a flow, in place, and on bodies that give way; return the rounds that took.

        Parameters
        ----------
        velocity : three arrays of faces, float32 [m/s]
        viscosity : float [Pa s]
        dt : float [s]
        """
        w, n = self.walls, self.nodes
        if n is None:
            return apply_viscosity(velocity, self.phi, w, viscosity / self.density, dt)[0]

        def find(kind: list[np.ndarray], fraction: list[np.ndarray], flow: list[np.ndarray]) -> NoSlipFaces | None:
            return no_slip(kind, fraction, flow, w, n, self.inverse, self.node_velocity, self.full)

        rounds, cling, force = apply_viscosity(velocity, self.phi, w, viscosity / self.density, dt, find)
        if cling is not None:
            self.viscous_impulse = self.full * cling.impulses(force, w.position)
            self.node_velocity = cling.velocity
            self.drive(self.node_velocity)
        return rounds

    def begin(self, velocity: np.ndarray) -> None:
        """Begin anew with the nodes going as they did, (k, 6), and nothing passed on.

        Parameters
        ----------
        velocity : (k, 6) float [m/s], [rad/s]
        """
        self.node_velocity = velocity
        self.viscous_impulse = np.zeros_like(self.viscous_impulse)
        self.passed()

    def passed(self) -> tuple[np.ndarray, np.ndarray, float]:
        """Return what pressure took from the liquid and gave to solids since this was asked last, and the sum of its
        sizes [N s]."""
        found = self.given, self.taken, self.exchanged
        self.given, self.taken, self.exchanged = np.zeros(3), np.zeros(3), 0.0
        return found

    def drive(self, velocity: np.ndarray | None = None) -> None:
        """Let the walls move as their bodies do, those that have a node by the velocities of the nodes (k, 6)."""
        w, n = self.walls, self.nodes
        velocities, spins = w.velocity, w.spin
        if n is not None and velocity is not None:
            mine = n.node != NO_NODE
            velocities, spins = velocities.copy(), spins.copy()
            velocities[mine], spins[mine] = n.of_bodies(velocity, w.position)
        w.drive(velocities, spins, None if n is None else n.loose)

    def project(
        self, velocity: list[np.ndarray], source: np.ndarray, tolerance: float, grown: np.ndarray | None = None
    ) -> tuple[np.ndarray, Solution]:
        """Make a flow free of divergence but for a source, in place, and let what gives way go with it; walls are those
        that `drive` has set last.

        Parameters
        ----------
        velocity : three arrays of faces, float32 [m/s]
        source : (nx, ny, nz) float32
            What each liquid cell gives, as a speed across it [m/s].
        tolerance : float
        grown : (n,) float, optional
            What each pocket of air is to grow, as a speed across a cell [m/s].

        Returns
        -------
        (pressure, Solution)
            The pressure over a step as a change of velocity across a cell (nx, ny, nz) [m/s].
        """
        blown = None
        if self.air is not None and self.label is not None:
            inside, still = np.where(self.label > 0, np.float32(-1.0), np.float32(1.0)), np.zeros_like(source)
            out = self._outflow(velocity, still, inside)
            blown = ndimage.sum_labels(out, self.label, np.arange(1, self.label.max() + 1))
            blown = blown if grown is None else blown + grown
        pressure, solution = self._solve(velocity, self.divergence(velocity, source), tolerance, MOST, blown)
        self._give_way(pressure)
        return pressure, solution

    def _give_way(self, pressure: np.ndarray) -> None:
        if self.nodes is not None:
            self.node_velocity = self.node_velocity + self.moved(self.impulses(pressure))

    def divergence(self, velocity: list[np.ndarray], source: np.ndarray) -> np.ndarray:
        """Return what a flow lacks of being as it should in each liquid cell, (nx, ny, nz) float32 [m/s].

        Parameters
        ----------
        velocity : three arrays of faces, float32 [m/s]
        source : (nx, ny, nz) float32
            See `project`.
        """
        return self._outflow(velocity, source, self.phi)

    def _outflow(self, velocity: list[np.ndarray], source: np.ndarray, phi: np.ndarray) -> np.ndarray:
        rhs = np.empty(self.phi.shape, np.float32)
        flow_kernels.outflow(
            FaceFields(*velocity), FaceFields(*self.weights), FaceFields(*self.walls.walls), phi, LEAST, source, rhs
        )
        return rhs

    def _solve(
        self, velocity: list[np.ndarray], rhs: np.ndarray, tolerance: float, most: int, blown: np.ndarray | None = None
    ) -> tuple[np.ndarray, Solution]:
        if self.pockets:
            # what is shut in has no other way to give
            mean = ndimage.mean(rhs, self._pocket, np.arange(self.pockets + 1))
            mean[0] = 0.0
            rhs -= mean[self._pocket].astype(np.float32)
        terms = self.terms if self.air is None else self.air
        if self.air is not None and blown is not None:
            rhs = rhs + self.solver.unpacked(self.air.given(blown))
        pressure, solution = self.solver.solve(rhs, tolerance=tolerance, most=most, terms=terms)
        if self.air is not None and blown is not None and self.label is not None:
            found = self.air.pressures(blown, self.solver.packed(pressure))
            mine = self.label > 0
            pressure[mine] = found[self.label[mine] - 1]
        self._push(velocity, pressure)
        return pressure, solution

    def _push(self, velocity: list[np.ndarray], pressure: np.ndarray) -> None:
        before = self.momentum(velocity)
        for axis, (u, weight) in enumerate(zip(velocity, self.weights)):
            flow_kernels.push(u, weight, self.phi, pressure, axis, LEAST, CLOSED, self._known[axis])
        if self.nodes is not None:
            self._account(before - self.momentum(velocity), pressure)

    def foresee(self, velocity: list[np.ndarray], pressure: np.ndarray) -> np.ndarray:
        """Let a pressure that is only about right push a flow, in place, and what gives way, before what is missing of
        it is solved for; return it as far as it counts here.

        Parameters
        ----------
        velocity : three arrays of faces, float32 [m/s]
        pressure : (nx, ny, nz) float32
            As `project` returns it [m/s].
        """
        counts = self.solver.solved() if self.label is None else self.solver.solved() | (self.label > 0)
        pressure = np.where(counts, pressure, np.float32(0.0))
        self._push(velocity, pressure)
        self._give_way(pressure)
        if self.nodes is not None:
            self.drive(self.node_velocity)
        return pressure

    def momentum(self, velocity: list[np.ndarray]) -> np.ndarray:
        """Return the momentum of what pressure acts on, (3,) [N s].

        Parameters
        ----------
        velocity : three arrays of faces, float32 [m/s]
        """
        total = np.zeros(3)
        for axis in range(3):
            part = np.zeros(len(velocity[axis]))
            flow_kernels.momentum(velocity[axis], self.weights[axis], self.phi, axis, LEAST, CLOSED, part)
            total[axis] = self.full * part.sum()
        return total

    def _account(self, given: np.ndarray, pressure: np.ndarray) -> None:
        """What the liquid lost, what bodies got, and what held against it."""
        w = self.walls
        got = self.impulses(pressure)[:, :3]
        assert self.nodes is not None
        self.given, self.taken = self.given + given, self.taken + got.sum(axis=0)
        self.exchanged += float(np.abs(got).sum())
        for axis in range(3):
            part = np.zeros((len(w.weights[axis]), 2))
            body_kernels.press_rest(w.samples(), self.nodes.node, w.faces(axis, self.weights[axis]), pressure, part)
            self.taken[axis] += self.full * part[:, 0].sum()
            self.exchanged += self.full * part[:, 1].sum()

    def respond(self, velocity: list[np.ndarray], change: np.ndarray, tolerance: float) -> np.ndarray:
        """Let bodies that were pushed by others push the liquid, in place, which then gives way with them.

        Parameters
        ----------
        velocity : three arrays of faces, float32 [m/s]
        change : (k, 6) float
            What the others did to the velocities of the nodes [m/s], [rad/s].
        tolerance : float

        Returns
        -------
        (n, 6) float
            What the liquid does to each body in turn, about its centre [N s], [N m s].
        """
        assert self.nodes is not None
        rhs = np.zeros(self.phi.shape)
        arm = self.walls.position[self.held.body] - self.nodes.centre[self.nodes.node[self.held.body]]
        own = change[self.nodes.node[self.held.body]]
        driven = own[:, :3] + np.cross(own[:, 3:], arm)
        out = np.einsum("mi,mi->m", self.held.value, np.concatenate([driven, own[:, 3:]], axis=1))
        np.add.at(rhs, tuple(self.held.cell.T), -out)
        blown = None
        if self.label is not None and self.air is not None:
            blown = ndimage.sum_labels(rhs, self.label, np.arange(1, self.label.max() + 1))
        pressure, _ = self._solve(velocity, rhs.astype(np.float32), tolerance, MOST_AGAIN, blown)
        return self.impulses(pressure)

    def impulses(self, pressure: np.ndarray) -> np.ndarray:
        """Return what a pressure does to each body that has a node, (n, 6) about its centre [N s], [N m s]."""
        return self.held.impulses(pressure, self.full, len(self.walls.position))

    def moved(self, impulse: np.ndarray) -> np.ndarray:
        """Return how impulses (n, 6) on bodies change the velocities of the nodes, (k, 6)."""
        assert self.nodes is not None
        gathered = self.nodes.gathered(impulse, self.walls.position)
        return np.einsum("nij,nj->ni", self.inverse, gathered)

    def finish(self, velocity: list[np.ndarray]) -> list[np.ndarray]:
        """Return the flow continued beyond the liquid, and into walls with what moves these."""
        w, out = self.walls, []
        for axis in range(3):
            flying = velocity[axis]
            self._known[axis][w.weights[axis] < CLOSED] = 0
            u, near = spread(flying, w.weights[axis], self._known[axis], BEYOND)
            # beyond that there is spray, which nothing presses, and the insides of walls
            u = np.where(near == 1, u, np.where(w.weights[axis] < CLOSED, w.walls[axis], flying))
            flow_kernels.hold(u, w.weights[axis], w.walls[axis], w.middle, axis, CLOSED)
            out.append(u)
        return out

    def even_out(self, position: np.ndarray, start: np.ndarray, owner_cell: np.ndarray, band: Band) -> None:
        """Move particles from where they crowd to where they are few (implicit density projection: Kugelstadt et al.
        2019).

        Speeds do not change, and where all is even nothing moves.

        Parameters
        ----------
        position : (n, 3) float32
            Sorted; changed in place [cells].
        start : (cells + 1,) int64
            Where those of each cell begin.
        owner_cell : (n,) int32
            Whose room they are in.
        band : Band
            Where there are any.
        """
        w = self.walls
        density, wanted = np.zeros(self.phi.shape, np.float32), np.empty(self.phi.shape, np.float32)
        particle_kernels.weigh(position, start, owner_cell, w.reach, density)
        flow_kernels.crowding(density, w.room, self.phi, np.float32(PARTICLES), np.float32(EVEN), LEAST, wanted)
        band.evened(wanted)
        pressure, _ = self.solver.solve(wanted, tolerance=EVEN_TO, most=20)
        moved = []
        for axis in range(3):
            u, known = np.zeros(w.weights[axis].shape, np.float32), np.empty(w.weights[axis].shape, np.uint8)
            flow_kernels.push(u, self.weights[axis], self.phi, pressure, axis, LEAST, CLOSED, known)
            moved.append(spread(u, w.weights[axis], known, 1)[0])
        barriers = particle_kernels.Barriers(w.distance, w.keep, w.reach, w.reach, w.met(), np.float32(STAND))
        particle_kernels.shift(position, FaceFields(*moved), barriers, np.float32(EVEN_MOST), self.phi)


def spread(u: np.ndarray, weight: np.ndarray, known: np.ndarray, layers: int) -> tuple[np.ndarray, np.ndarray]:
    """Return velocities on so many layers of faces beyond those that are known, not through walls, and which are known
    then.

    Parameters
    ----------
    u, weight : faces, float32
    known : faces, uint8
    layers : int
    """
    for _ in range(layers):
        fresh, now = np.empty_like(u), np.empty_like(known)
        flow_kernels.spread(u, weight, np.float32(LEAST_OPEN), known, fresh, now)
        u, known = fresh, now
    return u, known
