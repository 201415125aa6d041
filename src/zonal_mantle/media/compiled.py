"""How kernels are compiled: a kernel is called from Python and kept compiled; a part lives inside kernels.

A part is compiled by itself, once, and always inlined by LLVM (`alwaysinline`). So a kernel is one piece of code, which
gives the same bits compiled anew and from its cache. Were it inlined by Numba, before types are known, all of it would
be worked out again wherever it is used: kernels took more than twice as long to compile.
"""

from __future__ import annotations

import numba

FAST = {"contract", "arcp", "nsz", "reassoc"}  # sums may be fused and put in another order; NaN stays what it is

kernel = numba.njit(cache=True, nogil=True, error_model="numpy")
fast_kernel = numba.njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy")
part = numba.njit(forceinline=True, nogil=True, error_model="numpy")
fast_part = numba.njit(forceinline=True, nogil=True, fastmath=FAST, error_model="numpy")
