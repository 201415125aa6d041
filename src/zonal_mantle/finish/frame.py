"""The frame as it leaves: reframing, size, bars.

References
----------
R. Keys, Cubic convolution interpolation for digital image processing, IEEE Trans. ASSP 29 (1981): the kernel with
a = -1/2; where a picture becomes smaller the kernel is as much wider, so that nothing aliases (Mitchell & Netravali,
Reconstruction filters in computer graphics, SIGGRAPH 1988).
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import kernel

Array = NDArray[np.float32]
Window = tuple[float, float, float, float]


def resampled(picture: Array, window: Window, size: tuple[int, int]) -> Array:
    """A window of a picture at another size.

    Parameters
    ----------
    picture : (h, w, 4) float32. window : x0, y0, x1, y1 in its pixels; what lies outside of it is opaque black.
    size : width and height.

    Returns
    -------
    (height, width, 4) float32. Where the window is whole pixels of the same size they are handed on as they are.
    """
    x0, y0, x1, y1 = window
    whole = all(float(v).is_integer() for v in window) and (x1 - x0, y1 - y0) == size
    if whole:
        return _cropped(picture, int(x0), int(y0), size)
    columns, rows = _taps(x0, x1, size[0], picture.shape[1]), _taps(y0, y1, size[1], picture.shape[0])
    across = np.empty((picture.shape[0], size[0], 4), np.float32)
    run_bands(_across_rows, picture.shape[0], picture, *columns, across)
    out = np.empty((size[1], size[0], 4), np.float32)
    run_bands(_down_rows, size[1], across, *rows, out)
    beyond = x0 < -1e-6 or y0 < -1e-6 or x1 > picture.shape[1] + 1e-6 or y1 > picture.shape[0] + 1e-6
    if beyond:
        inside = _inside(y0, y1, size[1], picture.shape[0])[:, None] * _inside(x0, x1, size[0], picture.shape[1])
        out[..., :3] *= inside[..., None]
        out[..., 3] = out[..., 3] * inside + (1 - inside)
    return out


def _cropped(picture: Array, x: int, y: int, size: tuple[int, int]) -> Array:
    height, width = picture.shape[:2]
    if x >= 0 and y >= 0 and x + size[0] <= width and y + size[1] <= height:
        return np.ascontiguousarray(picture[y : y + size[1], x : x + size[0]])
    out = np.zeros((size[1], size[0], 4), np.float32)
    out[..., 3] = 1
    left, top = max(x, 0), max(y, 0)
    right, foot = min(x + size[0], width), min(y + size[1], height)
    if right > left and foot > top:
        out[top - y : foot - y, left - x : right - x] = picture[top:foot, left:right]
    return out


def _inside(a: float, b: float, count: int, length: int) -> Array:
    """How much of each new pixel lies within the picture."""
    edges = a + np.arange(count + 1) * (b - a) / count
    held = np.clip(edges, 0, length)
    return np.asarray(np.diff(held) / np.diff(edges), np.float32)


@lru_cache(maxsize=16)
def _taps(a: float, b: float, count: int, length: int) -> tuple[NDArray[np.int64], Array]:
    """First pixel and weights, (count, taps), of each new pixel; beyond the ends the last pixel goes on."""
    step = (b - a) / count
    wide = max(step, 1.0)
    middle = a + (np.arange(count) + 0.5) * step - 0.5
    reach = int(np.ceil(2 * wide))
    first = np.floor(middle).astype(np.int64) - reach + 1
    at = first[:, None] + np.arange(2 * reach)[None]
    weights = _keys((at - middle[:, None]) / wide)
    weights /= weights.sum(axis=1, keepdims=True)
    return np.clip(at, 0, length - 1).astype(np.int64), weights.astype(np.float32)


def _keys(t: NDArray) -> NDArray[np.float64]:
    d = np.abs(t)
    near = 1.5 * d**3 - 2.5 * d**2 + 1
    far = -0.5 * d**3 + 2.5 * d**2 - 4 * d + 2
    return np.asarray(np.where(d < 1, near, np.where(d < 2, far, 0.0)))


@kernel
def _across_rows(y0, y1, picture, at, weights, out):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(at.shape[0]):
            r = g = b = a = np.float32(0)
            for k in range(at.shape[1]):
                w, i = weights[x, k], at[x, k]
                r += w * picture[y, i, 0]
                g += w * picture[y, i, 1]
                b += w * picture[y, i, 2]
                a += w * picture[y, i, 3]
            out[y, x, 0], out[y, x, 1], out[y, x, 2], out[y, x, 3] = r, g, b, a


@kernel
def _down_rows(y0, y1, picture, at, weights, out):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        row = out[y].reshape(-1)
        row[:] = np.float32(0)
        for k in range(at.shape[1]):
            w, line = weights[y, k], picture[at[y, k]].reshape(-1)
            for x in range(np.uintp(row.shape[0])):
                row[x] += w * line[x]


def bar_box(size: tuple[int, int], pixel_aspect: float, aspect: float) -> tuple[int, int, int, int]:
    """What bars leave open of a frame, x0, y0, x1, y1 in whole pixels: of an aspect, as it is seen, in the middle.

    Examples
    --------
    >>> bar_box((1920, 1080), 1.0, 2.39)  # 1920 / 2.39 = 803.3 rows
    (0, 138, 1920, 942)
    """
    width, height = size
    rows, columns = height, width
    if width * pixel_aspect / height > aspect:
        columns = max(1, round(height * aspect / pixel_aspect))
        columns -= (width - columns) % 2 if columns > 1 else 0
    else:
        rows = max(1, round(width * pixel_aspect / aspect))
        rows += (height - rows) % 2 if rows < height else 0
    x, y = (width - columns) // 2, (height - rows) // 2
    return x, y, x + columns, y + rows


def with_bars(picture: Array, box: tuple[int, int, int, int]) -> Array:
    """A picture that is opaque black outside of a box; a new one."""
    x0, y0, x1, y1 = box
    out = np.zeros_like(picture)
    out[..., 3] = 1
    out[y0:y1, x0:x1] = picture[y0:y1, x0:x1]
    return out


def largest_frame(solid: NDArray[np.bool_], aspect: float) -> tuple[float, float, float] | None:
    """The largest frame within what is solid.

    Parameters
    ----------
    solid : (h, w), where the picture has no hole on any frame. aspect : width of a frame against its height, in pixels.

    Returns
    -------
    Its middle (x, y) and its height, in shares of the picture's width and height; None where nothing is solid.
    """
    rows, columns = solid.shape
    best: tuple[float, float, float] | None = None
    holes = np.zeros((rows + 1, columns + 1), np.int64)
    holes[1:, 1:] = np.cumsum(np.cumsum(~solid, axis=0), axis=1)
    low, high = 0, rows
    while low < high:  # a smaller frame always fits where a larger one does
        tall = (low + high + 1) // 2
        wide = min(max(1, round(tall * aspect)), 10**9)
        found = None
        if wide <= columns:
            inside = holes[tall:, wide:] - holes[:-tall, wide:] - holes[tall:, :-wide] + holes[:-tall, :-wide]
            at = np.argwhere(inside == 0)
            if len(at):
                middle = np.array([(rows - tall) / 2, (columns - wide) / 2])
                y, x = at[np.argmin(((at - middle) ** 2).sum(axis=1))]
                found = ((x + wide / 2) / columns, (y + tall / 2) / rows, tall / rows)
        if found is None:
            high = tall - 1
        else:
            low, best = tall, found
    return best
