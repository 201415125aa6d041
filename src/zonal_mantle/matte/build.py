"""A zone's whole matte: pull, then keep shapes, then drop shapes."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..shot.zone import Matte
from .luma import luma
from .shapes import shape_alpha

Array = NDArray[np.float32]


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
        if shape.mode == "keep":
            alpha += (1 - alpha) * cover
        else:
            alpha *= 1 - cover
    return alpha
