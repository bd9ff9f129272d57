"""Small scenes of rigid bodies for the tests."""

import numpy as np

from urst.core.bodies.fragments import Solid, assemble
from urst.core.bodies.mobility import FIXED, LOOSE
from urst.core.bodies.patches import find_patches, ties, together
from urst.core.geometry import generators
from urst.core.rigid.matter import Matter
from urst.core.rigid.settings import BondSettings, RigidSettings
from urst.core.rigid.solver import RigidSolver

FREE = RigidSettings(bonds=BondSettings(tension=0), angular_damping=0.0, settle=0.0)
GROUND = generators.box_between((-50, -50, -1), (50, 50, 0))


def fragments_of(meshes, balls=None):
    """Each mesh as one fragment; `balls` gives the radius of those that are balls, by index."""
    balls = balls or {}
    return assemble(
        [Solid(i, m, np.zeros(len(m.triangles), bool), ball=balls.get(i, 0.0)) for i, m in enumerate(meshes)]
    )


def solver(
    meshes,
    *,
    fixed=(),
    settings=FREE,
    friction=0.6,
    restitution=0.0,
    density=2000.0,
    velocity=None,
    spin=None,
    **options,
):
    """A solver of one body a mesh; `fixed` names the indices that do not move."""
    fragments = fragments_of(meshes, options.pop("balls", None))
    if "piece" in options:
        fragments = fragments.of_pieces(options.pop("piece"))
    n = len(fragments)
    kind = np.full(n, LOOSE)
    kind[list(fixed)] = FIXED
    given = lambda v: np.zeros((n, 3)) if v is None else np.array(v, float)  # noqa: E731
    matter = Matter(
        density=np.broadcast_to(np.asarray(density, float), n).copy(),
        friction=np.full(n, friction),
        restitution=np.full(n, restitution),
        kind=options.pop("kind", kind),
        velocity=given(velocity),
        spin=given(spin),
        whole=options.pop("whole", None),
        compression=np.full(n, options.pop("compression", np.inf)),
        rolling=np.full(n, options.pop("rolling", 0.0)),
        force=options.pop("force", None),
        bonded=np.asarray(options.pop("bonded", np.ones(n, bool)), bool),
    )
    patches = find_patches(fragments, 2e-3)
    if matter.whole is not None:
        patches = together(patches, ties(fragments, matter.whole))
    return RigidSolver(fragments, patches, matter, settings, **options)


def run(solver_, seconds, watch=lambda s: None):
    """Step a solver over some seconds at its own pace; return what `watch` gave after each step."""
    seen = []
    for _ in range(round(seconds / solver_.step_dt)):
        solver_.step(solver_.step_dt)
        seen.append(watch(solver_))
    return seen


def advance(solver_, dt):
    """Step any solver over a span of time at its own pace."""
    steps = max(1, int(np.ceil(dt / solver_.stable_dt() - 1e-9)))
    for _ in range(steps):
        solver_.step(dt / steps)


def momentum(s):
    """Momentum and angular momentum about the origin of all loose bodies."""
    b = s.bodies
    loose = b.kind == LOOSE
    own = np.einsum("nij,njk,nlk,nl->ni", b.rotation, b.inertia, b.rotation, b.spin)
    linear = b.mass[:, None] * b.velocity
    return linear[loose].sum(axis=0), (np.cross(b.position, linear) + own)[loose].sum(axis=0)
