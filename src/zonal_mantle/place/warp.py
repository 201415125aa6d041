"""A picture carried through a homography: cubic, with proper minification."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from .minify import shrink_steps, shrunk
from .sampling import sample_cubic

Array = NDArray[np.float32]


@numba.njit(cache=True, nogil=True)
def _rows(y0, y1, picture, inverse, out):  # type: ignore[no-untyped-def]
    wx, wy, value = np.empty(4, np.float32), np.empty(4, np.float32), np.empty(4, np.float32)
    for y in range(y0, y1):
        for x in range(out.shape[1]):
            px, py = x + 0.5, y + 0.5
            z = inverse[2, 0] * px + inverse[2, 1] * py + inverse[2, 2]
            u = (inverse[0, 0] * px + inverse[0, 1] * py + inverse[0, 2]) / z - 0.5
            v = (inverse[1, 0] * px + inverse[1, 1] * py + inverse[1, 2]) / z - 0.5
            if sample_cubic(picture, u, v, wx, wy, value):
                for c in range(4):
                    out[y, x, c] = value[c]


def level_and_inverse(painting: Array, matrix: NDArray) -> tuple[Array, NDArray[np.float64]]:
    """The painting at the size that suits a warp, and the warp from target pixels back to that picture's pixels."""
    level = shrunk(painting, shrink_steps(matrix))
    return level, inverse_for(matrix, painting.shape, level.shape)


def inverse_for(
    matrix: NDArray, full: tuple[int, ...], level: tuple[int, ...]
) -> NDArray[np.float64]:
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
