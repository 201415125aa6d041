"""How much of its old sky's light lies on the plate's own rims.

Model: at a distance x inside a rim, what is seen is the thing's own light and a share of the sky's: w(x) = amount · ½
erfc(x / (σ √2)), the light that a Gaussian of standard deviation σ carries over a straight edge. Own light is taken
from farther inside along the same line. The mean over many lines is fitted; lines in turn say how sure it is.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from ..words import say

Array = NDArray[np.float32]
REACH_PX, DEEP_PX = 40, 14
LENS_PX = 2.5
SOLID = 0.985
OWN_RIM = 0.5
LEAST_LINES = 60
LEAST_STEP = 0.05  # scene-linear, by which the sky must be brighter


class WrapFit(NamedTuple):
    """width_px : twice the standard deviation of the spill. amount : share of the sky's light, 0…1 and above. spread :
    standard deviation of the amount. lines : that told it."""

    width_px: float
    amount: float
    spread: float
    lines: int


def fit_wrap(pictures: Sequence[Array], alphas: Sequence[Array]) -> WrapFit:
    """The spill on a plate's rims.

    Parameters
    ----------
    pictures : (h, w, 3) float32, scene-linear, of the plate. alphas : (h, w), 1 what stays, 0 the old sky.

    Raises
    ------
    ValueError : there is no rim before a brighter sky.
    """
    lines = [line for picture, alpha in zip(pictures, alphas) for line in _lines(picture, alpha)]
    if len(lines) < LEAST_LINES:
        raise ValueError(say("No rim of the plate stands before a brighter old sky: the spill cannot be measured."))
    table = np.array(lines)
    table, feigned = table[:, :-1], float(np.median(table[:, -1]))
    x = np.arange(table.shape[1]) + 0.5
    profile = np.median(table, axis=0)
    rng = np.random.default_rng(0)
    blocks = np.array_split(table, 12)
    found = _fitted(x, profile)
    draws = [
        _fitted(x, np.median(np.concatenate([blocks[k] for k in rng.integers(0, 12, 12)]), axis=0)) for _ in range(16)
    ]
    spread = float(np.std([draw[1] for draw in draws]))
    return WrapFit(2 * found[0], max(found[1], 0.0), max(float(np.hypot(spread, feigned)), 0.005), len(lines))


def _fitted(x: NDArray, profile: NDArray) -> tuple[float, float]:
    from scipy.optimize import least_squares  # slow to import
    from scipy.special import erfc

    far = x > LENS_PX  # nearer the lens's own blur mixes both

    def off(p: NDArray) -> NDArray:
        return np.asarray(p[1] * 0.5 * erfc(x[far] / (p[0] * np.sqrt(2))) + p[2] - profile[far])

    found = least_squares(
        off, [6.0, 0.1, 0.0], bounds=([1.5, -0.5, -0.2], [REACH_PX / 2, 2.0, 0.2]), loss="soft_l1", f_scale=0.02
    )
    return float(found.x[0]), float(found.x[1])


def _lines(picture: Array, alpha: Array) -> list[NDArray]:
    """Along normals of the rim, from it inward: the share of the sky's light at each pixel, (REACH_PX,)."""
    solid = (alpha > 0.5).astype(np.uint8)
    inside = cv2.distanceTransform(solid, cv2.DIST_L2, 5)
    away_x, away_y = cv2.Sobel(inside, cv2.CV_32F, 1, 0, ksize=5), cv2.Sobel(inside, cv2.CV_32F, 0, 1, ksize=5)
    rim = (inside > 0) & (inside <= 1.5)
    ys, xs = np.nonzero(rim)
    if len(xs) == 0:
        return []
    keep = slice(None, None, max(1, len(xs) // 4000))
    ys, xs = ys[keep], xs[keep]
    nx, ny = away_x[ys, xs], away_y[ys, xs]
    norm = np.maximum(np.hypot(nx, ny), 1e-6)
    nx, ny = nx / norm, ny / norm
    steps = np.arange(REACH_PX + DEEP_PX, dtype=np.float32)
    px, py = (
        (xs[:, None] + nx[:, None] * steps).astype(np.float32),
        (ys[:, None] + ny[:, None] * steps).astype(np.float32),
    )
    colours = cv2.remap(picture, px, py, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT, borderValue=(np.nan,) * 3)
    depth = cv2.remap(inside, px, py, cv2.INTER_LINEAR)
    whole = cv2.remap(np.asarray(alpha, np.float32), px, py, cv2.INTER_LINEAR)[:, math.ceil(LENS_PX) :] > SOLID
    sky_x, sky_y = (xs - 9 * nx).astype(np.float32)[:, None], (ys - 9 * ny).astype(np.float32)[:, None]
    sky = cv2.remap(picture, sky_x, sky_y, cv2.INTER_LINEAR, borderValue=(np.nan,) * 3)[:, 0]
    open_ = cv2.remap(np.asarray(alpha, np.float32), sky_x, sky_y, cv2.INTER_LINEAR, borderValue=1.0)[:, 0] < 0.02
    straight = (np.diff(depth, axis=1) > 0.6).all(axis=1)
    own = np.median(colours[:, REACH_PX:], axis=1)
    step = (sky - own).mean(axis=1)
    good = open_ & straight & whole.all(axis=1) & (step > LEAST_STEP) & np.isfinite(colours).all(axis=(1, 2))
    share = (colours[good, :REACH_PX] - own[good, None]).mean(axis=2) / step[good, None]
    # how much of a share a rim that is by itself brighter than its inside, by its own light again, would feign
    feigned = OWN_RIM * np.abs(own[good]).mean(axis=1) / step[good]
    return list(np.concatenate([share, feigned[:, None]], axis=1))
