"""The luma pull: a matte from weighted brightness of the coded feed."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.curves import coded_table, lookup
from ..shot.zone import LumaPull

Array = NDArray[np.float32]

_NONE = np.zeros((1, 1), np.float32)

PRESETS: dict[str, tuple[float, float, float]] = {
    "Luma": (0.2126, 0.7152, 0.0722),  # ITU-R BT.709-6, item 3.2
    "Red": (1.0, 0.0, 0.0),
    "Green": (0.0, 1.0, 0.0),
    "Blue": (0.0, 0.0, 1.0),
    "Red + blue": (0.5, 0.0, 0.5),
}


@numba.njit(cache=True, nogil=True, error_model="numpy")
def _rows(y0, y1, pixels, table, weights, levels, invert, clamp, keep, drop, shaped, out):  # type: ignore[no-untyped-def]
    low, low_soft, high, high_soft, gain = levels
    red, green, blue = weights
    zero, one = np.float32(0.0), np.float32(1.0)
    for y in range(y0, y1):
        for x in range(pixels.shape[1]):
            if shaped:  # where shapes decide, the pull need not be looked at
                if drop[y, x] >= one:
                    out[y, x] = zero
                    continue
                if keep[y, x] >= one:
                    out[y, x] = one - drop[y, x]
                    continue
            value = zero
            if red != zero:
                value += red * lookup(table, pixels[y, x, 0])
            if green != zero:
                value += green * lookup(table, pixels[y, x, 1])
            if blue != zero:
                value += blue * lookup(table, pixels[y, x, 2])
            alpha = one
            if value < low:
                alpha = one - (low - value) / low_soft if low_soft > zero else zero
            if value > high:
                fall = one - (value - high) / high_soft if high_soft > zero else zero
                alpha = min(alpha, fall)
            alpha = max(alpha, zero)
            if invert:
                alpha = one - alpha
            alpha *= gain
            if clamp:
                alpha = min(max(alpha, zero), one)
            if shaped:
                alpha = (alpha + (one - alpha) * keep[y, x]) * (one - drop[y, x])
            out[y, x] = alpha


def luma(pixels: Array, pull: LumaPull, frame: float = 0, shapes: tuple[Array, Array] | None = None) -> Array:
    """Pulls a matte from brightness.

    Parameters
    ----------
    pixels : (h, w, 3) float32, scene-linear.
    pull : thresholds in coded values (0 black, 1 white), weights, invert, gain, clamp.
    frame : where keyed thresholds are read.
    shapes : coverage of all keep shapes and of all drop shapes, each (h, w) float32, laid over the pull.

    Returns
    -------
    (h, w) float32 alpha; within 0…1 when the pull clamps.
    """
    levels: tuple[np.float32, ...] = tuple(
        np.float32(part.at(frame)) for part in (pull.low, pull.low_softness, pull.high, pull.high_softness, pull.gain)
    )
    out = np.empty(pixels.shape[:2], np.float32)
    covers = (_NONE, _NONE, False) if shapes is None else (*shapes, True)
    weights = tuple(np.float32(weight) for weight in pull.weights)
    run_bands(_rows, pixels.shape[0], pixels, coded_table(), weights, levels, pull.invert, pull.clamp, *covers, out)
    return out
