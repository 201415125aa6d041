"""A working picture without its thin lines: a wire from side to side would part the sky below it from the frame's top.

A pixel is of a line where it stands out of what is about it, and that is even: the middle of a window that a line
covers less than half of does not know of it, nor the distance from it, cut off (Huber & Ronchetti, Robust Statistics,
2009, chapters 3 and 4). Leaves and other textures are not even and stay.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float32]

WINDOW = 15  # working pixels: what is less than half as wide is taken out
MEAN = np.full((1, 3), 1 / 3, np.float32)
CODES = 200.0  # whole numbers to one coded unit; cv2 finds the middle of 256 of them, slowly: of every second pixel
MOST_APART, LEAST_ALIKE = 0.09, 0.5  # coded, from the middle, and the share of a window that is as near
EVEN, LEAST_EVEN = 1.5, 0.03  # noises, coded: the usual distance in what is even; clouds are, leaves are not
STANDS_OUT, LEAST_OUT = 4.0, 0.03  # noises, or usual distances; coded
RIM = 2.0  # noises, of what lies beside a line
MOST_LINES = 0.15  # of a picture: with more it is no sky behind lines
BROAD, MOST_PALE = 61, 0.12  # working pixels; of what is about a pale line: with more it is mortar
DARK = (0.04, 0.1)  # coded, that a thing is darker by than the sky about it
SHARP = (0.25, 0.4)  # of that, a working pixel: dark clouds are softer


def without_lines(picture: Array, noise: float) -> tuple[Array, Array]:
    """A picture in which thin things before what is even are filled with it; and where they are so dark before it that
    they are no cloud, (h, w), 0…1.

    Parameters
    ----------
    picture : (h, w, 3) coded. noise : its standard deviation, coded.

    Example
    -------
    >>> sky = np.full((40, 60, 3), 0.6, np.float32)
    >>> sky[20:22] = 0.1
    >>> bare, dark = without_lines(sky, 0.006)
    >>> round(float(bare.min()), 2), float(dark[20:22].min()), float(dark[:18].max())
    (0.6, 1.0, 0.0)
    """
    height, width = picture.shape[:2]
    level = np.asarray(cv2.transform(picture, MEAN), np.float32)
    codes = np.clip(level[::2, ::2] * CODES, 0, 255).astype(np.uint8)
    middle = cv2.medianBlur(codes, WINDOW // 2).astype(np.float32) / np.float32(CODES)
    middle = np.asarray(cv2.resize(middle, (width, height), interpolation=cv2.INTER_LINEAR), np.float32)
    far = np.abs(level - middle)
    alike = (far <= MOST_APART).astype(np.float32)
    share = cv2.blur(alike, (WINDOW, WINDOW))
    usual = cv2.blur(far * alike, (WINDOW, WINDOW)) / np.maximum(share, 1e-3)
    even = (share > LEAST_ALIKE) & (usual <= max(EVEN * noise, LEAST_EVEN))
    line = even & (far > np.maximum(STANDS_OUT * usual, max(STANDS_OUT * noise, LEAST_OUT)))
    beside = cv2.dilate(line.astype(np.uint8), np.ones((3, 3), np.uint8)) > 0
    line |= beside & even & (far > np.maximum(RIM * usual, RIM * noise))
    lined = cv2.blur(line.astype(np.float32), (BROAD, BROAD))
    if line.mean() > MOST_LINES:  # a wall of bricks, a page
        line[:] = False
    line &= (level < middle) | (lined < MOST_PALE)
    darker = np.where(line, middle - level, 0).astype(np.float32)
    slope = cv2.magnitude(cv2.Sobel(level, -1, 1, 0), cv2.Sobel(level, -1, 0, 1)) / 8
    steepest = cv2.dilate(slope, np.ones((WINDOW // 2,) * 2))
    dark = _ramp(darker, DARK) * _ramp(np.asarray(steepest / np.maximum(darker, 1e-6), np.float32), SHARP)
    return _filled(picture, line), np.asarray(dark, np.float32)


def _filled(picture: Array, line: NDArray[np.bool_]) -> Array:
    """With the mean of what is no line about each pixel of one, of every second one."""
    if not line.any():
        return picture
    height, width = line.shape
    held = (~line[::2, ::2]).astype(np.float32)
    side = (WINDOW // 2,) * 2
    light = cv2.blur(picture[::2, ::2] * held[..., None], side)
    mean = light / np.maximum(cv2.blur(held, side), 1e-3)[..., None]
    out = picture.copy()
    out[line] = cv2.resize(mean, (width, height), interpolation=cv2.INTER_LINEAR)[line]
    return out


def _ramp(value: Array, ends: tuple[float, float]) -> Array:
    return np.asarray(np.clip((value - ends[0]) / (ends[1] - ends[0]), 0, 1), np.float32)
