"""Baking the toys: whatever is offered, made from a number."""

import numpy as np

from urst.core.bodies.fragments import Solid, assemble
from urst.core.bodies.patches import find_patches
from urst.core.geometry import generators
from urst.kinds.offers.grains import GRAINS
from urst.kinds.prepared import PreparedLayer
from urst.scene.placing import standing


class Given:
    """A solver whose frame is a function of time."""

    def __init__(self, amount, make, start):
        self.amount, self.make, self.time = amount, make, start

    def stable_dt(self):
        return 1.0

    def step(self, dt):
        self.time += dt

    def frame(self):
        return self.make(self.time)

    def outputs(self):
        found = self.make(self.time)
        return found | ({"age": found["since"]} if "since" in found else {})

    def gauges(self):
        return {"amount": self.amount}

    def snapshot(self):
        return {"time": np.array([self.time])}

    def restore(self, state):
        self.time = float(state["time"][0])


def prepare(inputs) -> PreparedLayer:
    """Set up a toy by what its kind offers."""
    kind, shot, amount = inputs.kind, inputs.shot, inputs.layer.settings.amount
    offer = kind.offers[0].name
    if offer == "fragments":
        boxes = [generators.box_between((a, -0.2, 0.3), (a + 0.2, 0.2, 0.6)) for a in (-0.2, 0.0)]
        found = assemble([Solid(0, b, np.zeros(len(b.triangles), bool), part=n) for n, b in enumerate(boxes)])
        return PreparedLayer(found.to_arrays() | find_patches(found, 1e-3).to_arrays(), {"gauges": {"amount": amount}})
    static, meta = {}, {}
    if offer == "bodies":
        pieces = standing(shot, kind.cast(shot, inputs.layer))
        static = pieces.to_arrays() | find_patches(pieces, 1e-3).to_arrays()
        static |= {"bond": np.zeros(0, np.int64), "mass": pieces.volume, "motion": np.ones(len(pieces), np.int64)}
    grid = kind.grid(inputs.layer)
    if grid:
        meta = {"origin": list(grid.low), "cell": grid.cell, "shape": list(grid.shape)}
    partings = inputs.bodies("chips") if offer == "points" else []
    grains = inputs.sources(GRAINS) if offer == "points" else []

    def moved(time):
        return _FRAMES[offer](amount, time, static, grid)

    solver = Given(amount, moved, inputs.clock.seconds(shot.start))
    prepared = PreparedLayer(static, meta, solver, inputs.feeds)
    prepared.meta["bodies read"] = sum(len(p.boundary) for p in partings)
    for source in grains:
        prepared.meta["grains read"] = [source.facts.spacing, len(source.frame(shot.start)["position"])]
    return prepared


def _bodies(amount, time, static, grid):
    centre = static["centre"]
    n = len(centre)
    up = np.tile([0.0, 0.0, 0.2 * amount], (n, 1)).astype(np.float32)
    still = np.tile([1.0, 0.0, 0.0, 0.0], (n, 1)).astype(np.float32)
    zeros = np.zeros((n, 3), np.float32)
    return {
        "position": (centre + time * up).astype(np.float32),
        "orientation": still,
        "velocity": up,
        "spin": zeros,
        "parted": np.zeros(0, bool),
        "bond_alive": np.zeros(0, np.uint8),
        "bond_load": np.zeros(0, np.float32),
    }


def _points(amount, time, static, grid):
    x = np.linspace(-0.5, 0.5, 11)
    place = np.stack([x, 0 * x, 0.8 + 0 * x], axis=1).astype(np.float32)
    return {
        "position": place,
        "velocity": 0 * place,
        "size": np.full(11, 0.05, np.float32),
        "since": np.full(11, time, np.float32),
    }


def _gas(amount, time, static, grid):
    nx, ny, nz = grid.shape
    return {
        "density": np.full(grid.shape, 0.01, np.float16),
        "velocity_x": np.full((nx + 1, ny, nz), amount, np.float16),
        "velocity_y": np.zeros((nx, ny + 1, nz), np.float16),
        "velocity_z": np.zeros((nx, ny, nz + 1), np.float16),
    }


def _liquid(amount, time, static, grid):
    z = (np.arange(grid.shape[2]) + 0.5) * grid.cell + grid.low[2]
    phi = np.broadcast_to((z / grid.cell).astype(np.float16), grid.shape).copy()
    cells = np.argwhere(phi < 0)
    place = (np.array(grid.low) + grid.cell * (cells + 0.5)).astype(np.float32)
    return {
        "position": place,
        "velocity": np.zeros(place.shape, np.float16),
        "size": np.full(len(place), 0.1, np.float16),
        "phi": phi,
        "walls": np.full(grid.shape, 2.0, np.float16),
        "flow": np.zeros((*grid.shape, 3), np.float16),
        "blocked": np.zeros(grid.shape, np.uint8),
        "filled": np.array([8 * len(place)]),
    }


def _grains(amount, time, static, grid):
    place = 0.05 * amount * np.argwhere(np.ones((4, 4, 4))).astype(np.float32)
    return {"position": place, "velocity": 0 * place, "size": np.full(len(place), 0.05, np.float32)}


_FRAMES = {"bodies": _bodies, "points": _points, "gas": _gas, "liquid": _liquid, "grains": _grains}
