"""Proper minification: a painting is made smaller by a named filter before it is sampled, by as much as each part of
the picture asks for."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import fast_kernel

Array = NDArray[np.float32]
Steps = tuple[int, int]
STEPS_AN_OCTAVE = 4
LEFT_TO_SAMPLING = 0.35  # of a step: so much more than one painting pixel to one of the picture is sampled as it is
FAR_STEPS = 8  # beyond these a size is made from one that is nearer
LEAST_SIDE = 4
MOST_STEPS = 256
TILE_WIDTH, TILE_HEIGHT = 64, 16  # of the picture, px: each takes one size of the painting


def densities(matrix: NDArray, points: NDArray) -> NDArray[np.float64]:
    """How many painting pixels lie on one of the picture, across and down the painting, at places of the picture.

    matrix : (3, 3) painting to picture. points : (n, 2).

    Returns
    -------
    (n, 2), the extents of a picture pixel's footprint on the painting: lengths of the rows of the local Jacobian of
    the way back (Heckbert 1989, *Fundamentals of Texture Mapping and Image Warping*, section 3.5). 0 where the painting
    is not seen.
    """
    back = np.linalg.inv(matrix)
    x, y = np.asarray(points, float).T
    u, v, w = (row[0] * x + row[1] * y + row[2] for row in back)
    with np.errstate(divide="ignore", invalid="ignore"):
        rows = [
            np.hypot((back[k, 0] * w - part * back[2, 0]) / w**2, (back[k, 1] * w - part * back[2, 1]) / w**2)
            for k, part in enumerate((u, v))
        ]
    out = np.stack(rows, axis=1)
    return np.asarray(np.where((w > 0)[:, None] & np.isfinite(out), out, 0.0))


def tile_centres(size: tuple[int, int]) -> tuple[NDArray[np.float64], tuple[int, int]]:
    """The middles of all tiles of a picture of (width, height), row by row, and how many rows and columns there are."""
    columns, rows = -(-size[0] // TILE_WIDTH), -(-size[1] // TILE_HEIGHT)
    xs = np.minimum((np.arange(columns) + 0.5) * TILE_WIDTH, size[0])
    ys = np.minimum((np.arange(rows) + 0.5) * TILE_HEIGHT, size[1])
    return np.stack(np.meshgrid(xs, ys), axis=-1).reshape(-1, 2), (rows, columns)


def tile_steps(
    density: NDArray, shape: tuple[int, int], seen: NDArray[np.bool_] | None = None
) -> tuple[list[Steps], NDArray[np.int32]]:
    """Which sizes of a painting the tiles of a picture need.

    Parameters
    ----------
    density : (n, 2) at the tiles' middles, see `densities`. shape : rows and columns of tiles.
    seen : which tiles show the painting at all; the others take whatever is made anyway.

    Returns
    -------
    The sizes, as quarter octaves across and down, and for each tile the place of its own among them, (rows, columns)
    int32.
    """
    steps = np.maximum(0, np.ceil(np.log2(np.maximum(density, 1e-3)) * STEPS_AN_OCTAVE - LEFT_TO_SAMPLING)).astype(int)
    both = steps[:, 0] * MOST_STEPS + steps[:, 1]
    used = np.unique(both if seen is None else both[seen])
    if len(used) <= 1:
        one = divmod(int(used[0]), MOST_STEPS) if len(used) else (0, 0)
        return [one], np.zeros(shape, np.int32)
    at = np.minimum(np.searchsorted(used, both), len(used) - 1)
    return [divmod(int(k), MOST_STEPS) for k in used], at.astype(np.int32).reshape(shape)


def is_light(painting: Array) -> bool:
    """Whether none of its three colours is below 0. Asked of all channels first, which is several times as fast."""
    return float(painting.min()) >= 0 or float(painting[..., :3].min()) >= 0


def shrunk(painting: Array, steps: Steps, made: Callable[[Steps], Array] | None = None) -> Array:
    """A painting shrunk by quarter octaves. (h, w, c) float32.

    made : gives the painting at another size; beyond two octaves it is shrunk from that one octave larger.

    References
    ----------
    Mitchell & Netravali 1988, *Reconstruction Filters in Computer Graphics*, with B = C = 1/3, as wide as what it
    shrinks to. What it undershoots below nothing is cut off where the painting has nothing below 0.
    """
    if steps == (0, 0):
        return painting
    height, width = painting.shape[:2]
    new = (_side(width, steps[0]), _side(height, steps[1]))
    source = painting
    if made is not None and max(steps) > FAR_STEPS:
        nearer = tuple(max(0, s - STEPS_AN_OCTAVE) if s > FAR_STEPS else 0 for s in steps)
        source = made((nearer[0], nearer[1]))
    out = _resized(np.ascontiguousarray(source, np.float32), new)
    if is_light(source):
        np.maximum(out, 0, out=out)
    if out.shape[2] == 4:
        np.clip(out[..., 3], 0, 1, out=out[..., 3])
    return np.ascontiguousarray(out)


def _weights(length: int, new: int) -> tuple[NDArray[np.int64], Array]:
    """Mitchell & Netravali's filter, as wide as the new pixels: first source pixel (n) and weights (n, taps) of each.
    Beyond the rim the last pixel goes on."""
    ratio = length / new
    reach = 2 * max(ratio, 1.0)
    middle = (np.arange(new) + 0.5) * ratio - 0.5
    first = np.ceil(middle - reach).astype(np.int64)
    taps = int(np.ceil(2 * reach)) + 1
    x = np.abs(first[:, None] + np.arange(taps) - middle[:, None]) / max(ratio, 1.0)
    near = (7 * x**3 - 12 * x**2 + 16 / 3) / 6
    far = (-7 / 3 * x**3 + 12 * x**2 - 20 * x + 32 / 3) / 6
    weights = np.where(x < 1, near, np.where(x < 2, far, 0.0))
    return first, (weights / weights.sum(axis=1, keepdims=True)).astype(np.float32)


@fast_kernel
def _down_rows(y0, y1, source, first, weights, out):  # type: ignore[no-untyped-def]
    """Columns made shorter: source (h, n), out (h', n), flat rows of float32."""
    height, width = source.shape
    for y in range(y0, y1):
        row = out[y]
        row[:] = np.float32(0)
        for k in range(weights.shape[1]):
            weight = weights[y, k]
            if weight != np.float32(0):
                own = source[min(max(first[y] + k, 0), height - 1)]
                for x in range(width):
                    row[x] += weight * own[x]


@fast_kernel
def _across_rows(y0, y1, source, first, weights, out):  # type: ignore[no-untyped-def]
    """Rows made shorter: source (h, w, c), out (h, w', c)."""
    width, channels = source.shape[1], source.shape[2]
    for y in range(y0, y1):
        for x in range(out.shape[1]):
            for c in range(channels):
                total = np.float32(0)
                for k in range(weights.shape[1]):
                    total += weights[x, k] * source[y, min(max(first[x] + k, 0), width - 1), c]
                out[y, x, c] = total


def _resized(source: Array, new: tuple[int, int]) -> Array:
    height, width, channels = source.shape
    if new[1] != height:
        lower = np.empty((new[1], width, channels), np.float32)
        flat = (source.reshape(height, -1), *_weights(height, new[1]), lower.reshape(new[1], -1))
        run_bands(_down_rows, new[1], *flat)
        source = lower
    if new[0] != width:
        narrower = np.empty((new[1], new[0], channels), np.float32)
        run_bands(_across_rows, new[1], source, *_weights(width, new[0]), narrower)
        source = narrower
    return source


def _side(length: int, steps: int) -> int:
    return max(min(LEAST_SIDE, length), round(length * 2 ** (-steps / STEPS_AN_OCTAVE)))
