"""How much memory there is to work in, and who gives way when there is none."""

import contextlib
from pathlib import Path

_MEMINFO, _BOUND = Path("/proc/meminfo"), Path("/sys/fs/cgroup/memory.max")
#: of 1,000, by which the kernel chooses whom it ends
_GIVES_WAY = 500


def memory() -> tuple[float, float]:
    """Return how much memory work may take here at all, and how much of it is free now [bytes]; a bound on a container
    counts."""
    found = dict(line.split(":") for line in _MEMINFO.read_text().splitlines())
    total, free = (1024.0 * float(found[name].split()[0]) for name in ("MemTotal", "MemAvailable"))
    try:
        total = min(total, float(_BOUND.read_text()))
    except (OSError, ValueError):
        pass
    return total, min(total, free)


def give_way() -> None:
    """Let this process be the first to end where the machine has no memory left, before the database and the pages."""
    with contextlib.suppress(OSError):
        Path("/proc/self/oom_score_adj").write_text(str(_GIVES_WAY))
