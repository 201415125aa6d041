"""An area of a frame at one size: its pixels, weight and slopes, and where its pixels lie on the frame."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from .blur import smeared

Array = NDArray[np.float32]
Matrix = NDArray[np.float64]
_CENTRAL = np.array([-0.5, 0, 0.5], np.float32)


@dataclass(frozen=True)
class Level:
    """An area at one size: its pixels, their weight and slopes, and its place."""

    origin: tuple[int, int]
    pixels: Array
    mask: Array
    across: Array
    down: Array
    slope: Array  # power of the slopes of a small neighbourhood
    total: float  # of the mask


def pyramid(feed: Array, levels: int) -> list[Array]:
    """A frame and its halves: each pixel the mean of four, after a slight blur. A place halves with the size."""
    out = [np.ascontiguousarray(cv2.GaussianBlur(feed, (5, 5), 0.6))]
    for _ in range(levels - 1):
        last = out[-1]
        h, w = last.shape[0] // 2 * 2, last.shape[1] // 2 * 2
        soft = cv2.GaussianBlur(last[:h, :w], (5, 5), 0.6)
        out.append(np.ascontiguousarray(cv2.resize(soft, (w // 2, h // 2), interpolation=cv2.INTER_AREA)))
    return [np.asarray(each, np.float32) for each in out]


def level_of(feed: Array, mask: Array, box: tuple[int, int, int, int], step: int) -> Level:
    """An area, by its mask and box on the frame at full size, at the size of a feed that is `step` times smaller."""
    x0, y0 = max(box[0] // step - 1, 0), max(box[1] // step - 1, 0)
    x1, y1 = min(-(-box[2] // step) + 1, feed.shape[1]), min(-(-box[3] // step) + 1, feed.shape[0])
    small = mask if step == 1 else shrunk_to(mask, feed.shape)
    pixels = np.ascontiguousarray(feed[y0:y1, x0:x1])
    own = np.ascontiguousarray(small[y0:y1, x0:x1], np.float32).copy()
    own[[0, -1]], own[:, [0, -1]] = 0, 0
    return sloped((x0, y0), pixels, own)


def sloped(origin: tuple[int, int], pixels: Array, mask: Array) -> Level:
    """Pixels from a place of the feed on, with their slopes."""
    across = np.asarray(cv2.filter2D(pixels, -1, _CENTRAL[None]), np.float32)
    down = np.asarray(cv2.filter2D(pixels, -1, _CENTRAL[:, None]), np.float32)
    across[:, [0, -1]], down[[0, -1]] = 0, 0
    slope = np.asarray(cv2.blur(cv2.multiply(across, across) + cv2.multiply(down, down), (5, 5)), np.float32)
    return Level(origin, pixels, mask, across, down, slope, float(mask.sum()))


def smeared_part(picture: Array, part: tuple[int, ...], course_px: NDArray[np.float64]) -> Array:
    """Part of a picture (left, top, right, bottom), blurred by a course, with what lies around it taken along."""
    x0, y0, x1, y1 = part
    pad = int(np.ceil(np.hypot(*course_px[0]))) + 4
    left, top = min(pad, x0), min(pad, y0)
    soft = smeared(picture[y0 - top : y1 + pad, x0 - left : x1 + pad], course_px)
    return np.ascontiguousarray(soft[top : top + y1 - y0, left : left + x1 - x0])


def shrunk_to(mask: Array, shape: tuple[int, ...]) -> Array:
    """A mask at the size of a feed."""
    if mask.shape == shape:
        return mask
    return np.asarray(cv2.resize(mask, (shape[1], shape[0]), interpolation=cv2.INTER_AREA), np.float32)


def to_arrays(matrix: Matrix, origin: tuple[int, int], step: int) -> Matrix:
    """Full-size places of the area's frame → the other, as array places of the area → array places of the feed."""
    grow = np.array([[step, 0, 0.5 * step + step * origin[0]], [0, step, 0.5 * step + step * origin[1]], [0, 0, 1.0]])
    back = np.array([[1 / step, 0, -0.5], [0, 1 / step, -0.5], [0, 0, 1.0]])
    return np.asarray(back @ matrix @ grow)


def from_arrays(way: Matrix, origin: tuple[int, int], step: int) -> Matrix:
    """The inverse of `to_arrays`."""
    grow = np.array([[step, 0, 0.5 * step + step * origin[0]], [0, step, 0.5 * step + step * origin[1]], [0, 0, 1.0]])
    back = np.array([[1 / step, 0, -0.5], [0, 1 / step, -0.5], [0, 0, 1.0]])
    return np.asarray(np.linalg.inv(back) @ way @ np.linalg.inv(grow))
