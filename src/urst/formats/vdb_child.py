"""Runs under Debian's Python, which has OpenVDB: writes or reads density grids handed over as NumPy files."""

import os
import sys

import numpy
import pyopenvdb


def write(cell, x, y, z, *files):
    cell, centre = float(cell), [float(v) + 0.5 * float(cell) for v in (x, y, z)]
    for source, target in zip(files[::2], files[1::2]):
        grid = pyopenvdb.FloatGrid()
        grid.copyFromArray(numpy.load(source), tolerance=1e-6)
        grid.transform = pyopenvdb.createLinearTransform(
            [[cell, 0, 0, 0], [0, cell, 0, 0], [0, 0, cell, 0], [*centre, 1]]
        )
        grid.gridClass, grid.name = pyopenvdb.GridClass.FOG_VOLUME, "density"
        part = target + ".part"
        pyopenvdb.write(part, grids=[grid])
        os.replace(part, target)


def read(source, target, nx, ny, nz):
    grid = pyopenvdb.read(source, "density")
    density = numpy.zeros((int(nx), int(ny), int(nz)), numpy.float32)
    grid.copyToArray(density)
    origin = numpy.array(grid.transform.indexToWorld((-0.5, -0.5, -0.5)))
    numpy.savez(target, density=density, cell=grid.transform.voxelSize()[0], origin=origin)


{"write": write, "read": read}[sys.argv[1]](*sys.argv[2:])
