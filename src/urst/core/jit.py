"""The one set of Numba flags every kernel is compiled with.

NaN and infinity keep their meaning (no fastmath): solvers must be able to see them.
"""

from numba import config, njit

# Numba would take whatever threading library it finds. A machine's TBB beside the one that USD brings along hangs the
# process at its end, and OpenMP collapses beside other load; Numba's own pool is always there and does neither.
config.THREADING_LAYER = "workqueue"  # type: ignore[attr-defined]

serial = njit(cache=True, nogil=True, error_model="numpy")
parallel = njit(cache=True, nogil=True, error_model="numpy", parallel=True)
inline = njit(inline="always", error_model="numpy")
