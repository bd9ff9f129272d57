"""The core's own tests once more with every index of every kernel checked: a write out of bounds says where it is."""

import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

#: the parts whose kernels write into rooms of their own reckoning
PARTS = ("geometry", "fracture", "rigid", "bonds", "direct", "debris", "pressure", "coupling")


class Bounds(unittest.TestCase):
    def test_no_kernel_leaves_its_arrays(self):
        # compiled kernels are kept apart from the unchecked ones
        with tempfile.TemporaryDirectory() as folder:
            env = os.environ | {"NUMBA_BOUNDSCHECK": "1", "NUMBA_CACHE_DIR": folder}
            done = subprocess.run(
                [sys.executable, "-m", "tests", *PARTS],
                cwd=Path(__file__).parent.parent,
                env=env,
                capture_output=True,
                text=True,
            )
        self.assertEqual(done.returncode, 0, (done.stdout + done.stderr)[-4000:])


if __name__ == "__main__":
    unittest.main()
