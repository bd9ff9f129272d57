"""Set pieces made from a few numbers.

Every generator returns a list of meshes: one for a plain solid, several where the piece is built of parts that touch (a
wall of bricks). All are closed but terrain, which is a sheet. The base rests on z = 0 and stands centred on the
origin; z is up.
"""

from collections.abc import Sequence

import numpy as np

from urst.core.geometry.mesh import Mesh

_BOX_TRIANGLES = np.array(
    [
        [0, 2, 1],
        [0, 3, 2],
        [4, 5, 6],
        [4, 6, 7],
        [0, 1, 5],
        [0, 5, 4],
        [1, 2, 6],
        [1, 6, 5],
        [2, 3, 7],
        [2, 7, 6],
        [3, 0, 4],
        [3, 4, 7],
    ]
)


def box_between(low: Sequence[float] | np.ndarray, high: Sequence[float] | np.ndarray) -> Mesh:
    """Axis-aligned box from corner `low` to corner `high`, each (3,) [m].

    Parameters
    ----------
    low, high : (3,) float [m]
    """
    (x0, y0, z0), (x1, y1, z1) = low, high
    corners = [(x0, y0, z0), (x1, y0, z0), (x1, y1, z0), (x0, y1, z0)]
    corners += [(x0, y0, z1), (x1, y0, z1), (x1, y1, z1), (x0, y1, z1)]
    return Mesh(np.array(corners, float), _BOX_TRIANGLES)


def box(width: float, depth: float, height: float) -> list[Mesh]:
    """A box: extents along x, y and z [m].

    Parameters
    ----------
    width, depth, height : float [m]
    """
    return [box_between((-width / 2, -depth / 2, 0.0), (width / 2, depth / 2, height))]


def wall_bricks(width: float, height: float, brick_length: float, course_height: float) -> tuple[int, int, int]:
    """Return how many courses a wall of bricks has, how many bricks the first, and how many there are in all.

    Parameters
    ----------
    width, height : float
        Size of the wall [m].
    brick_length, course_height : float
        Size of a brick [m].
    """
    courses, per_course = max(1, round(height / course_height)), max(1, round(width / brick_length))
    # half bricks close each second course
    return courses, per_course, courses * per_course + courses // 2


def brick_wall(width: float, depth: float, height: float, brick_length: float, course_height: float) -> list[Mesh]:
    """A wall one brick deep in running bond, half a brick's shift from course to course.

    The courses and the bricks in a course are rounded to whole numbers so that the wall has just the given
    size; half bricks close each second course. Neighbours touch: the mortar is the bond, not a gap.

    Parameters
    ----------
    width, depth, height : float
        Size of the wall along x, y, z [m].
    brick_length, course_height : float
        Size of a brick along x and z [m].
    """
    courses, per_course, _ = wall_bricks(width, height, brick_length, course_height)
    length, rise = width / per_course, height / courses
    bricks = []
    for k in range(courses):
        joints = np.arange(per_course + 1) * length
        if k % 2:
            joints = np.concatenate([[0.0], joints[:-1] + length / 2, [width]])
        for left, right in zip(joints[:-1], joints[1:]):
            low = (left - width / 2, -depth / 2, k * rise)
            bricks.append(box_between(low, (right - width / 2, depth / 2, (k + 1) * rise)))
    return bricks


def prism(radius: float, height: float, sides: int) -> list[Mesh]:
    """An upright regular prism with `sides` faces inscribed in a circle of `radius` [m]: a drum, a column.

    Parameters
    ----------
    radius, height : float [m]
    sides : int
        At least 3.
    """
    angle = np.arange(sides) * 2 * np.pi / sides
    ring = np.stack([radius * np.cos(angle), radius * np.sin(angle)], axis=1)
    low = np.column_stack([ring, np.zeros(sides)])
    high = np.column_stack([ring, np.full(sides, height)])
    vertices = np.concatenate([low, high, [[0, 0, 0], [0, 0, height]]])
    triangles = []
    for i in range(sides):
        j = (i + 1) % sides
        triangles += [[i, j, sides + j], [i, sides + j, sides + i]]
        triangles += [[2 * sides, j, i], [2 * sides + 1, sides + i, sides + j]]
    return [Mesh(vertices, np.array(triangles))]


def ball(radius: float, rings: int = 10) -> list[Mesh]:
    """A faceted ball of `radius` [m] resting on z = 0, `rings` bands from pole to pole, twice as many sectors.

    Parameters
    ----------
    radius : float [m]
    rings : int
        At least 3.
    """
    sectors = 2 * rings
    polar = np.pi * np.arange(1, rings) / rings
    turn = 2 * np.pi * np.arange(sectors) / sectors
    grid = np.stack(
        [
            np.outer(np.sin(polar), np.cos(turn)),
            np.outer(np.sin(polar), np.sin(turn)),
            np.outer(np.cos(polar), np.ones(sectors)),
        ],
        axis=-1,
    ).reshape(-1, 3)
    vertices = np.concatenate([grid, [[0, 0, 1.0], [0, 0, -1.0]]]) * radius
    top, bottom = len(grid), len(grid) + 1
    triangles = []
    for j in range(sectors):
        k = (j + 1) % sectors
        triangles.append([top, j, k])
        last = (rings - 2) * sectors
        triangles.append([bottom, last + k, last + j])
        for i in range(rings - 2):
            a, b = i * sectors + j, i * sectors + k
            triangles += [[a, a + sectors, b + sectors], [a, b + sectors, b]]
    return [Mesh(vertices + [0, 0, radius], np.array(triangles))]


def terrain(width: float, depth: float, relief: float, feature: float, cells: int, seed: int) -> list[Mesh]:
    """Rolling ground as an open sheet: waves of random direction and phase, each octave half as long and half as high.

    Parameters
    ----------
    width, depth : float [m]
    relief : float
        From the lowest to the highest point [m]; the lowest lies at z = 0.
    feature : float
        Length of the longest waves [m].
    cells : int
        Squares along the longer side.
    seed : int
    """
    step = max(width, depth) / cells
    x = np.linspace(-width / 2, width / 2, max(1, round(width / step)) + 1)
    y = np.linspace(-depth / 2, depth / 2, max(1, round(depth / step)) + 1)
    gx, gy = np.meshgrid(x, y, indexing="ij")
    rng, height = np.random.default_rng(seed), np.zeros(gx.shape)
    for octave in range(5):
        for _ in range(4):
            turn, phase = rng.uniform(0, 2 * np.pi, 2)
            k = 2 * np.pi / feature * 2**octave * rng.uniform(0.7, 1.4)
            height += 0.5**octave * np.sin(k * (gx * np.cos(turn) + gy * np.sin(turn)) + phase)
    height -= height.min()
    height *= relief / max(height.max(), 1e-12)
    index = np.arange(gx.size).reshape(gx.shape)
    a, b, c, d = (i.ravel() for i in (index[:-1, :-1], index[1:, :-1], index[1:, 1:], index[:-1, 1:]))
    triangles = np.concatenate([np.stack([a, b, c], axis=1), np.stack([a, c, d], axis=1)])
    return [Mesh(np.stack([gx, gy, height], axis=-1).reshape(-1, 3), triangles)]
