"""Oklab inside kernels: a space in which equal distances look equally far apart.

References
----------
Ottosson 2020, *A perceptual color space for image processing*, with the matrices for linear sRGB primaries.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..media.compiled import fast_kernel, fast_part
from ..media.powers import exp2_of, log2_of

_F = np.float32
_THIRD = _F(1 / 3)


@fast_part
def _root(x):  # type: ignore[no-untyped-def]
    small = _F(1e-12)
    a = abs(x)
    a = a if a < _F(65504) else _F(65504)
    root = exp2_of(log2_of(max(a, small)) * _THIRD)
    return -root if x < _F(0) else root


@fast_part
def oklab_row(row, lightness, out):  # type: ignore[no-untyped-def]
    """A flat row of scene-linear RGB as flat Oklab, its lightness times a weight."""
    at = np.uintp
    for x in range(at(row.shape[0] // 3)):
        k = at(3) * x
        r, g, b = row[k], row[k + at(1)], row[k + at(2)]
        l = _root(_F(0.4122214708) * r + _F(0.5363325363) * g + _F(0.0514459929) * b)
        m = _root(_F(0.2119034982) * r + _F(0.6806995451) * g + _F(0.1073969566) * b)
        s = _root(_F(0.0883024619) * r + _F(0.2817188376) * g + _F(0.6299787005) * b)
        out[k] = lightness * (_F(0.2104542553) * l + _F(0.7936177850) * m - _F(0.0040720468) * s)
        out[k + at(1)] = _F(1.9779984951) * l - _F(2.4285922050) * m + _F(0.4505937099) * s
        out[k + at(2)] = _F(0.0259040371) * l + _F(0.7827717662) * m - _F(0.8086757660) * s


@fast_kernel
def _oklab_flat(row, lightness, out):  # type: ignore[no-untyped-def]
    oklab_row(row, lightness, out)


def oklab(colours: NDArray) -> NDArray[np.float32]:
    """Scene-linear colours, (…, 3), in Oklab."""
    flat = np.ascontiguousarray(colours, np.float32).reshape(-1)
    out = np.empty_like(flat)
    _oklab_flat(flat, _F(1), out)
    return out.reshape(np.shape(colours))
