"""Runs under Debian's Python, which has OpenVDB: writes or reads grids handed over as NumPy files."""

import os
import sys
from typing import Any

import numpy
import pyopenvdb

#: how a level set is called among arrays and in files, and how far from the surface it goes [cells]
LEVELS, SURFACE, BAND = "levels", "surface", 3.0


def write(cell: str, x: str, y: str, z: str, *files: str) -> None:
    size = float(cell)
    centre = [float(v) + 0.5 * size for v in (x, y, z)]
    for source, target in zip(files[::2], files[1::2]):
        with numpy.load(source) as arrays:
            grids = [_grid(name, arrays[name], size) for name in arrays]
        for grid in grids:
            grid.transform = pyopenvdb.createLinearTransform(
                [[size, 0, 0, 0], [0, size, 0, 0], [0, 0, size, 0], [*centre, 1]]
            )
        part = target + ".part"
        pyopenvdb.write(part, grids=grids)
        os.replace(part, target)


def _grid(name: str, values: numpy.ndarray, cell: float) -> Any:
    if name == LEVELS:
        width = BAND * cell
        grid = pyopenvdb.FloatGrid(width)
        grid.copyFromArray(numpy.clip(values, -width, width), tolerance=1e-6)
        grid.gridClass, grid.name = pyopenvdb.GridClass.LEVEL_SET, SURFACE
    elif values.ndim == 4:
        grid = pyopenvdb.Vec3SGrid()
        grid.copyFromArray(values, tolerance=(1e-6, 1e-6, 1e-6))
        grid.name = name
    else:
        grid = pyopenvdb.FloatGrid(0.0)
        grid.copyFromArray(values, tolerance=1e-6)
        grid.gridClass, grid.name = pyopenvdb.GridClass.FOG_VOLUME, name
    return grid


def read(name: str, source: str, target: str, *shape: str) -> None:
    grid = pyopenvdb.read(source, SURFACE if name == LEVELS else name)
    values = numpy.zeros([int(n) for n in shape], numpy.float32)
    grid.copyToArray(values)
    origin = numpy.array(grid.transform.indexToWorld((-0.5, -0.5, -0.5)))
    numpy.savez(target, values=values, cell=grid.transform.voxelSize()[0], origin=origin)


if sys.argv[1] == "write":
    write(*sys.argv[2:])
else:
    read(*sys.argv[2:])
