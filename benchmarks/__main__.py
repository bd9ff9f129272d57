"""Runs every benchmark and prints what it took in passes of a triad over as many elements, and what of the whole
application is promised.

usage: python -m benchmarks [fields] [rigid] [fracture] [debris] [gas] [liquid] [trust]
"""

import sys

from benchmarks import cases
from benchmarks.triad import triad_seconds_per_element
from benchmarks.trust import trust


def main(words: list[str]) -> int:
    """Print one line a case."""
    names = [name for name in cases.CASES if not words or name in words]
    if names:
        element = triad_seconds_per_element()
        print(f"triad: {12 / element / 1e9:.1f} GB/s\n")
        print(f"{'case':<58}{'elements':>11}{'ms':>10}{'passes':>10}")
    for name in names:
        for label, elements, seconds in cases.CASES[name]():
            print(
                f"{label:<58}{elements:>11,}{1e3 * seconds:>10.1f}{seconds / (element * elements):>10.0f}", flush=True
            )
    if not words or "trust" in words:
        print(f"\n{'promise':<78}{'found':>10}    {'asked':>6}")
        for label, figure, unit, asked in trust():
            print(f"{label:<78}{figure:>10.4g} {unit:<3}{asked:>6}", flush=True)
    return 0


sys.exit(main(sys.argv[1:]))
