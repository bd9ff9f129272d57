"""How much memory there is to work in."""

from pathlib import Path

_MEMINFO, _BOUND = Path("/proc/meminfo"), Path("/sys/fs/cgroup/memory.max")


def memory() -> tuple[float, float]:
    """Return how much memory work may take here at all, and how much of it is free now [bytes]; a bound on a container counts."""
    found = dict(line.split(":") for line in _MEMINFO.read_text().splitlines())
    total, free = (1024.0 * float(found[name].split()[0]) for name in ("MemTotal", "MemAvailable"))
    try:
        total = min(total, float(_BOUND.read_text()))
    except (OSError, ValueError):
        pass
    return total, min(total, free)
