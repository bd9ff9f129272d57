"""Runs under Debian's Python, which has OpenVDB: writes or reads grids handed over as NumPy files."""

import os
import sys

import numpy
import pyopenvdb

#: what grids are called, of which class they are, and what they hold where nothing is, in cells
KINDS = {
    "density": ("density", pyopenvdb.GridClass.FOG_VOLUME, 0.0),
    "levels": ("surface", pyopenvdb.GridClass.LEVEL_SET, 3.0),
}


def write(kind, cell, x, y, z, *files) -> None:
    name, grid_class, beyond = KINDS[kind]
    cell, centre = float(cell), [float(v) + 0.5 * float(cell) for v in (x, y, z)]
    for source, target in zip(files[::2], files[1::2]):
        width = beyond * float(cell)
        grid = pyopenvdb.FloatGrid(width)
        values = numpy.load(source)
        grid.copyFromArray(numpy.clip(values, -width, width) if width else values, tolerance=1e-6)
        grid.transform = pyopenvdb.createLinearTransform(
            [[cell, 0, 0, 0], [0, cell, 0, 0], [0, 0, cell, 0], [*centre, 1]]
        )
        grid.gridClass, grid.name = grid_class, name
        part = target + ".part"
        pyopenvdb.write(part, grids=[grid])
        os.replace(part, target)


def read(kind, source, target, nx, ny, nz) -> None:
    grid = pyopenvdb.read(source, KINDS[kind][0])
    values = numpy.zeros((int(nx), int(ny), int(nz)), numpy.float32)
    grid.copyToArray(values)
    origin = numpy.array(grid.transform.indexToWorld((-0.5, -0.5, -0.5)))
    numpy.savez(target, values=values, cell=grid.transform.voxelSize()[0], origin=origin)


if sys.argv[1] == "write":
    write(*sys.argv[2:])
else:
    read(*sys.argv[2:])
