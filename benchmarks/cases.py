"""What is measured: each case yields (label, elements, seconds)."""

import numpy as np
import scipy.sparse.linalg as linalg

from benchmarks.liquid import liquid
from benchmarks.rigid import rigid
from benchmarks.triad import timed
from tests.bodies import GROUND, advance, fragments_of
from tests.test_coupling import together
from tests.test_gas import Blow
from tests.test_pressure import matrix, weights, with_boxes
from urst.core.bodies.boundary import Boundary
from urst.core.debris.kernels import Points
from urst.core.debris.settings import DebrisSettings
from urst.core.debris.solver import DebrisSolver
from urst.core.fields import advect
from urst.core.fields.face_fields import FaceFields
from urst.core.fields.pressure import PressureSolver
from urst.core.fracture.breaking import break_pieces
from urst.core.fracture.settings import FractureSettings
from urst.core.gas.settings import GasSettings
from urst.core.gas.solver import GasSolver
from urst.core.geometry import generators


def tenth(n):
    """A grid with a tenth of its cells in boxes."""
    rng, cells, side = np.random.default_rng(0), np.ones((n, n, n), bool), max(1, n // 10)
    while cells.mean() > 0.9:
        i, j, k = rng.integers(0, n - side, 3)
        cells[i : i + side, j : j + side, k : k + side] = False
    return cells


def fields():
    """Pressure and advection."""
    for n in (64, 128):
        cells = tenth(n)
        rhs = np.random.default_rng(0).standard_normal((n, n, n)).astype(np.float32)
        for tolerance in (1e-4, 1e-6):
            rounds = PressureSolver(cells).solve(rhs, tolerance=tolerance)[1].iterations
            seconds = timed(lambda c=cells, r=rhs, t=tolerance: PressureSolver(c).solve(r, tolerance=t))
            yield f"pressure {n}^3 to {tolerance:g}, {rounds} rounds, set-up included", n**3, seconds
    n = 128
    rng = np.random.default_rng(0)
    fractions = [w * rng.uniform(0.3, 1.0, w.shape).astype(np.float32) for w in weights(with_boxes(n))]
    rhs = rng.standard_normal((n, n, n)).astype(np.float32)
    rounds = PressureSolver.cut(*fractions).solve(rhs)[1].iterations
    seconds = timed(lambda: PressureSolver.cut(*fractions).solve(rhs))
    yield f"pressure {n}^3 to 0.0001 with cut faces, {rounds} rounds, set-up included", n**3, seconds
    n = 48
    faces = weights(with_boxes(n))
    rhs = np.random.default_rng(0).standard_normal(n**3)
    system = matrix(faces)
    yield (
        f"  the same, {n}^3 to 1e-4, SciPy's conjugate gradients",
        n**3,
        timed(lambda: linalg.cg(system, rhs, rtol=1e-4), 1),
    )
    n = 128
    field, u, v, w = (
        np.random.default_rng(1).standard_normal(s).astype(np.float32)
        for s in ((n, n, n), (n + 1, n, n), (n, n + 1, n), (n, n, n + 1))
    )
    step = np.float32(0.5)
    flow, ahead, out = FaceFields(u, v, w), np.empty_like(field), np.empty_like(field)
    origin, goal = (advect.Places(*(np.empty_like(field) for _ in range(3))) for _ in range(2))

    def plain():
        advect.trace(flow, step, advect.CENTRE, origin)
        advect.gather(field, origin, ahead)

    def sharp():
        plain()
        advect.trace(flow, -step, advect.CENTRE, goal)
        advect.correct(field, ahead, origin, goal, out)

    yield f"semi-Lagrangian scalar {n}^3", n**3, timed(plain)
    yield f"MacCormack scalar {n}^3", n**3, timed(sharp)


def fracture():
    """Voronoi cells of a box and of a body that is not convex."""
    box = generators.box(2, 1, 1)
    settings = FractureSettings(count=300)
    yield "fracture: a box into 300, patches included", 300, timed(lambda: break_pieces([(0, box)], settings), 3)


def debris():
    """Points among moving chunks."""
    meshes = [GROUND, *(generators.box_between((0.5 * k, 0, 0), (0.5 * k + 0.4, 0.4, 0.4)) for k in range(100))]
    fragments = fragments_of(meshes)
    boundary = Boundary(fragments)
    s = DebrisSolver(DebrisSettings(), boundaries=[boundary])
    n, rng = 100_000, np.random.default_rng(0)
    s.points = Points(
        rng.uniform((0, -1, 0), (50, 1, 1), (n, 3)),
        rng.standard_normal((n, 3)),
        np.full(n, 0.01),
        np.zeros(n),
        np.zeros(n, np.uint8),
        np.zeros(n, np.uint8),
    )
    yield "debris: a frame of 100,000 chips among 100 chunks, 4 substeps", n, timed(lambda: advance(s, 1 / 24), 5)


def gas():
    """A frame of dust with a source, and of one whose chunks act on it and it on them."""
    for sharp in (False, True):
        settings = GasSettings(cell_size=1 / 64, low=(0, 0, 0), high=(1, 1, 1), sharp=sharp, most_substeps=1)
        s = GasSolver(settings, sources=[Blow((0.5, 0.5, 0.5), (1.0, 0, 0.5), 0.01, 0.1)])
        label = f"gas: a step of 64^3, {'second-order' if sharp else 'plain'} advection"
        yield label, 64**3, timed(lambda s=s: s.step(1 / 24), 5)
    rng = np.random.default_rng(0)
    boxes = [generators.box_between(at, at + 0.25) for at in rng.uniform(0.5, 3.2, (100, 3))]
    _, _, group = together(boxes, 4.0, 1 / 16, density=2000.0)
    yield "gas: a step of 64^3 with 100 chunks, coupled", 64**3, timed(lambda: group.advance(0.0, 1 / 24), 5)


CASES = {"fields": fields, "rigid": rigid, "fracture": fracture, "debris": debris, "gas": gas, "liquid": liquid}
