"""A zone's whole matte: pull, then keep shapes, then drop shapes."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..shot.zone import Matte
from .luma import luma
from .shapes import shape_alpha

Array = NDArray[np.float32]


@numba.njit(cache=True, nogil=True)
def _apply(y0, y1, cover, keep, alpha):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(alpha.shape[1]):
            c = cover[y, x]
            if c > 0:
                alpha[y, x] = alpha[y, x] + (1 - alpha[y, x]) * c if keep else alpha[y, x] * (1 - c)


def build_matte(pixels: Array, matte: Matte, frame: float, scale: float = 1.0) -> Array:
    """The alpha of what stays.

    Parameters
    ----------
    pixels : (h, w, 3) float32, the scene-linear plate at `scale`.
    matte : without a pull the matte starts empty when it has keep shapes, else solid.

    Returns
    -------
    (h, w) float32.
    """
    height, width = pixels.shape[:2]
    shapes = [shape for shape in matte.shapes if shape.on]
    if matte.pull is not None:
        alpha = luma(pixels, matte.pull, frame)
    else:
        alpha = np.full((height, width), 0.0 if any(s.mode == "keep" for s in shapes) else 1.0, np.float32)
    for shape in sorted(shapes, key=lambda shape: shape.mode == "drop"):
        cover = shape_alpha(shape, frame, (width, height), scale)
        run_bands(_apply, height, cover, shape.mode == "keep", alpha)
    return alpha
