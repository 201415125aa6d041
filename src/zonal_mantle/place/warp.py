"""A picture carried through a homography: cubic, with proper minification."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import carry
from ..media.bands import run_bands
from ..media.compiled import fast_kernel
from .minify import TILE_HEIGHT, TILE_WIDTH, Steps, densities, is_light, shrunk, tile_centres, tile_steps
from .sampling import TILE, sample_stretch

Array = NDArray[np.float32]


@fast_kernel
def _rows(y0, y1, picture, low, inverse, tiles, own, out):  # type: ignore[no-untyped-def]
    width = out.shape[1]
    wanted = np.ones(TILE, np.float32)
    xs, ys, weights = np.empty(TILE, np.int32), np.empty(TILE, np.int32), np.empty(8 * TILE, np.float32)
    wide = TILE if own < 0 else TILE_WIDTH
    for left in range(0, width, wide):
        right = min(left + wide, width)
        for y in range(y0, y1):
            if own >= 0 and tiles[y // TILE_HEIGHT, left // TILE_WIDTH] != own:
                continue
            row = out[y, left:right].reshape(-1)
            sample_stretch(picture, low, inverse, left, y, wanted[: right - left], xs, ys, weights, row)


def with_alpha(picture: Array) -> Array:
    """A picture with four channels: opaque where it had three."""
    if picture.shape[2] == 4:
        return np.ascontiguousarray(picture)
    return np.asarray(cv2.cvtColor(np.ascontiguousarray(picture, np.float32), cv2.COLOR_RGB2RGBA), np.float32)


LOWEST = np.float32(-3e38)


def lowest_of(painting: Array) -> np.float32:
    """What light must not fall below where a painting is sampled: 0, where it has nothing below 0 itself."""
    return np.float32(0) if is_light(painting) else LOWEST


def sizes_seen(
    matrix: NDArray, painting: tuple[int, int], size: tuple[int, int]
) -> tuple[list[Steps], NDArray[np.int32]]:
    """Which sizes of a painting of (width, height) a picture of `size` needs through a homography, and which tile
    needs which; see `minify.tile_steps`."""
    centres, shape = tile_centres(size)
    return tile_steps(densities(matrix, centres), shape, reaches(carry(np.linalg.inv(matrix), centres), painting))


def reaches(places: NDArray, painting: tuple[int, int]) -> NDArray[np.bool_]:
    """Whether a painting of (width, height) lies within a painting's width of places on it. (n,)"""
    width, height = painting
    x, y = places.T
    return np.asarray((x > -width) & (x < 2 * width) & (y > -height) & (y < 2 * height))


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
    whole = with_alpha(painting)
    low, out = lowest_of(whole), np.zeros((size[1], size[0], 4), np.float32)
    sizes, tiles = sizes_seen(matrix, (whole.shape[1], whole.shape[0]), size)
    for own, steps in enumerate(sizes):
        level = shrunk(whole, steps)
        place = own if len(sizes) > 1 else -1
        run_bands(_rows, size[1], level, low, inverse_for(matrix, whole.shape, level.shape), tiles, place, out)
    return out
