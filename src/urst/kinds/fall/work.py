"""Baking a Fall."""

from typing import Any

import numpy as np

from urst.core.bodies.fragments import Fragments, assemble, joined
from urst.core.bodies.mobility import DRIVEN, FIXED, LOOSE
from urst.core.bodies.patches import JOINT, find_patches, ties, together
from urst.core.coupling.drag import BodyDrag, in_baked_gases
from urst.core.geometry.land import Land, land
from urst.core.geometry.mesh import Mesh
from urst.core.rigid.director import Directed
from urst.core.rigid.joints import Jointed
from urst.core.rigid.matter import Matter
from urst.core.rigid.settling import settle as settle_bodies
from urst.core.rigid.solver import RigidSolver
from urst.kinds.fall.directing import whom
from urst.kinds.inputs import Inputs
from urst.kinds.prepared import PreparedLayer
from urst.scene.pieces import SetPiece
from urst.scene.placing import Drive, comes_and_goes, lying, present, solids

_MOTION = {"fixed": FIXED, "driven": DRIVEN, "loose": LOOSE}


def prepare(inputs: Inputs) -> PreparedLayer:
    """Put the bodies together: fragments of the breaks that are read, and the pieces nobody broke."""
    shot, settings, clock = inputs.shot, inputs.layer.settings, inputs.clock
    kind: Any = inputs.kind
    cast, lands = kind.cast(shot, inputs.layer), kind.lands(shot, inputs.layer)
    own = _bodies(inputs, cast)
    patches = together(find_patches(own, JOINT), ties(own, own.whole))
    fragments, surfaces = _with_lands(shot, own, cast, lands)
    cast = cast + lands
    owner = [shot.pieces[cast[n]] for n in fragments.piece]
    bulk = np.array([p.bulk() for p in owner]).reshape(-1, 5)
    kind = np.array([_MOTION[p.motion] for p in owner], np.int64)
    # nothing but a closed solid has mass: said by preflight
    kind[len(own) :][kind[len(own) :] == LOOSE] = FIXED
    matter = Matter(
        density=bulk[:, 0].copy(),
        friction=bulk[:, 1].copy(),
        restitution=bulk[:, 2].copy(),
        rolling=bulk[:, 3].copy(),
        compression=bulk[:, 4].copy(),
        force=np.array([p.force if p.motion == "driven" else 0.0 for p in owner], float),
        kind=kind,
        velocity=_start_velocity(fragments, owner),
        spin=np.array([p.spin for p in owner], float).reshape(-1, 3),
        bonded=np.array([p.bonded for p in owner], bool),
        whole=fragments.whole,
        holds=np.array([p.holds for p in owner], float),
        elongation=np.array([np.nan if p.elongation is None else p.elongation for p in owner], float),
    )
    there = None
    if comes_and_goes(shot, cast):
        ends = np.array([clock.seconds(f) for f in shot.frames()])

        # by the frame that is being solved: a body is gone from the frame after its last
        def there(time: float) -> np.ndarray:
            frame = shot.start + min(int(np.searchsorted(ends, time + 1e-9)), len(ends) - 1)
            return present(shot, cast, fragments.piece, "bodies", frame)

    pieces = [shot.pieces[i] for i in cast]
    # without names an event is about all that moves; what is named may stand
    fixed, solid = matter.kind == FIXED, np.arange(len(kind)) < len(own)
    directed = [
        Directed(
            e,
            whom(e.of, pieces, fragments.piece) & (bool(e.of) | ~fixed) & (solid | (e.what != "let go")),
            whom((e.by,), pieces, fragments.piece) if e.by else None,
        )
        for e in settings.events
    ]
    named = lambda name: np.array([p.name == name for p in pieces], bool)[fragments.piece]  # noqa: E731
    jointed = [Jointed(j, named(j.first), named(j.second) if j.second else None) for j in settings.joints]
    solver = RigidSolver(
        fragments,
        patches,
        matter,
        settings,
        directed=directed,
        jointed=jointed,
        gravity=shot.gravity,
        drive=Drive(shot, cast, fragments) or None,
        presence=there,
        clock=clock,
        surfaces=surfaces,
        keeps=inputs.layer.keeps,
    )
    static = own.to_arrays() | patches.to_arrays()
    n = len(own)
    static |= {"bond": solver.patch_of_bond, "mass": solver.bodies.mass[:n], "motion": matter.kind[:n]}
    start, gases = inputs.start_frame(), inputs.gases()
    if start is not None:
        solver.begin_from(start)

    def settle() -> None:
        if start is None:
            settle_bodies(solver, settings.settle, inputs.check_cancelled)

    acting = [in_baked_gases(BodyDrag(solver), gases, lambda: solver.time)] if gases else []
    return PreparedLayer(static, {}, solver, inputs.feeds, before_step=acting, settle=settle)


def _bodies(inputs: Inputs, cast: list[int]) -> Fragments:
    shot, sets, broken = inputs.shot, [], set()
    for facts, fragments in inputs.fragments():
        theirs = np.array([cast.index(i) for i in facts.pieces])
        sets.append(fragments.of_pieces(theirs[fragments.piece]))
        broken.update(theirs.tolist())
    # a piece broken by a layer that is not read stands whole
    whole = [s for n, i in enumerate(cast) if n not in broken for s in solids(n, shot.pieces[i], shot)]
    return joined([*sets, assemble(whole)] if whole or not sets else sets)


def _with_lands(shot: Any, own: Fragments, cast: list[int], lands: list[int]) -> tuple[Fragments, list[Land]]:
    """Put open sheets behind the bodies, and return their surfaces beside."""
    if not lands:
        return own, []
    found = [lying(len(cast) + n, shot.pieces[i], shot) for n, i in enumerate(lands)]
    boxes = assemble([box for box, _ in found])
    surfaces = [land(Mesh(m.vertices - centre, m.triangles)) for (_, m), centre in zip(found, boxes.centre)]
    return joined([own, boxes]), surfaces


def _start_velocity(fragments: Fragments, owner: list[SetPiece]) -> np.ndarray:
    """A piece is thrown as a whole: its spin also moves the fragments away from its centre."""
    velocity = np.array([p.velocity if p.motion == "loose" else (0, 0, 0) for p in owner], float).reshape(-1, 3)
    spin = np.array([p.spin for p in owner], float).reshape(-1, 3)
    for i in np.unique(fragments.piece):
        mine = fragments.piece == i
        middle = np.average(fragments.centre[mine], axis=0, weights=fragments.volume[mine])
        velocity[mine] += np.cross(spin[mine], fragments.centre[mine] - middle)
    return velocity
