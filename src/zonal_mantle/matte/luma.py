"""The luma pull: a matte from weighted brightness of the coded feed."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.curves import coded_table, lookup
from ..shot.zone import LumaPull

Array = NDArray[np.float32]

PRESETS: dict[str, tuple[float, float, float]] = {
    "Luma": (0.2126, 0.7152, 0.0722),  # ITU-R BT.709-6, item 3.2
    "Red": (1.0, 0.0, 0.0),
    "Green": (0.0, 1.0, 0.0),
    "Blue": (0.0, 0.0, 1.0),
    "Red + blue": (0.5, 0.0, 0.5),
}


@numba.njit(cache=True, nogil=True)
def _rows(y0, y1, pixels, table, weights, levels, invert, clamp, out):  # type: ignore[no-untyped-def]
    low, low_soft, high, high_soft, gain = levels
    for y in range(y0, y1):
        for x in range(pixels.shape[1]):
            value = np.float32(0.0)
            for c in range(3):
                if weights[c] != 0:
                    value += weights[c] * lookup(table, pixels[y, x, c])
            if value < low:
                rise = 1 - (low - value) / low_soft if low_soft > 0 else np.float32(0.0)
            else:
                rise = np.float32(1.0)
            if value > high:
                fall = 1 - (value - high) / high_soft if high_soft > 0 else np.float32(0.0)
            else:
                fall = np.float32(1.0)
            alpha = max(min(rise, fall), np.float32(0.0))
            if invert:
                alpha = 1 - alpha
            alpha *= gain
            if clamp:
                alpha = min(max(alpha, np.float32(0.0)), np.float32(1.0))
            out[y, x] = alpha


def luma(pixels: Array, pull: LumaPull, frame: float = 0) -> Array:
    """Pulls a matte from brightness.

    Parameters
    ----------
    pixels : (h, w, 3) float32, scene-linear.
    pull : thresholds in coded values (0 black, 1 white), weights, invert, gain, clamp.
    frame : where keyed thresholds are read.

    Returns
    -------
    (h, w) float32 alpha; within 0…1 when the pull clamps.
    """
    levels: tuple[np.float32, ...] = tuple(
        np.float32(part.at(frame)) for part in (pull.low, pull.low_softness, pull.high, pull.high_softness, pull.gain)
    )
    out = np.empty(pixels.shape[:2], np.float32)
    weights = np.array(pull.weights, np.float32)
    run_bands(_rows, pixels.shape[0], pixels, coded_table(), weights, levels, pull.invert, pull.clamp, out)
    return out
