"""The shape of a noise: how alike neighbouring pixels are, and how heavy the tails of its finest part are.

What is measured is often a difference of two frames, of which one was interpolated; both are taken out here.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from ..shot.match import MOST_TAILS

TILE = 24
PHASES = 8  # parts of a pixel that frames are moved by
PERIOD = 32  # of the circle that autocorrelations are worked on
LAGS = 2
MOST_TILES = 700  # that the autocorrelation is taken over


def levelled(tiles: NDArray) -> NDArray:
    """Tiles (n, k, k, 3) less a plane each."""
    across = np.linspace(-1, 1, tiles.shape[1])
    scale = (across**2).mean()
    tiles = tiles - tiles.mean(axis=(1, 2), keepdims=True)
    by_x = (tiles * across[None, None, :, None]).mean(axis=(1, 2)) / scale
    by_y = (tiles * across[None, :, None, None]).mean(axis=(1, 2)) / scale
    return np.asarray(
        tiles - by_x[:, None, None] * across[None, None, :, None] - by_y[:, None, None] * across[None, :, None, None]
    )


def tiles_of(picture: NDArray) -> NDArray:
    """All tiles of a picture, (n, TILE, TILE, c)."""
    rows, columns = picture.shape[0] // TILE, picture.shape[1] // TILE
    part = picture[: rows * TILE, : columns * TILE]
    return part.reshape(rows, TILE, columns, TILE, -1).swapaxes(1, 2).reshape(rows * columns, TILE, TILE, -1)


@lru_cache(maxsize=128)
def _taps(x: int, y: int) -> NDArray[np.float64]:
    """The interpolation that a frame is moved by for a part of a pixel, on a circle of `PERIOD`; 0 for no frame."""
    point = np.zeros((PERIOD, PERIOD), np.float32)
    if x < 0:
        return point.astype(np.float64)
    point[PERIOD // 2, PERIOD // 2] = 1
    way = np.array([[1, 0, x / PHASES], [0, 1, y / PHASES]])
    moved = cv2.warpAffine(point, way, (PERIOD, PERIOD), flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP)
    return np.asarray(moved, np.float64)


@lru_cache(maxsize=128)
def _other_power(x: int, y: int) -> NDArray[np.float64]:
    """|K|² of that interpolation."""
    return np.asarray(np.abs(np.fft.fft2(_taps(x, y))) ** 2)


def tails_of(left: NDArray, level: NDArray, phases: NDArray[np.int64], curve: tuple[NDArray, NDArray]) -> float:
    """The excess kurtosis of the finest part of one frame's noise, from what is left of tiles, each pixel by the
    strength at its level.

    Fourth cumulants add up, as variances do: those of a difference are of both frames, the other's as the interpolation
    leaves it.
    """
    from scipy.ndimage import uniform_filter  # slow to import

    levels, variance = curve
    out = []
    for x, y in np.unique(phases, axis=0):
        some = (phases == (x, y)).all(axis=1)
        taps = _taps(int(x), int(y))
        square, fourth = float((taps**2).sum()), float((taps**4).sum())
        for c in range(3):
            strength = np.sqrt(np.maximum(np.interp(level[some][..., c], levels, variance[:, c]), 1e-12))
            value = left[some][..., c] / strength
            value = (value - uniform_filter(value, (1, 3, 3)))[:, 1:-1, 1:-1]
            excess = float((value**4).mean() / max(float((value**2).mean()) ** 2, 1e-20)) - 3
            out.append((excess * (1 + square) ** 2 / (1 + fourth), int(some.sum())))
    excesses, counts = (np.array(each, float) for each in zip(*out))
    return float(np.clip(np.average(excesses, weights=counts), 0, MOST_TAILS))


def alone(
    spatial: Sequence[tuple[float, ...]], phases: NDArray[np.int64]
) -> tuple[tuple[tuple[float, ...], tuple[float, ...], tuple[float, ...]], NDArray[np.float64]]:
    """The autocorrelations of one frame's noise from those of differences, and how much stronger these are."""
    kinds, counts = np.unique(phases, axis=0, return_counts=True)
    both = 1 + sum(_other_power(int(x), int(y)) * (n / counts.sum()) for (x, y), n in zip(kinds, counts))
    rows, factors = [], []
    for row in spatial:
        lags = np.zeros((PERIOD, PERIOD))
        for j in range(-LAGS, LAGS + 1):
            for i in range(-LAGS, LAGS + 1):
                lags[j % PERIOD, i % PERIOD] = row[(j + LAGS) * 5 + i + LAGS]
        power = np.fft.fft2(lags).real
        own = np.fft.ifft2(power / both).real
        own[0, 0] = max(float(own[0, 0]), 1e-6)
        factors.append(1 / float(own[0, 0]))
        at = np.arange(-LAGS, LAGS + 1) % PERIOD
        rows.append(tuple(float(v) for v in (own[np.ix_(at, at)] / own[0, 0]).ravel()))
    return (rows[0], rows[1], rows[2]), np.array(factors)


def autocorrelation(tiles: NDArray) -> tuple[tuple[float, ...], tuple[float, ...], tuple[float, ...]]:
    """Of each channel, at lags -2…2 down and across: 25 numbers."""
    out = []
    tiles = tiles[:: max(1, len(tiles) // MOST_TILES)]
    for c in range(3):
        t = np.ascontiguousarray(tiles[..., c])
        energy = max(float((t**2).mean()), 1e-20)
        table = np.ones((5, 5))
        for j in range(LAGS + 1):
            for i in range(-LAGS, LAGS + 1):
                a = t[:, : TILE - j, max(0, -i) : TILE - max(0, i)]
                b = t[:, j:, max(0, i) : TILE - max(0, -i)]
                table[LAGS + j, LAGS + i] = table[LAGS - j, LAGS - i] = float((a * b).mean()) / energy
        table += (1 - table) * 3 / TILE**2 * max(float(table.sum()), 0.0)  # what the plane took
        out.append(tuple(float(v) for v in table.ravel()))
    return out[0], out[1], out[2]
