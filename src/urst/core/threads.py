"""Kernels over ranges, shared out to threads."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import lru_cache

import numba


@lru_cache
def _pool(count: int) -> ThreadPoolExecutor:
    return ThreadPoolExecutor(count, thread_name_prefix="kernel")


def share(kernel: Callable[[int, int], None], total: int, least: int) -> None:
    """Call a kernel that lets go of the interpreter on parts of 0 to `total`, side by side.

    What the kernel writes for one number must not depend on what it does for others: then the parts change nothing.

    Parameters
    ----------
    kernel : callable
        Takes the first number and the one after the last.
    total : int
    least : int
        Numbers that are worth a thread.
    """
    threads = min(numba.get_num_threads(), total // max(least, 1))
    if threads <= 1:
        kernel(0, total)
        return
    # twice as many parts as threads, so that one that got the easy ones has more to do
    parts = 2 * threads
    ends = [total * k // parts for k in range(parts + 1)]
    for done in [_pool(threads).submit(kernel, a, b) for a, b in zip(ends, ends[1:])]:
        done.result()
