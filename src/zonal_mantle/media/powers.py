"""Logarithm, power and the coded feed's curve for use inside kernels: no branches and no tables, so that loops over a
row become vector code.

References
----------
log2 by the odd series of artanh about 1 (Abramowitz & Stegun 4.1.27), exp2 by its Taylor series about the nearest whole
number (4.2.1); both are within 2 units of the last place of float32 over the range used.
"""

from __future__ import annotations

import numpy as np

from .compiled import fast_part

_F, _I = np.float32, np.int32
_HALF_ROOT = _I(0x3F3504F3)  # the bits of √½: mantissas are taken from √½ to √2
_LOG = tuple(_F(2 / np.log(2) / n) for n in (1, 3, 5, 7))
_EXP = tuple(_F(v) for v in np.cumprod([1.0] + [np.log(2) / n for n in range(1, 8)]))
_GAMMA = _F(1 / 2.4)
_LARGEST = _F(65504)  # of half float (IEEE 754)


@fast_part
def log2_of(x):  # type: ignore[no-untyped-def]
    """log₂ of a normal positive float32."""
    bits = _F(x).view(_I)
    exponent = _I((bits - _HALF_ROOT) >> _I(23))
    mantissa = _I(bits - _I(exponent << _I(23))).view(_F)
    t = (mantissa - _F(1)) / (mantissa + _F(1))
    s = t * t
    return _F(exponent) + t * (_LOG[0] + s * (_LOG[1] + s * (_LOG[2] + s * _LOG[3])))


@fast_part
def exp2_of(y):  # type: ignore[no-untyped-def]
    """2 to the power of a float32, held within the normal floats."""
    y = min(max(y, _F(-126)), _F(127))
    whole = np.floor(y + _F(0.5))
    f = y - whole
    p = _EXP[4] + f * (_EXP[5] + f * (_EXP[6] + f * _EXP[7]))
    p = _EXP[0] + f * (_EXP[1] + f * (_EXP[2] + f * (_EXP[3] + f * p)))
    return p * _I((_I(whole) + _I(127)) << _I(23)).view(_F)


@fast_part
def power_of(x, exponent):  # type: ignore[no-untyped-def]
    """x to a positive power; 0 for what is not above 0."""
    small = _F(1e-37)
    return exp2_of(log2_of(max(x, small)) * exponent) if x > small else _F(0)


@fast_part
def coded_value(x):  # type: ignore[no-untyped-def]
    """The coded feed's curve, sRGB (IEC 61966-2-1:1999), odd about 0. NaN and infinity become the largest."""
    a = abs(x)
    a = a if a < _LARGEST else _LARGEST
    curved = _F(1.055) * exp2_of(log2_of(max(a, _F(1e-6))) * _GAMMA) - _F(0.055)
    value = curved if a > _F(0.0031308) else _F(12.92) * a
    return -value if x < _F(0) else value


@fast_part
def decoded_value(code):  # type: ignore[no-untyped-def]
    """Linear light of a coded value: the curve of `coded_value` back, odd about 0."""
    size = abs(code)
    high = power_of((size + _F(0.055)) * _F(1 / 1.055), _F(2.4))
    value = high if size > _F(0.04045) else size * _F(1 / 12.92)
    return -value if code < _F(0) else value


@fast_part
def coded_row(row, out):  # type: ignore[no-untyped-def]
    """A flat row of linear values coded."""
    for k in range(out.shape[0]):
        out[k] = coded_value(row[k])
