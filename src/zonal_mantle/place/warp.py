"""A picture carried through a homography: cubic, with proper minification."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from .minify import shrink_steps, shrunk
from .sampling import FAST, sample_inside, sample_rim, span

Array = NDArray[np.float32]


@numba.njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy")
def _rows(y0, y1, picture, inverse, out):  # type: ignore[no-untyped-def]
    h, w = picture.shape[:2]
    data = picture.reshape(-1)
    zero, one = np.float32(0.0), np.float32(1.0)
    for y in range(y0, y1):
        first, end = span(inverse, y, out.shape[1], w, h)
        for x in range(first, end):
            px, py = x + 0.5, y + 0.5
            z = inverse[2, 0] * px + inverse[2, 1] * py + inverse[2, 2]
            if z <= 0:
                continue
            u = (inverse[0, 0] * px + inverse[0, 1] * py + inverse[0, 2]) / z - 0.5
            v = (inverse[1, 0] * px + inverse[1, 1] * py + inverse[1, 2]) / z - 0.5
            if u <= -2 or v <= -2 or u >= w + 1 or v >= h + 1:
                continue
            fu, fv = np.floor(u), np.floor(v)
            x0, y0_, fx, fy = int(fu), int(fv), np.float32(u - fu), np.float32(v - fv)
            if x0 >= 1 and y0_ >= 1 and x0 < w - 2 and y0_ < h - 2:
                r, g, b, a = sample_inside(data, w, x0, y0_, fx, fy)
            else:
                r, g, b, a = sample_rim(data, w, h, x0, y0_, fx, fy)
            out[y, x, 0], out[y, x, 1], out[y, x, 2] = max(r, zero), max(g, zero), max(b, zero)
            out[y, x, 3] = min(max(a, zero), one)


def with_alpha(picture: Array) -> Array:
    """A picture with four channels: opaque where it had three."""
    if picture.shape[2] == 4:
        return np.ascontiguousarray(picture)
    return np.concatenate([picture, np.ones((*picture.shape[:2], 1), np.float32)], axis=2)


def level_and_inverse(painting: Array, matrix: NDArray) -> tuple[Array, NDArray[np.float64]]:
    """The painting at the size that suits a warp, and the warp from target pixels back to that picture's pixels."""
    level = shrunk(with_alpha(painting), shrink_steps(matrix))
    return level, inverse_for(matrix, painting.shape, level.shape)


def inverse_for(matrix: NDArray, full: tuple[int, ...], level: tuple[int, ...]) -> NDArray[np.float64]:
    """Target pixels to the pixels of a shrunk picture."""
    ratio = np.diag([level[1] / full[1], level[0] / full[0], 1.0])
    return np.ascontiguousarray(ratio @ np.linalg.inv(matrix))


def warp(painting: Array, matrix: NDArray, size: tuple[int, int]) -> Array:
    """A painting carried into a picture.

    Parameters
    ----------
    painting : (h, w, 3) or (h, w, 4) float32, scene-linear, premultiplied.
    matrix : (3, 3) from painting pixels to target pixels, both continuous.
    size : (width, height) of the target.

    Returns
    -------
    (height, width, 4) float32, premultiplied; clear where the painting does not reach.

    References
    ----------
    Cubic convolution: Keys 1981, a = −1/2.
    """
    level, inverse = level_and_inverse(painting, matrix)
    out = np.zeros((size[1], size[0], 4), np.float32)
    run_bands(_rows, size[1], level, inverse, out)
    return out
