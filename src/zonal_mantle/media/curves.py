"""Transfer curves by formula; tables of them that the views look up by the bits of a float."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from .bands import run_bands
from .compiled import fast_kernel
from .powers import coded_value

Array = NDArray[np.float32]

LOWEST_EXPONENT, HIGHEST_EXPONENT = -16, 8
_BASE = np.int32((LOWEST_EXPONENT + 127) << 10)
_COUNT = (HIGHEST_EXPONENT - LOWEST_EXPONENT) << 10
_SMALLEST = np.float32(2.0**LOWEST_EXPONENT)


def srgb_encode(linear: NDArray) -> NDArray:
    """Scene-linear to sRGB-coded, odd about 0, going on above 1.

    References
    ----------
    IEC 61966-2-1:1999, with the constants of its amendment 1.
    """
    x = np.abs(np.asarray(linear, np.float64))
    coded = np.where(x <= 0.0031308, 12.92 * x, 1.055 * np.power(x, 1 / 2.4) - 0.055)
    return np.asarray(np.copysign(coded, linear))


def srgb_decode(coded: NDArray) -> NDArray:
    """sRGB-coded to scene-linear, odd about 0 (IEC 61966-2-1:1999)."""
    x = np.abs(np.asarray(coded, np.float64))
    linear = np.where(x <= 0.04045, x / 12.92, np.power((x + 0.055) / 1.055, 2.4))
    return np.asarray(np.copysign(linear, coded))


def bt709_encode(linear: NDArray) -> NDArray:
    """Scene-linear to Rec. 709 camera-coded (ITU-R BT.709-6, item 1.2)."""
    x = np.abs(np.asarray(linear, np.float64))
    coded = np.where(x < 0.018, 4.5 * x, 1.099 * np.power(x, 0.45) - 0.099)
    return np.asarray(np.copysign(coded, linear))


def bake(function: Callable[[NDArray], NDArray]) -> Array:
    """Tabulates a curve of one channel: an entry for each 1024th of an octave.

    Returns
    -------
    (n,) float32: value at 0, then 1024 values an octave from 2^-16 up to 2^8.
    """
    bits = (np.arange(_COUNT + 1, dtype=np.int64) + int(_BASE)) << 13
    x = bits.astype(np.int32).view(np.float32)
    values = np.asarray(function(np.concatenate([[0.0], x.astype(np.float64)])))
    return np.ascontiguousarray(values, np.float32)


@fast_kernel
def _coded_rows(y0, y1, pixels, out):  # type: ignore[no-untyped-def]
    """A row at a time is laid out flat first: only then the curve becomes vector code."""
    width = pixels.shape[1]
    row = np.empty(3 * width, np.float32)
    for y in range(y0, y1):
        for x in range(width):
            row[3 * x], row[3 * x + 1], row[3 * x + 2] = pixels[y, x, 0], pixels[y, x, 1], pixels[y, x, 2]
        codes = out[y].reshape(-1)
        for k in range(np.uintp(3 * width)):
            codes[k] = coded_value(row[k])


def coded(pixels: Array) -> Array:
    """The coded feed of a scene-linear picture. (h, w, 3) or (h, w, 4) float32 in, (h, w, 3) out."""
    out = np.empty((*pixels.shape[:2], 3), np.float32)
    run_bands(_coded_rows, pixels.shape[0], pixels, out)
    return out
