"""Proper minification: a painting is made smaller by area before it is sampled."""

from __future__ import annotations

import math

import cv2
import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float32]
STEPS_AN_OCTAVE = 4


def shrink_steps(matrix: NDArray) -> tuple[int, int]:
    """How many quarter octaves a painting is shrunk across and down before the warp `matrix` samples it."""
    across, down = float(np.linalg.norm(matrix[:2, 0])), float(np.linalg.norm(matrix[:2, 1]))
    x, y = (math.floor(-math.log2(max(s, 1e-3)) * STEPS_AN_OCTAVE + 1e-6) for s in (across, down))
    return max(0, x), max(0, y)


def shrunk(painting: Array, steps: tuple[int, int]) -> Array:
    """A painting shrunk by quarter octaves, each pixel the mean of what it covers. (h, w, c) float32."""
    if steps == (0, 0):
        return painting
    height, width = painting.shape[:2]
    new_w = max(4, round(width * 2 ** (-steps[0] / STEPS_AN_OCTAVE)))
    new_h = max(4, round(height * 2 ** (-steps[1] / STEPS_AN_OCTAVE)))
    return np.asarray(cv2.resize(painting, (new_w, new_h), interpolation=cv2.INTER_AREA))
