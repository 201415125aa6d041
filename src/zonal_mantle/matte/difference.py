"""The difference pull: a matte from the difference to a clean plate."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import fast_kernel
from ..media.powers import coded_value
from ..shot.matte import DifferencePull

Array = NDArray[np.float32]


@fast_kernel
def _rows(y0, y1, pixels, clean, tolerance, slope, out):  # type: ignore[no-untyped-def]
    zero, one = np.float32(0), np.float32(1)
    for y in range(y0, y1):
        for x in range(out.shape[1]):
            total = zero
            for c in range(3):
                step = coded_value(pixels[y, x, c]) - coded_value(clean[y, x, c])
                total += step * step
            seen = one if clean.shape[2] < 4 else clean[y, x, 3]
            stays = min(max((np.sqrt(total / np.float32(3)) - tolerance) * slope, zero), one)
            out[y, x] = stays if seen > np.float32(0.5) else one


def difference(pixels: Array, clean: Array, pull: DifferencePull, frame: float = 0) -> Array:
    """Pulls a matte from the difference to a clean plate.

    Parameters
    ----------
    pixels : (h, w, 3) float32, scene-linear.
    clean : (h, w, 3 or 4) float32, scene-linear; where its alpha is below ½ it says nothing and all stays.

    Returns
    -------
    (h, w) float32, 0…1: root mean square of the coded differences, from `tolerance` on.
    """
    out = np.empty(pixels.shape[:2], np.float32)
    slope = np.float32(1 / max(pull.softness.at(frame), 1e-6))
    run_bands(_rows, pixels.shape[0], pixels, clean, np.float32(pull.tolerance.at(frame)), slope, out)
    return out
