"""Whether a painting covers all that the matte opens."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float32]
OPEN = 0.02


@dataclass(frozen=True)
class CoverageReading:
    """On how many frames the painting covers all that is open, and the worst frame with its uncovered share."""

    covered: int
    frames: int
    worst_frame: int
    worst_share: float


def uncovered(alpha: Array, matrix: NDArray, size: tuple[int, int], openness: Array) -> Array:
    """Pixels where the painting has run out.

    Beyond its rim the painting is taken to go on as its rim is: where that would be seen, it has run out.

    Parameters
    ----------
    alpha : (h, w) of the painting.
    matrix : (3, 3) painting pixels to picture pixels.
    openness : (height, width), share of light that passes all that is nearer.

    Returns
    -------
    (height, width) float32: what is missing, 0…1.
    """
    width, height = size
    inverse = np.linalg.inv(matrix)
    x, y = np.meshgrid(np.arange(width) + 0.5, np.arange(height) + 0.5)
    z = inverse[2, 0] * x + inverse[2, 1] * y + inverse[2, 2]
    u = (inverse[0, 0] * x + inverse[0, 1] * y + inverse[0, 2]) / z
    v = (inverse[1, 0] * x + inverse[1, 1] * y + inverse[1, 2]) / z
    h, w = alpha.shape
    outside = (u < 0) | (v < 0) | (u > w) | (v > h)
    if not outside.any():
        return np.zeros((height, width), np.float32)
    across, down = (
        (np.clip(u - 0.5, 0, w - 1)).astype(np.float32),
        np.clip(v - 0.5, 0, h - 1).astype(np.float32),
    )
    rim = cv2.remap(alpha, across, down, cv2.INTER_NEAREST)
    return np.asarray(np.where(outside, rim * openness, 0), np.float32)
