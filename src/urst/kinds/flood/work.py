"""Baking a Flood."""

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np

from urst.core.bodies.boundary import Boundary
from urst.core.fields.liquid_frame import LiquidFrame
from urst.core.liquid.inflows import Inflow, Region
from urst.core.liquid.inlets import Before, Inside
from urst.core.liquid.restart import Lattice
from urst.core.liquid.settling import press_at_rest
from urst.core.liquid.settling import settle as settle_liquid
from urst.core.liquid.solver import LiquidSolver
from urst.errors import BadValue
from urst.kinds.flood import pouring
from urst.kinds.inputs import Inputs
from urst.kinds.prepared import PreparedLayer
from urst.scene.placing import hollows, standing

#: what of the settings tells how liquid comes to rest
_RESTS = (
    "settle",
    "density",
    "viscosity",
    "tension",
    "tolerance",
    "most_substeps",
    "sides",
    "seed",
    "waves",
    "level",
    "particle_depth",
)


#: and what of its state
_BEGINS = ("box", "position", "speed", "affine", "phi", "pressed", "velocity")


def _within(room: Boundary | None, level: float | None, places: np.ndarray) -> np.ndarray:
    """Signed distance of places (n, 3) from what is filled of a room [m]."""
    away = np.full(len(places), -np.inf) if room is None else room.distance(places, 0.0)
    return away if level is None else np.maximum(away, places[:, 2] - level)


def prepare(inputs: Inputs) -> PreparedLayer:
    """Put together what holds the liquid and what is full of it at the start."""
    shot, settings = inputs.shot, inputs.layer.settings
    boundaries = [p.boundary for p in inputs.bodies("liquid")] + inputs.surroundings("liquid")
    inflows = [
        Inflow(_inlet(inputs, x), opens, closes, x.launch, x.rate, settings.seed + n, inputs.clock)
        for n, x in enumerate(settings.inflows)
        for opens, closes in [inputs.window(x)]
    ]
    regions = [
        Region(Inside(inputs.carrier(x.piece)), opens, closes, x.damping, x.does == "take away")
        for x in settings.regions
        for opens, closes in [inputs.window(x)]
    ]
    solver = LiquidSolver(
        settings,
        shot.gravity,
        boundaries=boundaries,
        inflows=inflows,
        regions=regions,
        clock=inputs.clock,
        check_cancelled=inputs.check_cancelled,
    )
    start = inputs.start()

    def settle() -> None:
        # what stands where at the first frame is known only when the feeds have been loaded
        if start is None:
            _fill(solver, shot)
            _rest(solver, inputs)
            press_at_rest(solver)
            return
        arrays, meta = start
        if "flow" not in arrays:
            raise BadValue(
                f"'{inputs.layer.name}' begins from a bake that an earlier Urst made, which does not tell how the "
                "liquid flows: "
                "bake that layer again, or begin from another."
            )
        of = Lattice(np.array(meta["origin"], float), float(meta["cell"]), tuple(meta["shape"]))
        place = _piece(shot, settings.start_within, standing) if settings.start_within else None
        some = partial(_within, place, settings.start_below)
        cut = place is not None or settings.start_below is not None
        solver.begin_from(LiquidFrame.of(arrays), of, some if cut else None)

    meta = {"origin": list(settings.low), "cell": settings.cell_size, "shape": list(solver.shape)}
    return PreparedLayer({}, meta, solver, inputs.feeds, settle=settle)


def _inlet(inputs: Inputs, inflow: Any) -> Before | Inside:
    """Where an inflow pours from."""
    carrier, cell = inputs.carrier(inflow.piece), inputs.layer.settings.cell_size
    if inflow.out_of == "inside":
        return Inside(carrier)
    faces = pouring.faces(inputs.shot, inflow, carrier.fragments, pouring.seen_with(cell))
    if not len(faces):
        raise BadValue(
            f"No face of '{inflow.piece}' is chosen for '{inputs.layer.name}' to pour from: choose another way or "
            "region."
        )
    return Before(carrier, faces, cell)


def _piece(shot: Any, name: str, how: Callable[..., Any]) -> Boundary:
    """A set piece as it stands."""
    return Boundary(how(shot, [next(i for i, p in enumerate(shot.pieces) if p.name == name)]))


def _fill(solver: LiquidSolver, shot: Any) -> None:
    settings = solver.settings
    if settings.level is not None:
        solver.pool(settings.level, settings.pool_at)
    for fill in settings.fills:
        room = _piece(shot, fill.piece, hollows)
        found = room.at(0.0)
        box = (found.low.min(axis=0), found.high.max(axis=0)) if len(room) else None
        solver.fill(partial(_within, room, fill.level), fill.velocity, box=box)


def _rest(solver: LiquidSolver, inputs: Inputs) -> None:
    """Let the liquid come to rest, or take up how it did in an earlier bake that began the same."""
    settings, walls = solver.settings, solver.walls
    if settings.settle <= 0.0:
        return
    state = solver.snapshot()
    begins = {n: a for n, a in state.items() if n.split("/")[0] in _BEGINS}
    begins |= {
        "walls": walls.distance,
        "blocked": walls.blocked,
        "gravity": solver.gravity,
        "rate": np.array(inputs.clock.rate),
    }
    key = inputs.store.key_of(
        begins, f"{inputs.kind.name} {inputs.kind.version} {settings.model_dump_json(include=set(_RESTS))}"
    )
    kept = inputs.store.read_start(key)
    if kept is None:
        what = f"{inputs.layer.name} comes to rest"
        report_progress = lambda done: inputs.report_progress(what, round(10.0 * done), round(10.0 * settings.settle))  # noqa: E731
        settle_liquid(solver, settings.settle, report_progress)
        inputs.store.write_start(key, solver.snapshot())
        return
    # it may have begun at another time
    solver.restore(kept | {n: a for n, a in state.items() if n == "time" or n.startswith("inflows/")})
