"""Slope, offset, power, saturation: the ASC CDL, on scene-linear colour, as one stage of a tone."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .tone import REC709_LUMA

Array = NDArray[np.float32]


def cdl(pixels: Array, slope: NDArray, offset: NDArray, power: NDArray, saturation: float) -> NDArray:
    """The grade by formula, for scene-linear colour: nothing is clamped above, only below before the power.

    Parameters
    ----------
    pixels : (…, 3), not premultiplied.

    References
    ----------
    ASC Color Decision List Transfer Functions and Interchange Syntax 1.2: out = (in · slope + offset) ^ power, then
    out = luma + saturation · (out − luma), with Rec. 709's weights. The clamp at 1 is left out, as for scene-linear
    pictures.
    """
    base = np.asarray(pixels, np.float64) * slope + offset
    graded = np.where(np.asarray(power) == 1, base, np.maximum(base, 0) ** power)
    luma = graded @ np.array(REC709_LUMA)
    return np.asarray(luma[..., None] + saturation * (graded - luma[..., None]))
