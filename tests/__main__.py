"""Runs the tests: the fast ones first, then those with database, worker and browser. `fast` leaves the latter out."""

import faulthandler
import sys
import time
import unittest
import warnings

FAST = (
    "architecture",
    "geometry",
    "curves",
    "drawn",
    "fracture",
    "shells",
    "rigid",
    "land",
    "bonds",
    "direct",
    "debris",
    "pressure",
    "gas",
    "liquid",
    "waves",
    "afloat",
    "band",
    "air",
    "wet",
    "flows",
    "pouring",
    "vessels",
    "thick",
    "skin",
    "froth",
    "coupling",
    "shot",
    "layers",
    "kernels",
    "preflight",
    "store",
    "sound",
    "fuzz",
    "bake",
    "formats",
    "preview",
    "digests",
    "checkpoints",
)
FULL = (
    "launch",
    "jobs",
    "trust",
    "guard",
    "web",
    "web_curves",
    "web_view",
    "browser_modules",
    "browser",
    "browser_curves",
    "browser_view",
    "bounds",
)


#: a test that takes so long hangs [s]
HANGS = 1200


class _Result(unittest.TextTestResult):
    """Says how long each test took when it took long."""

    def startTest(self, test):  # noqa: N802
        self._began = time.monotonic()
        # one that hangs ends the run with its trace, rather than going on until somebody notices
        faulthandler.dump_traceback_later(HANGS, exit=True)
        super().startTest(test)

    def addSuccess(self, test):  # noqa: N802
        super().addSuccess(test)
        took = time.monotonic() - self._began
        if took > 5:
            self.stream.writeln(f"      ({took:.1f} s)")


def main(words: list[str]) -> int:
    """Run the suite; return 0 only if every test passed."""
    named = [w for w in words if w != "fast"]
    names = named or (FAST if "fast" in words else FAST + FULL)
    suite = unittest.defaultTestLoader.loadTestsFromNames([f"tests.test_{n}" for n in names])
    warnings.simplefilter("error")
    # libraries warn about each other's future; only what concerns this code is an error
    for module in (
        "trimesh",
        "manifold3d",
        "pygltflib",
        "starlette",
        "fastapi",
        "numba",
        "selenium",
        "dataclasses_json",
        "marshmallow",
    ):
        warnings.filterwarnings("default", module=rf"{module}(\..*)?")
    warnings.filterwarnings("default", category=DeprecationWarning)
    result = unittest.TextTestRunner(verbosity=2, resultclass=_Result, warnings=None).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = len(result.skipped)
    print(
        f"{max(0, result.testsRun - failed - skipped)} passed, {failed} failed"
        + (f", {skipped} skipped" if skipped else "")
    )
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
