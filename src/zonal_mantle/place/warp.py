"""A picture carried through a homography: cubic, with proper minification."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.powers import FAST
from .minify import shrink_steps, shrunk
from .sampling import TILE, sample_stretch

Array = NDArray[np.float32]


@numba.njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy")
def _rows(y0, y1, picture, inverse, out):  # type: ignore[no-untyped-def]
    width = out.shape[1]
    wanted = np.ones(TILE, np.float32)
    xs, ys, weights = np.empty(TILE, np.int32), np.empty(TILE, np.int32), np.empty(8 * TILE, np.float32)
    for left in range(0, width, TILE):
        right = min(left + TILE, width)
        for y in range(y0, y1):
            row = out[y, left:right].reshape(-1)
            sample_stretch(picture, inverse, left, y, wanted[: right - left], xs, ys, weights, row)


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
