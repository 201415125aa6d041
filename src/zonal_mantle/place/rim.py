"""What is seen beyond a painting's rim: the painting mirrored, and farther out a calm continuation of its sky."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..shot.hang import Rim

Array = NDArray[np.float32]
ENDS, MIRRORED, CALM, AROUND = 0, 1, 2, 3  # the kernels' words
SMALL = 192  # pixels across of what the calm continuation is made of
SOFT = 0.05  # standard deviation of its blur, of the painting's width
FADE = 0.15  # of the painting's smaller side, over which the mirrored picture gives way to it


def edge_of(rim: Rim, wraps: bool) -> int:
    """What the sampling kernel does beyond the rim."""
    if wraps:
        return AROUND
    return {"ends": ENDS, "mirrored": MIRRORED, "sky": CALM}[rim]


def calm_rim(painting: Array) -> Array:
    """A painting mirrored once on all four sides, and soft. (3 h', 3 w', 4) float32, premultiplied.

    A mirrored picture goes on without a step; soft as it is, its mirror axes are not seen.
    """
    height, width = painting.shape[:2]
    small_size = (min(SMALL, width), max(4, round(min(SMALL, width) * height / width)))
    small = np.asarray(cv2.resize(painting, small_size, interpolation=cv2.INTER_AREA), np.float32)
    across = np.concatenate([small[:, ::-1], small, small[:, ::-1]], axis=1)
    whole = np.concatenate([across[::-1], across, across[::-1]], axis=0)
    soft = cv2.GaussianBlur(whole, (0, 0), SOFT * small_size[0], borderType=cv2.BORDER_REFLECT)
    return np.ascontiguousarray(soft, np.float32)
