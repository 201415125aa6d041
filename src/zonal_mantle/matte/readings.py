"""What is wrong inside a matte, as numbers."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ..shot.zone import Matte
from .shapes import shape_alpha

Array = NDArray[np.float32]

SOLID, EMPTY = 0.99, 0.01


@dataclass(frozen=True)
class MatteReading:
    """Shares, 0…1: of the keep area that is not solid, and of the dropped area that is not empty."""

    holes: float
    leftover: float


def read_matte(alpha: Array, matte: Matte, frame: float, scale: float = 1.0) -> MatteReading:
    """Measures holes and leftover.

    The keep area is where most of the neighbourhood (a twenty-fifth of the picture's width) is solid, and
    all that keep shapes enclose; the dropped area likewise. Edges themselves belong to neither.

    Parameters
    ----------
    alpha : (h, w) float32, the finished matte.
    """
    height, width = alpha.shape
    reach = max(3, width // 25) | 1
    share = cv2.blur(np.clip(alpha, 0, 1), (reach, reach), borderType=cv2.BORDER_REPLICATE)
    window = np.ones((reach, reach), np.uint8)
    keep = cv2.erode((share > 0.5).astype(np.uint8), window, borderValue=1) > 0
    drop = cv2.erode((share <= 0.5).astype(np.uint8), window, borderValue=1) > 0
    for shape in matte.shapes:
        if not shape.on:
            continue
        inside = shape_alpha(shape.but(feather_px=0.0), frame, (width, height), scale) > 0.999
        if shape.feather_px > 0:
            radius = int(np.ceil(shape.feather_px * scale * 1.5)) * 2 + 1
            inside = cv2.erode(inside.astype(np.uint8), np.ones((radius, radius), np.uint8)) > 0
        if shape.mode == "keep":
            keep, drop = keep | inside, drop & ~inside
        else:
            keep, drop = keep & ~inside, drop | inside
    return MatteReading(
        holes=float(np.count_nonzero(alpha[keep] < SOLID) / max(int(np.count_nonzero(keep)), 1)),
        leftover=float(np.count_nonzero(alpha[drop] > EMPTY) / max(int(np.count_nonzero(drop)), 1)),
    )
