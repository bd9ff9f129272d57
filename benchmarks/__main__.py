"""Runs every benchmark and prints what it took in passes of a triad over as many elements.

usage: python -m benchmarks [fields] [rigid] [fracture] [debris] [gas] [liquid]
"""

import sys

from benchmarks import cases
from benchmarks.triad import triad_seconds_per_element


def main(words: list[str]) -> int:
    """Print one line a case."""
    element = triad_seconds_per_element()
    print(f"triad: {12 / element / 1e9:.1f} GB/s\n")
    print(f"{'case':<58}{'elements':>11}{'ms':>10}{'passes':>10}")
    for name in words or list(cases.CASES):
        for label, elements, seconds in cases.CASES[name]():
            print(
                f"{label:<58}{elements:>11,}{1e3 * seconds:>10.1f}{seconds / (element * elements):>10.0f}", flush=True
            )
    return 0


sys.exit(main(sys.argv[1:]))
