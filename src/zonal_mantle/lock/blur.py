"""Motion blur made alike: each of two frames is blurred by the other's motion, so that both carry both blurs."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float32]
SHUTTER = 0.5  # of the time from frame to frame; 180 degrees, common practice
ALIKE_PX = 0.8  # blurs that differ by less need no matching


def streak(motion_px: NDArray) -> NDArray[np.float32]:
    """The kernel of a uniform motion: a straight line of that length and direction about the middle, anti-aliased."""
    length = float(np.hypot(*motion_px))
    half = int(np.ceil(length / 2)) + 1
    out = np.zeros((2 * half + 1, 2 * half + 1), np.float32)
    count = max(8 * int(np.ceil(length)), 8)
    for t in (np.arange(count) + 0.5) / count - 0.5:
        x, y = half + t * motion_px[0], half + t * motion_px[1]
        i, j = int(np.floor(x)), int(np.floor(y))
        a, b = x - i, y - j
        for dj, v in ((0, 1 - b), (1, b)):
            for di, u in ((0, 1 - a), (1, a)):
                out[min(j + dj, 2 * half), min(i + di, 2 * half)] += u * v
    rows, columns = (np.flatnonzero(out.any(axis=axis)) for axis in (1, 0))
    high, wide = (max(half - each[0], each[-1] - half) for each in (rows, columns))  # the middle stays in the middle
    out = out[half - high : half + high + 1, half - wide : half + wide + 1]
    return np.asarray(out / out.sum(), np.float32)


def smeared(feed: Array, step_px: NDArray, shutter: float = SHUTTER) -> Array:
    """A frame blurred as one is that moves by a step from frame to frame."""
    motion = np.asarray(step_px, float) * shutter
    if float(np.hypot(*motion)) < 0.3:
        return feed
    return np.asarray(cv2.filter2D(feed, -1, streak(motion), borderType=cv2.BORDER_REPLICATE), np.float32)


def unlike(step_a: NDArray, step_b: NDArray, shutter: float = SHUTTER) -> bool:
    """Whether two frames, moving by these steps, are blurred so differently that they must be made alike."""
    a, b = np.asarray(step_a, float) * shutter, np.asarray(step_b, float) * shutter
    spread = np.outer(a, a) - np.outer(b, b)  # difference of the blurs' second moments, times 12
    return bool(np.sqrt(np.abs(np.linalg.eigvalsh(spread)).max()) > ALIKE_PX * 2)
