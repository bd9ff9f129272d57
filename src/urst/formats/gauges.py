"""Gauges as CSV."""

import csv
from pathlib import Path


def write_gauges(path: Path, rows: dict[int, dict[str, float]]) -> None:
    """Write gauges as a table: one row a frame, SI units."""
    names = list(dict.fromkeys(n for row in rows.values() for n in row))
    with open(path, "w", newline="") as file:
        table = csv.writer(file)
        table.writerow(["frame", *names])
        table.writerows([frame, *(gauges.get(n, "") for n in names)] for frame, gauges in sorted(rows.items()))
