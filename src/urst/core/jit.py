"""The one set of Numba flags every kernel is compiled with.

NaN and infinity keep their meaning (no fastmath): solvers must be able to see them.
"""

from numba import njit

serial = njit(cache=True, nogil=True, error_model="numpy")
parallel = njit(cache=True, nogil=True, error_model="numpy", parallel=True)
inline = njit(inline="always", error_model="numpy")
