"""The one set of Numba flags every kernel is compiled with.

NaN and infinity keep their meaning (no fastmath): solvers must be able to see them.
"""

from collections.abc import Callable
from typing import Any

import llvmlite.binding as llvm  # type: ignore[import-untyped]
from numba import config, njit

from urst.core import kernel_cache

#: what a kernel is called with is checked by Numba
_Compile = Callable[[Callable[..., Any]], Callable[..., Any]]

# Numba would take whatever threading library it finds. A machine's TBB beside the one that USD brings along hangs the
# process at its end, and OpenMP collapses beside other load; Numba's own pool is always there and does neither.
config.THREADING_LAYER = "workqueue"  # type: ignore[attr-defined]

config.CACHE_LOCATOR_CLASSES = kernel_cache.LOCATORS  # type: ignore[attr-defined]

# loops over a handful of lanes are worth turning into vector instructions, which LLVM would leave
llvm.set_option("", "-vectorizer-min-trip-count=4")

serial: _Compile = njit(cache=True, nogil=True, error_model="numpy")
#: products and sums may be taken in one rounding: for loops of nothing but arithmetic
fused: _Compile = njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
#: loops are written as they are to run: to look for what could be fused takes an eighth of the time to compile
parallel: _Compile = njit(cache=True, nogil=True, error_model="numpy", parallel={"fusion": False})  # type: ignore[call-overload]
inline: _Compile = njit(inline="always", error_model="numpy")
#: for what is called by the million within other kernels: it may make, cut or return no array, since it counts no
#: references. Taken in by LLVM: sooner compiled than what `inline` has Numba write out at each place, as quick
kernel: _Compile = njit(cache=True, nogil=True, error_model="numpy", _nrt=False, forceinline=True)  # type: ignore[call-overload]
#: the same for what is long and called seldom: a call is cheaper than to compile it at each place
called: _Compile = njit(cache=True, nogil=True, error_model="numpy", _nrt=False)  # type: ignore[call-overload]
