"""The core's own tests once more with every index of every kernel checked: a write out of bounds says where it is."""

import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

#: those whose kernels write into rooms of their own reckoning; of what takes long, enough to call them all
PARTS = (
    "test_geometry", "test_fracture", "test_rigid.State", "test_rigid.Driven", "test_rigid.Bounce", "test_rigid.Impacts",
    "test_rigid.Incline", "test_bonds.Lumps", "test_bonds.Whole", "test_direct.Events", "test_direct.Joints", "test_debris",
    "test_pressure", "test_coupling",
)  # fmt: skip


class Bounds(unittest.TestCase):
    def test_no_kernel_leaves_its_arrays(self):
        # compiled kernels are kept apart from the unchecked ones
        with tempfile.TemporaryDirectory() as folder:
            env = os.environ | {"NUMBA_BOUNDSCHECK": "1", "NUMBA_CACHE_DIR": folder}
            done = subprocess.run(
                [sys.executable, "-m", "unittest", *(f"tests.{part}" for part in PARTS)],
                cwd=Path(__file__).parent.parent,
                env=env,
                capture_output=True,
                text=True,
            )
        self.assertEqual(done.returncode, 0, (done.stdout + done.stderr)[-4000:])


if __name__ == "__main__":
    unittest.main()
