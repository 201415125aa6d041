"""How much light a plate loses toward its corners, told by what moves through the frame.

A thing is darker where the lens gives less light. So between two frames that are laid over each other the logarithm of
what is seen differs by that of the falloff at both places, and by the exposure: linear in the falloff's coefficients.

References
----------
D. B. Goldman & J.-H. Chen, Vignette and exposure calibration and compensation, ICCV 2005; even powers of the distance
from the middle. Weights: P. J. Huber, Robust Statistics (1981).
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import between_centres, carry
from .look import Run

Array = NDArray[np.float32]
Floats = NDArray[np.float64]
POWERS = (2, 4)
DARKEST, LIGHTEST = 0.04, 0.97  # coded: what lies beyond tells no ratio
SOFT_PX, EVERY = 1.5, 2
ROUNDS, HUBER = 8, 1.5
LEAST_PIXELS, LEAST_RUNS = 2000, 2
LEAST, SIGNS = 0.05, 4.0  # loss at the corners that is worth a word, and times its error
MOST = 1.6  # of a logarithm
APART, APART_SHARE = 0.03, 0.25  # by which the loss that runs tell may differ: a flash is on one of them


def falloff_of(runs: Sequence[Run], stands: Array | None = None) -> Floats | None:
    """Coefficients of the logarithm of what a frame shows, by even powers of the distance from the middle in half
    diagonals; None where it shows as much everywhere, or nothing tells.

    Parameters
    ----------
    runs : see `look.runs_of`. stands : (h, w), 1 where something stands in the frame, see `standing`.

    Example
    -------
    >>> from zonal_mantle.lock.look import runs_of
    >>> rough = 0.3 + 0.4 * cv2.GaussianBlur(np.random.default_rng(1).random((360, 800), np.float32), (0, 0), 2)
    >>> far = distances(np.argwhere(np.ones((640, 360)))[:, ::1] + 0.5, (640, 360)).reshape(640, 360).T
    >>> def feed(frame):
    ...     return (rough[:, 5 * frame : 5 * frame + 640] * np.exp(-0.4 * far**2)).astype(np.float32)
    >>> float(falloff_of(runs_of(feed, range(20))).sum().round(1))
    -0.4
    """
    all_told = [_told(run, run.motion, stands) for run in runs if run.motion is not None]
    told = [each for each in all_told if each is not None]
    losses = [-float(_fitted(*each)[0].sum()) for each in told]
    middle = float(np.median(losses)) if losses else 0.0
    within = max(APART, APART_SHARE * abs(middle))
    told = [each for each, loss in zip(told, losses) if abs(loss - middle) <= within]
    if len(told) < LEAST_RUNS:
        return None
    many = len(POWERS) + len(told)
    design = np.zeros((sum(len(rows) for rows, _ in told), many))
    ends = np.cumsum([0, *(len(rows) for rows, _ in told)])
    for k, (rows, _) in enumerate(told):  # an exposure a run
        design[ends[k] : ends[k + 1], : len(POWERS)] = rows[:, : len(POWERS)]
        design[ends[k] : ends[k + 1], len(POWERS) + k] = 1
    found, error = _fitted(design, np.concatenate([side for _, side in told]))
    loss = -float(found.sum())
    return found if LEAST < loss < MOST and loss > SIGNS * error else None


def _told(run: Run, motion: Floats, stands: Array | None) -> tuple[Floats, Floats] | None:
    """What a run tells: how the powers of the distance differ between both places of what is seen, (n, 3), the last of
    them 1, and the logarithm of how much lighter it is on its last frame, (n); None where that is little."""
    first, last = (cv2.GaussianBlur(each, (0, 0), SOFT_PX) for each in (run.pictures[0], run.pictures[-1]))
    height, width = first.shape
    clear = np.ones((height, width), np.float32)
    if stands is not None:
        clear -= stands
    way, flags = between_centres(motion), cv2.WARP_INVERSE_MAP
    there, clear_there = (
        cv2.warpPerspective(each, way, (width, height), flags=flags | how)
        for each, how in ((last, cv2.INTER_LINEAR), (clear, cv2.INTER_NEAREST))
    )
    good = (np.minimum(first, there) > DARKEST) & (np.maximum(first, there) < LIGHTEST) & (clear * clear_there > 0)
    good[1::EVERY] = good[:, 1::EVERY] = False
    y, x = np.nonzero(good)
    if len(y) < LEAST_PIXELS:
        return None
    at = np.stack([x, y], axis=1) + 0.5
    near, far = distances(at, (width, height)), distances(carry(motion, at), (width, height))
    design = np.stack([*(far**power - near**power for power in POWERS), np.ones(len(y))], axis=1)
    return design, np.log(there[good] / first[good]).astype(float)


def _fitted(design: Floats, side: Floats) -> tuple[Floats, float]:
    """The coefficients of the powers, and the standard error of their sum, with Huber's weights."""
    weight = np.ones(len(side))
    for _ in range(ROUNDS):
        inverse = np.linalg.pinv((design * weight[:, None]).T @ design)
        found = inverse @ (design.T @ (weight * side))
        off = np.abs(side - design @ found)
        scale = 1.4826 * float(np.median(off)) + 1e-6
        weight = np.minimum(1, HUBER * scale / np.maximum(off, 1e-9))
    count = len(POWERS)
    return np.asarray(found[:count]), scale * float(np.sqrt(inverse[:count, :count].sum()))


def distances(places: NDArray[Any], size: tuple[int, int]) -> Floats:
    """How far places (n, 2) lie from the middle of a frame, in halves of its diagonal. (n)."""
    return np.asarray(np.hypot(*(places - np.array(size) / 2).T) / (np.hypot(*size) / 2))


def lifted(feed: Array, falloff: Floats) -> Array:
    """A feed as it would be without its falloff. (h, w) float32."""
    return np.asarray(feed * _gain(feed.shape[0], feed.shape[1], tuple(float(each) for each in falloff)), np.float32)


@lru_cache(maxsize=1)
def _gain(height: int, width: int, falloff: tuple[float, ...]) -> Array:
    across, down = ((np.arange(size, dtype=np.float32) + 0.5 - size / 2) for size in (width, height))
    square = (across[None] ** 2 + down[:, None] ** 2) / np.float32((width**2 + height**2) / 4)
    log = sum(np.float32(each) * square ** (power // 2) for each, power in zip(falloff, POWERS))
    return np.asarray(np.exp(-np.asarray(log, np.float32)), np.float32)
