"""A pile of shards that falls from a loose column and lies: time, overlap and rest, beside a general library if there
is one.

MuJoCo is no dependency: where it can be imported it is run on the same pieces, with its conjugate gradient solver at
240 steps a second.
"""

import time
from collections import defaultdict
from collections.abc import Iterator
from contextlib import contextmanager
from importlib.util import find_spec

import numpy as np

from tests.bodies import GROUND, solver
from urst.core.geometry.convex import hull_of
from urst.core.geometry.mesh import Mesh, transformed
from urst.core.geometry.rotation import from_degrees, matrix
from urst.core.rigid import contacts, manifolds, substeps

#: spans that are reported apart [s]
SPANS = ((0.0, 1.0, "falling"), (1.0, 2.0, "colliding"), (2.0, 3.0, "settling"), (3.0, 5.0, "at rest"))
#: pieces go side by side in the column
_SIDE, _PITCH = 6, 0.55


def column(count: int, seed: int = 0) -> list[Mesh]:
    """Convex shards of 12 to 20 corners, 0.25 to 0.5 m across, in a loose column above the ground."""
    rng, meshes = np.random.default_rng(seed), []
    for k in range(count):
        points = rng.normal(size=(rng.integers(12, 21), 3))
        points *= 0.5 * rng.uniform(0.25, 0.5, 3) / np.linalg.norm(points, axis=1)[:, None]
        at = np.array([k % _SIDE, k // _SIDE % _SIDE, k // _SIDE**2]) * _PITCH + [0, 0, 0.4]
        turn = matrix(from_degrees(rng.uniform(-180, 180, 3)))
        meshes.append(transformed(hull_of(points).mesh(), turn, at + rng.uniform(-0.05, 0.05, 3)))
    return meshes


@contextmanager
def parts() -> Iterator[dict[str, float]]:
    """Count the CPU seconds spent in the parts of the solver while this holds."""
    spent: dict[str, float] = defaultdict(float)
    places = [
        (contacts.Contacts, "seek", "pairs"),
        (manifolds, "look", "contacts"),
        (substeps, "solve", "solving"),
        (substeps, "conclude", "moving"),
    ]

    def timed(work, name):
        def within(*args):
            began = time.process_time()
            done = work(*args)
            spent[name] += time.process_time() - began
            return done

        return within

    whole = [(place, name, getattr(place, name)) for place, name, _ in places]
    for (place, name, label), (_, _, work) in zip(places, whole):
        setattr(place, name, timed(work, label))
    try:
        yield spent
    finally:
        for place, name, work in whole:
            setattr(place, name, work)


def ours(count: int):
    """Yield (span, CPU s, wall s, deepest overlap [m], still moving, detail) of this solver."""
    s = solver([GROUND, *column(count)], fixed=(0,), density=2400.0)
    s.step(s.step_dt)
    with parts() as spent:
        for _, end, name in SPANS:
            spent.clear()
            cpu, wall, deep, touches = time.process_time(), time.perf_counter(), 0.0, 0
            while s.time < end - 1e-9:
                s.step(s.stable_dt())
                gap = s.contacts.pairs.gap[s.contacts.touching()]
                deep, touches = max(deep, -gap.min(initial=0.0)), touches + len(gap)
            cpu, wall = time.process_time() - cpu, time.perf_counter() - wall
            each = ", ".join(f"{part} {1e6 * t / max(touches, 1):.2f}" for part, t in spent.items())
            yield name, cpu, wall, deep, int(s.bodies.awake[1:].sum()), f"us a contact and check: {each}"


def theirs(count: int):
    """Yield the same of MuJoCo."""
    import mujoco

    rows = [
        "<mujoco><option timestep='0.00416666667' solver='CG'/><size memory='2000M'/>",
        "<default><geom friction='0.6' density='2400'/></default><asset>",
    ]
    middles = []
    for k, mesh in enumerate(column(count)):
        middles.append(mesh.vertices.mean(axis=0))
        corners = " ".join(f"{v:.7g}" for v in (mesh.vertices - middles[-1]).ravel())
        rows.append(f"<mesh name='m{k}' vertex='{corners}'/>")
    rows.append("</asset><worldbody><geom type='plane' size='0 0 1'/>")
    for k, at in enumerate(middles):
        place = " ".join(f"{x:.7g}" for x in at)
        rows.append(f"<body pos='{place}'><freejoint/><geom type='mesh' mesh='m{k}'/></body>")
    model = mujoco.MjModel.from_xml_string("".join(rows) + "</worldbody></mujoco>")
    data = mujoco.MjData(model)
    for begin, end, name in SPANS:
        cpu, wall, deep = time.process_time(), time.perf_counter(), 0.0
        for _ in range(round((end - begin) * 240)):
            mujoco.mj_step(model, data)
            if data.ncon:
                deep = max(deep, -float(data.contact.dist[: data.ncon].min()))
        speed = np.linalg.norm(data.qvel.reshape(-1, 6)[:, :3], axis=1)
        cpu, wall = time.process_time() - cpu, time.perf_counter() - wall
        yield name, cpu, wall, deep, int((speed > 0.01).sum()), ""


def rigid():
    """A pile, span by span, and the same of the general library where it is there."""
    for count in (300, 1000):
        total = {}
        for who, run in (("ours", ours), ("MuJoCo", theirs)):
            if run is theirs and not find_spec("mujoco"):
                continue
            spent = np.zeros(2)
            for name, cpu, wall, deep, moving, detail in run(count):
                spent += cpu, wall
                label = f"rigid: {count} shards {name}, {who}: {1e3 * deep:.1f} mm deep, {moving} moving"
                yield label, count, cpu
                if detail:
                    yield f"  {detail}", count, cpu
            total[who] = spent
        if len(total) == 2:
            ratio = total["MuJoCo"] / total["ours"]
            yield (
                f"  {count} shards: {ratio[0]:.1f} times as fast by CPU, {ratio[1]:.1f} by the clock",
                count,
                total["ours"][0],
            )
