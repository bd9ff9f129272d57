"""The pressure solver: whole cells, cut faces, free surfaces, bodies that give way."""

import unittest
from pathlib import Path

import numba
import numpy as np
import scipy.sparse as sp
import scipy.sparse.linalg as linalg

from tests.bodies import fragments_of
from urst.core.bodies.boundary import Boundary
from urst.core.fields import matrix_kernels
from urst.core.fields.body_terms import BodyTerms, inverse_masses
from urst.core.fields.pressure import LEAST_OPEN, NOTHING, PressureSolver
from urst.core.geometry import generators
from urst.core.solids import cell_kernels
from urst.core.solids.cells import Solids
from urst.errors import BadValue


def weights(open_cells):
    """Face weights of a grid whose outer faces are open where the cell is."""
    out = []
    for axis in range(3):
        padded = np.pad(open_cells, [(1, 1) if a == axis else (0, 0) for a in range(3)], mode="edge")
        low = np.take(padded, range(padded.shape[axis] - 1), axis=axis)
        high = np.take(padded, range(1, padded.shape[axis]), axis=axis)
        out.append((low & high).astype(np.float32))
    return out


def with_boxes(n, seed=0):
    shape = (n, n, n) if isinstance(n, int) else n
    rng, cells, side = np.random.default_rng(seed), np.ones(shape, bool), max(1, min(shape) // 6)
    for _ in range(12):
        cells[tuple(slice(x, x + side) for x in (rng.integers(0, m - side) for m in shape))] = False
    return cells


def matrix(faces):
    """The same system, put together plainly, as a SciPy matrix."""
    nx, ny, nz = faces[1].shape[0], faces[0].shape[1], faces[0].shape[2]
    index = np.arange(nx * ny * nz).reshape(nx, ny, nz)
    rows, columns, values = [], [], []
    diagonal = np.zeros(nx * ny * nz)
    for axis, w in enumerate(faces):
        n = w.shape[axis] - 1
        inner = np.take(w, range(1, n), axis=axis).ravel().astype(float)
        low, high = np.take(index, range(n - 1), axis=axis).ravel(), np.take(index, range(1, n), axis=axis).ravel()
        rows += [low, high]
        columns += [high, low]
        values += [-inner, -inner]
        np.add.at(diagonal, low, inner)
        np.add.at(diagonal, high, inner)
        for end, cells in ((0, 0), (n, n - 1)):
            np.add.at(diagonal, np.take(index, cells, axis=axis).ravel(), np.take(w, end, axis=axis).ravel())
    diagonal[diagonal == 0] = 1.0
    everything = (
        np.concatenate([*values, diagonal]),
        (np.concatenate([*rows, index.ravel()]), np.concatenate([*columns, index.ravel()])),
    )
    return sp.csr_matrix(everything)


class Pressure(unittest.TestCase):
    def test_agrees_with_scipy_among_solids(self):
        # an odd grid has half-filled packed rows and a coarsest level at once
        for shape in ((16, 16, 16), (7, 10, 9), (24, 16, 32)):
            rng = np.random.default_rng(1)
            is_open = with_boxes(shape)
            faces = weights(is_open)
            rhs = rng.standard_normal(shape).astype(np.float32)
            found, solution = PressureSolver(is_open).solve(rhs, tolerance=1e-6)
            rhs[faces_sum(faces) == 0] = 0
            expected = linalg.spsolve(matrix(faces).tocsc(), rhs.ravel().astype(float)).reshape(rhs.shape)
            self.assertTrue(solution.converged, shape)
            np.testing.assert_allclose(found, expected, atol=2e-5 * np.abs(expected).max(), err_msg=str(shape))

    def test_coarse_faces_are_the_mean_of_the_fine_ones(self):
        is_open = with_boxes((8, 12, 16))
        for axis, fine in enumerate(weights(is_open)):
            coarse = np.empty(tuple((n + 1) // 2 for n in fine.shape), np.float32)
            matrix_kernels.open_faces(is_open, axis, coarse)
            kept = np.take(fine, range(0, fine.shape[axis], 2), axis=axis)
            for other in range(3):
                if other != axis:
                    low = np.take(kept, range(0, kept.shape[other], 2), axis=other)
                    kept = 0.5 * (low + np.take(kept, range(1, kept.shape[other], 2), axis=other))
            np.testing.assert_array_equal(coarse, kept)

    def test_second_order_on_a_made_solution(self):
        # p = sin(pi x) sin(pi y) sin(pi z) on the unit cube, 0 half a cell beyond the faces' outer centres
        errors = []
        for n in (16, 32, 64):
            h = 1.0 / (n + 1)
            x = (np.arange(n) + 1) * h
            p = np.einsum("i,j,k->ijk", *[np.sin(np.pi * x)] * 3)
            rhs = (3 * np.pi**2 * p * h * h).astype(np.float32)
            found, _ = PressureSolver(np.ones((n, n, n), bool)).solve(rhs, tolerance=1e-6)
            errors.append(np.abs(found - p).max())
        self.assertGreater(np.log2(errors[0] / errors[1]), 1.85)
        self.assertGreater(np.log2(errors[1] / errors[2]), 1.8)

    def test_iterations_do_not_grow_with_the_grid(self):
        counts = []
        for n in (16, 32, 64):
            rhs = np.random.default_rng(2).standard_normal((n, n, n)).astype(np.float32)
            counts.append(PressureSolver(with_boxes(n)).solve(rhs)[1].iterations)
        self.assertLessEqual(max(counts), 9)
        self.assertLessEqual(counts[2], counts[0] + 2)

    def test_nothing_asked_nothing_done(self):
        found, solution = PressureSolver(np.ones((8, 8, 8), bool)).solve(np.zeros((8, 8, 8), np.float32))
        self.assertEqual((float(np.abs(found).max()), solution.iterations), (0.0, 0))

    def test_the_number_of_threads_changes_nothing(self):

        rhs = np.random.default_rng(3).standard_normal((48, 48, 48)).astype(np.float32)
        results = []
        for threads in (1, numba.config.NUMBA_NUM_THREADS):
            numba.set_num_threads(threads)
            results.append(PressureSolver(with_boxes(48)).solve(rhs)[0].tobytes())
        self.assertEqual(results[0], results[1])


def faces_sum(faces):
    x, y, z = faces
    return x[1:] + x[:-1] + y[:, 1:] + y[:, :-1] + z[:, :, 1:] + z[:, :, :-1]


def sealed(n, rng):
    """Faces open by random shares, shut round the outside, a fifth of them shut altogether."""
    faces = []
    for axis in range(3):
        w = rng.uniform(0.1, 1.0, tuple(n + (axis == a) for a in range(3))).astype(np.float32)
        w[rng.random(w.shape) < 0.2] = 0.0
        ends = [slice(None)] * 3
        for end in (0, -1):
            ends[axis] = end
            w[tuple(ends)] = 0.0
        faces.append(w)
    return faces


class Cut(unittest.TestCase):
    def test_whole_faces_give_what_whole_cells_give(self):
        is_open = with_boxes(32)
        rhs = np.where(is_open, np.random.default_rng(5).standard_normal((32, 32, 32)), 0).astype(np.float32)
        whole, _ = PressureSolver(is_open).solve(rhs, tolerance=1e-6)
        cut, _ = PressureSolver.cut(*weights(is_open)).solve(rhs, tolerance=1e-6)
        np.testing.assert_allclose(cut, whole, atol=3e-5 * np.abs(whole).max())

    def test_shares_on_every_level_agree_with_scipy(self):
        for n in (16, 32):
            rng = np.random.default_rng(n)
            faces = sealed(n, rng)
            # one open face lets the pressure be what it is
            faces[2][:, :, -1] = rng.uniform(0.2, 1.0, (n, n))
            rhs = rng.standard_normal((n, n, n)).astype(np.float32)
            found, solution = PressureSolver.cut(*faces).solve(rhs, tolerance=1e-6, most=200)
            rhs[faces_sum(faces) == 0] = 0
            reference = linalg.spsolve(matrix(faces).tocsc(), rhs.ravel().astype(float)).reshape(rhs.shape)
            self.assertTrue(solution.converged)
            np.testing.assert_allclose(found, reference, atol=2e-4 * np.abs(reference).max())

    def test_faces_all_but_shut_count_as_shut(self):
        faces = [w.copy() for w in weights(np.ones((8, 8, 8), bool))]
        faces[0][4] = 0.9 * LEAST_OPEN
        shut = [w.copy() for w in faces]
        shut[0][4] = 0.0
        rhs = np.random.default_rng(1).standard_normal((8, 8, 8)).astype(np.float32)
        first, second = (PressureSolver.cut(*f).solve(rhs)[0] for f in (faces, shut))
        np.testing.assert_array_equal(first, second)

    def test_what_does_not_fit_is_refused_in_words(self):
        solver = PressureSolver(np.ones((8, 8, 8), bool))
        with self.assertRaisesRegex(BadValue, r"has the shape \(8, 8, 4\); the grid's is \(8, 8, 8\)"):
            solver.solve(np.zeros((8, 8, 4), np.float32))
        x, y, z = weights(np.ones((8, 8, 8), bool))
        with self.assertRaisesRegex(BadValue, "faces across y have the shape"):
            PressureSolver.cut(x, z, y)
        with self.assertRaisesRegex(BadValue, "must lie from 0 to 1"):
            PressureSolver.cut(x, 1.5 * y, z)
        with self.assertRaisesRegex(BadValue, "The surface has the shape"):
            PressureSolver.cut(x, y, z, np.zeros((8, 8, 9)))

    def test_iterations_hardly_grow_with_cut_faces(self):
        counts = []
        for n in (32, 64):
            rng = np.random.default_rng(3)
            faces = [w * rng.uniform(0.3, 1.0, w.shape).astype(np.float32) for w in weights(with_boxes(n))]
            rhs = rng.standard_normal((n, n, n)).astype(np.float32)
            counts.append(PressureSolver.cut(*faces).solve(rhs)[1].iterations)
        self.assertLessEqual(max(counts), 12)


class FreeSurface(unittest.TestCase):
    def faces(self, n):
        """A tank: shut but for the top, which no liquid reaches."""
        faces = [np.ones(tuple(n + (axis == a) for a in range(3)), np.float32) for axis in range(3)]
        for axis in range(3):
            ends = [slice(None)] * 3
            for end in (0, -1) if axis < 2 else (0,):
                ends[axis] = end
                faces[axis][tuple(ends)] = 0.0
        return faces

    def test_still_liquid_bears_its_own_weight_wherever_the_surface_lies(self):
        # gravity drives an outflow of one downward face a cell; p falls by one a cell towards the surface and is 0 on
        # it
        n = 16
        for level in (8.1, 8.5, 8.93):
            z = np.arange(n) + 0.5
            surface = np.broadcast_to(z - level, (n, n, n))
            faces = self.faces(n)
            rhs = np.zeros((n, n, n), np.float32)
            rhs[:, :, 0] = 1.0
            found, solution = PressureSolver.cut(*faces, surface).solve(rhs, tolerance=1e-7)
            self.assertTrue(solution.converged)
            wet = z - level <= -0.03
            np.testing.assert_allclose(found[3, 4, wet], (level - z)[wet], atol=3e-5)
            self.assertEqual(float(np.abs(found[:, :, ~wet]).max()), 0.0)

    def test_a_slanting_surface_is_met_to_second_order(self):
        # p = sin 2d, d the depth below a slanting plane: 0 on it, Laplacian -4 p; walls carry its slope. In single
        # precision the error stops falling at about 5e-5, so finer grids than these show nothing more
        slope, errors = np.array([0.28, 0.36, np.sqrt(1 - 0.28**2 - 0.36**2)]), []
        for n in (8, 16, 32):
            h = 1.0 / n
            place = np.stack(np.meshgrid(*[(np.arange(n) + 0.5) * h] * 3, indexing="ij"), axis=-1)
            depth = 0.6 - place @ slope
            p, faces = np.sin(2.0 * depth), self.faces(n)
            rhs = 4.0 * p * h * h
            for axis, end, sign in ((0, 0, -1), (0, -1, 1), (1, 0, -1), (1, -1, 1), (2, 0, -1)):
                side = (slice(None),) * axis + (end,)
                rhs[side] -= sign * slope[axis] * h * 2.0 * np.cos(2.0 * (depth[side] - sign * slope[axis] * h / 2))
            wet = -depth / h <= -0.03
            rhs = np.where(wet, rhs, 0.0).astype(np.float32)
            found, solution = PressureSolver.cut(*faces, -depth / h).solve(rhs, tolerance=1e-6, most=100)
            self.assertTrue(solution.converged)
            errors.append(float(np.abs(found - p)[wet].max()))
        self.assertGreater(np.log2(errors[0] / errors[1]), 1.5)
        self.assertGreater(np.log2(errors[1] / errors[2]), 1.5)


class Still:
    """Bodies at rest."""

    def __init__(self, mass, inertia):
        self.mass, self.inertia = np.array(mass, float), np.array(inertia, float)

    def inverse_mass(self):
        return np.where(np.isfinite(self.mass), 1.0 / self.mass, 0.0)

    def inverse_inertia(self):
        inverse = np.array([np.eye(3) / i if np.isfinite(i) else np.zeros((3, 3)) for i in self.inertia])
        return inverse


class GivingWay(unittest.TestCase):
    def solids(self):
        boxes = [
            generators.box_between((0.2, 0.25, 0.3), (0.5, 0.6, 0.55)),
            generators.box_between((0.6, 0.5, 0.5), (0.9, 0.8, 0.9)),
        ]
        boundary = Boundary(fragments_of(boxes))
        solids = Solids((16, 16, 16), (0, 0, 0), 1 / 16, [boundary])
        solids.place(0.0)
        return solids

    def test_bodies_and_pressure_are_solved_at_once(self):
        density = 1.2
        # from far heavier to far lighter than what they displace, and one that does not move at all
        for masses in ((50.0, 0.02), (1e-4, 1e-4), (np.inf, 0.01)):
            solids = self.solids()
            bodies = Still(masses, [m * 0.02 for m in masses])
            held, give = solids.held(), (bodies.inverse_mass(), bodies.inverse_inertia())
            terms = BodyTerms(solids.solid.shape, held, inverse_masses(*give), density * solids.cell**3)
            rng = np.random.default_rng(2)
            rhs = np.where(solids.is_open, rng.standard_normal(solids.solid.shape), 0).astype(np.float32)
            found, solution = PressureSolver(solids.is_open).solve(rhs, tolerance=1e-6, terms=terms, most=200)
            self.assertTrue(solution.converged)
            # the same by SciPy, from rows put together plainly
            rows = plain_rows(solids)
            inverse = np.zeros((12, 12))
            for b in range(2):
                inverse[6 * b : 6 * b + 3, 6 * b : 6 * b + 3] = bodies.inverse_mass()[b] * np.eye(3)
                inverse[6 * b + 3 : 6 * b + 6, 6 * b + 3 : 6 * b + 6] = bodies.inverse_inertia()[b]
            scale = density * solids.cell**3
            system = matrix(weights(solids.is_open)) + sp.csr_array(rows.T @ (scale * inverse) @ rows)
            expected = linalg.spsolve(sp.csc_matrix(system), rhs.ravel().astype(float)).reshape(rhs.shape)
            np.testing.assert_allclose(found, expected, atol=2e-4 * np.abs(expected).max())
            np.testing.assert_allclose(
                held.impulses(found, scale, 2).ravel(),
                scale * rows @ found.ravel(),
                rtol=1e-4,
                atol=1e-6 * scale * np.abs(found).max(),
            )

    def test_what_the_air_loses_the_bodies_take(self):
        solids = self.solids()
        bodies = Still((0.1, np.inf), (0.002, np.inf))
        held, full = solids.held(), 1.2 * solids.cell**3
        terms = BodyTerms(
            solids.solid.shape, held, inverse_masses(bodies.inverse_mass(), bodies.inverse_inertia()), full
        )
        rng = np.random.default_rng(4)
        rhs = np.where(solids.is_open, rng.standard_normal(solids.solid.shape), 0).astype(np.float32)
        found, _ = PressureSolver(solids.is_open).solve(rhs, terms=terms)
        lost = []
        for axis, w in enumerate(solids.weights):
            u = np.zeros(w.shape, np.float32)
            cell_kernels.subtract_gradient(u, w, found, axis)
            lost.append(-1.2 * solids.cell**3 * u.sum(dtype=float))
        impulse = held.impulses(found, full, 2)[:, :3]
        np.testing.assert_allclose(impulse.sum(axis=0), lost, atol=1e-6 * np.abs(lost).max())


def plain_rows(solids):
    """What a unit of each body's velocity and spin drives out of each cell, face by face."""
    solid, shape = solids.solid, solids.solid.shape
    rows = np.zeros((6 * len(solids.bodies.position), solid.size))
    for cell in np.argwhere(solid < 0):
        for axis in range(3):
            for side in (-1, 1):
                other = cell.copy()
                other[axis] += side
                if (other < 0).any() or (other >= shape).any() or solid[tuple(other)] < 0:
                    continue
                b = solid[tuple(other)]
                face = (cell + 0.5) * solids.cell
                face[axis] += side * solids.cell / 2
                way = np.eye(3)[axis] * side
                at = np.ravel_multi_index(cell, shape)
                rows[6 * b : 6 * b + 3, at] += way
                rows[6 * b + 3 : 6 * b + 6, at] += np.cross(face - solids.bodies.position[b], way)
    return rows


def around(p, faces):
    """What each cell's neighbours bring to its row of the matrix."""
    total = np.zeros(p.shape)
    for axis, w in enumerate(faces):
        padded = np.moveaxis(np.pad(p, [(1, 1) if a == axis else (0, 0) for a in range(3)]), axis, 0)
        w = np.moveaxis(w, axis, 0)
        total += np.moveaxis(w[:-1] * padded[:-2] + w[1:] * padded[2:], 0, axis)
    return total


class Sweeps(unittest.TestCase):
    """The way down and up of one level against sweeps done plainly, one after the other."""

    def check(self, made, faces, seed):
        rng = np.random.default_rng(seed)
        level, coarse = made.levels[:2]
        diagonal = faces_sum(faces).astype(float)
        is_open = diagonal > 0
        rhs = np.where(is_open, rng.standard_normal(level.shape), 0).astype(np.float32)
        matrix_kernels.pack(rhs, level.inverse, level.rhs)
        colour = np.indices(level.shape).sum(0) & 1
        p = np.zeros(level.shape)

        def sweep(c):
            mine = is_open & (colour == c)
            p[mine] = (rhs + around(p, faces))[mine] / diagonal[mine]

        for c in (0, 1, 0, 1):
            sweep(c)
        halves = [x for n in coarse.shape for x in (n, 2)]
        rest = np.where(is_open, rhs + around(p, faces) - diagonal * p, 0)
        below = p.copy(), 0.5 * rest.reshape(halves).sum((1, 3, 5))
        given = np.where(plain(coarse, packed_open(coarse)) > 0, rng.standard_normal(coarse.shape), 0).astype(
            np.float32
        )
        p += np.where(is_open, np.kron(given, np.ones((2, 2, 2))), 0)
        for c in (1, 0, 1, 0):
            sweep(c)
        seen = []
        for slabs in (1, 2, 3):
            level.slabs = lambda sweeps, n=slabs: n
            level.threads = 1
            level.down(coarse.rhs, 2)
            found = [plain(level, level.p), plain(coarse, coarse.rhs)]
            matrix_kernels.pack(given, coarse.inverse, coarse.p)
            product = level.up(coarse.p, 2)
            found.append(plain(level, level.p))
            for got, expected in zip(found, (*below, p)):
                np.testing.assert_allclose(got, expected, atol=3e-6)
            self.assertAlmostEqual(product, (p * rhs).sum(), delta=1e-5 * np.abs(p * rhs).sum())
            seen.append((product, *(x.tobytes() for x in found)))
        self.assertEqual(seen, seen[:1] * 3)

    def test_whole_cells(self):
        is_open = with_boxes((56, 12, 20))
        self.check(PressureSolver(is_open), weights(is_open), 1)

    def test_cut_faces(self):
        rng = np.random.default_rng(2)
        faces = [w * rng.uniform(0.1, 1.0, w.shape).astype(np.float32) for w in weights(with_boxes((56, 12, 20)))]
        self.check(PressureSolver.cut(*faces), faces, 3)


def plain(level, packed):
    out = np.empty(level.shape, np.float32)
    matrix_kernels.unpack(packed, out)
    return out


def packed_open(level):
    """A packed field of what is open."""
    out = level.field()
    out[:, 1:-1, level.stride : -level.stride] = level.inverse
    return out


class Threads(unittest.TestCase):
    def spent(self):
        """Processor time of each thread of this process, in ticks."""
        stats = {t.name: (t / "stat").read_text() for t in Path("/proc/self/task").iterdir()}
        return {name: sum(map(int, text.rsplit(")", 1)[1].split()[11:13])) for name, text in stats.items()}

    def test_every_thread_works_on_the_sweeps(self):
        # a kernel compiled for one thread and for all must be two kernels: the time each thread spends tells
        if numba.config.NUMBA_NUM_THREADS < 2:
            self.skipTest("one thread only")
        level = PressureSolver(np.ones((128, 128, 128), bool)).levels[0]
        level.down(NOTHING, 2)
        before = self.spent()
        for _ in range(300):
            level.down(NOTHING, 2)
        gained = sorted((t - before.get(name, 0) for name, t in self.spent().items()), reverse=True)
        self.assertGreater(gained[1], 0.3 * gained[0])
