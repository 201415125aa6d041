"""Pictures of 8 or 16 bits to light by a table of all their codes, where an encoding treats each channel alike and by
itself: the same values as by the transform itself, in a fraction of its time and memory."""

from __future__ import annotations

from functools import cache

import numba
import numpy as np
from numpy.typing import NDArray

from .bands import run_bands
from .colour import to_linear

Array = NDArray[np.float32]
Codes = NDArray[np.unsignedinteger]


def values_of(codes: Codes) -> Array:
    """Codes as values of 0…1, (…) float32."""
    return codes.astype(np.float32) * np.float32(1 / np.iinfo(codes.dtype).max)


@cache
def table_of(encoding: str, bits: int) -> Array | None:
    """Scene-linear light of every code of 8 or 16 bits, (2^bits,) float32; None where an encoding mixes the channels,
    or treats them differently."""
    coded = values_of(np.arange(1 << bits, dtype=np.uint8 if bits == 8 else np.uint16))
    light = to_linear(np.repeat(coded[None, :, None], 3, axis=2), encoding)[0]
    for channel in range(3):
        alone = np.zeros((1, len(coded), 3), np.float32)
        alone[..., channel] = coded
        wanted = np.full((len(coded), 3), light[0, 0], np.float32)
        wanted[:, channel] = light[:, 0]
        if not np.array_equal(to_linear(alone, encoding)[0], wanted):
            return None
    table = np.ascontiguousarray(light[:, 0])
    return table if np.isfinite(table).all() else None


def light_of(codes: Codes, table: Array) -> Array:
    """Light of a picture by its table.

    Parameters
    ----------
    codes : (h, w, 3), or (h, w, 4) with straight alpha, uint8 or uint16, contiguous.

    Returns
    -------
    The same shape, float32, scene-linear, premultiplied.
    """
    height, width, deep = codes.shape
    out = np.empty(codes.shape, np.float32)
    if deep == 3:
        run_bands(_look_up_rows, height, codes.reshape(height, width * 3), table, out.reshape(height, width * 3))
    else:
        run_bands(_look_up_straight_rows, height, codes, table, np.float32(1 / np.iinfo(codes.dtype).max), out)
    return out


@numba.njit(cache=True, nogil=True)
def _look_up_rows(y0, y1, codes, table, out):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(codes.shape[1]):
            out[y, x] = table[codes[y, x]]


@numba.njit(cache=True, nogil=True)
def _look_up_straight_rows(y0, y1, codes, table, step, out):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(codes.shape[1]):
            alpha = np.float32(codes[y, x, 3]) * step
            for c in range(3):
                out[y, x, c] = table[codes[y, x, c]] * alpha
            out[y, x, 3] = alpha
