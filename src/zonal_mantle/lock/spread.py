"""How unsure a fit is, from what it left over: by blocks of its own area, and by the blur it may have wrong."""

from __future__ import annotations

from typing import TYPE_CHECKING

import cv2
import numpy as np
from numpy.typing import NDArray

from . import align_rows
from .blur import Blur

if TYPE_CHECKING:
    from .align import State

Array = NDArray[np.float32]
Matrix = NDArray[np.float64]

BLOCKS = (6, 4)
LEAST_BELIEVED = 0.4  # of a part's slopes, or it is taken to be covered
CORRELATED = 2.5  # the feed is blurred a little, so that neighbouring pixels err alike
SHUTTER_GIVE = 0.07  # by how much of a frame's time a streak may be wrong, in length and from place to place
STANDS_OUT = 2.0  # deviations
LEAST_CLUSTERS = 40  # of eight numbers to be told
CLUSTERS_PX = (16, 64)  # sides of blocks whose noise is taken to be independent


def bend_of(blur: Blur, state: State) -> Array:
    """What a longer shutter would leave over between an area and its view."""
    mean = cv2.addWeighted(state.weighed.view, 0.5, state.level.pixels, 0.5 * state.weighed.gain, 0)
    return blur.bend(np.asarray(mean, np.float32), state.step)


def left_of(blur: Blur, made: float, state: State) -> tuple[float, float, float]:
    """What a fit says of the shutter, see `blur.Exposure.learn`; nothing where both are blurred alike anyway."""
    if not blur.own.may_be_unlike(blur.other):
        return 0.0, 0.0, made
    bend = bend_of(blur, state)
    weighed = state.weighed.weight * bend
    noise = max(CORRELATED * state.tally.rest, 1e-12)
    over, weight = ((weighed * each).sum(dtype=float) / noise for each in (state.weighed.rest, bend))
    return float(over), float(weight), made


def pulled(state: State, picture: Array) -> NDArray[np.float64]:
    """By how much the numbers of the fit would change if a picture were left over."""
    square, _, scores = _scored(state, picture, CLUSTERS_PX[0])
    return np.asarray(np.linalg.pinv(square, rcond=1e-12, hermitian=True) @ scores.sum(axis=0))


def moved_by(p: NDArray, q: NDArray) -> Matrix:
    """How the eight numbers of a homography about the identity move places. (n, 2, 8)."""
    one, none = np.ones_like(p), np.zeros_like(p)
    across = np.stack([p, q, one, none, none, none, -p * p, -p * q], axis=-1)
    down = np.stack([none, none, none, p, q, one, -p * q, -q * q], axis=-1)
    return np.stack([across, down], axis=-2)


def mean_trace(ends: Matrix, covariance: Matrix) -> float:
    """The mean over some places of the variance of where they go, px²."""
    flat = ends.reshape(2 * len(ends), ends.shape[2])
    return float(((flat @ covariance) * flat).sum()) / len(ends)


def beyond_noise(apart: Matrix, unsure: Matrix) -> float:
    """Root mean square of how far (n, 2) places lie apart, px, as far as it stands out from what is not known of them.

    What is not known is their covariance, (2 n, 2 n) px². It is taken out way by way of moving; a way that is off by
    less than `STANDS_OUT` of its own deviations says nothing.
    """
    noise, ways = np.linalg.eigh(unsure)
    noise, square = np.maximum(noise, 0), (ways.T @ apart.reshape(-1)) ** 2
    stands = square > STANDS_OUT**2 * noise
    return float(np.sqrt((square - noise)[stands].sum() / len(apart)))


def _scored(state: State, rest: Array, side: int) -> tuple[Matrix, int, Matrix]:
    """The normal equations of a fit by blocks of a side: their sum, the blocks that count, and each block's scores of
    what is left over."""
    level, weighed, basis = state.level, state.weighed, state.basis
    height, width = weighed.view.shape
    nx, ny = max(4, round(width / side)), max(3, round(height / side))
    xs, ys = np.linspace(0, width, nx + 1).astype(int), np.linspace(0, height, ny + 1).astype(int)
    sums = np.zeros((ny, nx, 6))
    align_rows.block_sums(weighed.inside, weighed.weight, rest, level.across, level.down, xs, ys, sums)
    cx, cy = np.meshgrid((xs[1:] + xs[:-1]) / 2, (ys[1:] + ys[:-1]) / 2)
    x, y, unit = (float(v) for v in state.frame)
    moves = moved_by(((cx - x) / unit).reshape(-1), ((cy - y) / unit).reshape(-1)).reshape(-1, 8) @ (basis * unit)
    moves = moves.reshape(-1, 2, basis.shape[1])
    a, b, c, p, q, _ = sums.reshape(-1, 6).T
    across, down = moves[:, 0], moves[:, 1]
    a, b, c, p, q = (each[:, None] for each in (a, b, c, p, q))
    square = (across.T @ (a * across + b * down) + down.T @ (b * across + c * down)) * weighed.gain**2
    scores = (p * across + q * down) * weighed.gain
    return np.asarray(square), int(np.count_nonzero(a + c > 0)), np.asarray(scores)


def by_blocks(state: State) -> list[Matrix]:
    """The covariance of the fit as its own blocks have it, whatever the noise is like: by smaller and by larger ones.

    References
    ----------
    K.-Y. Liang & S. L. Zeger, Longitudinal data analysis using generalized linear models, Biometrika 73 (1986): the
    scores of each cluster stand for its variance. From memory.
    """
    out, real = [], np.sqrt(state.told.real(2))  # of the area's own slopes, that bear twice the noise
    fewest = np.sqrt(float(state.weighed.weight.sum(dtype=float)) / LEAST_CLUSTERS)
    for side in sorted({int(min(each, max(fewest, CLUSTERS_PX[0]))) for each in CLUSTERS_PX}):
        square, count, scores = _scored(state, state.weighed.rest, side)
        few = count / max(count - state.basis.shape[1], 1)
        back = np.linalg.pinv(square, rcond=1e-12, hermitian=True) / np.outer(real, real)
        out.append(few * back @ (scores.T @ scores) @ back)
    return out


def uneven_of(state: State, noise: float) -> float:
    """Root mean square of how far blocks of the area lie off, beyond what noise explains, px at the state's size.

    Blocks count by what they tell; those mostly covered do not."""
    level, weighed = state.level, state.weighed
    height, width = weighed.view.shape
    nx, ny = max(2, min(BLOCKS[0], width // 24)), max(2, min(BLOCKS[1], height // 24))
    xs, ys = np.linspace(0, width, nx + 1).astype(int), np.linspace(0, height, ny + 1).astype(int)
    sums = np.zeros((ny, nx, 6))
    align_rows.block_sums(weighed.inside, weighed.weight, weighed.rest, level.across, level.down, xs, ys, sums)
    a, b, c, p, q, whole = sums.reshape(-1, 6).T
    trace, det = a + c, a * c - b * b
    low = trace / 2 - np.sqrt(np.maximum(trace * trace / 4 - det, 0))
    tells = (low > 0) & (noise <= 0.5**2 * low) & (trace >= LEAST_BELIEVED * whole)
    if not tells.any():
        return 0.0
    a, b, c, p, q, trace, det, low = (each[tells] for each in (a, b, c, p, q, trace, det, low))
    off = ((c * p - b * q) ** 2 + (a * q - b * p) ** 2) / (det * weighed.gain) ** 2
    return float(np.sqrt(np.average(np.maximum(off - noise * trace / det, 0.0), weights=low)))
