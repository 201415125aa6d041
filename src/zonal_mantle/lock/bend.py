"""How much a plate's lens bends straight lines, told by features that move through the frame.

What turns or is flat moves by a homography, but for what the lens bends; so a homography and one term of distortion are
fitted to where features of a run of frames went (Fitzgibbon, Simultaneous linear estimation of multiple view geometry
and lens distortion, CVPR 2001: his one-term model, here by robust least squares). Where runs do not agree, or features
are found too loosely, nothing is told.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import camera_matrix, carry, distorted, undistorted
from ..words import say
from .chain import Chain
from .features import WINDOW
from .look import Run

Array = NDArray[np.float32]
Floats = NDArray[np.float64]
LEAST_FEATURES, LEAST_RUNS = 40, 2
NEAR_PX, SURE_PX = 3.0, 0.15  # of a homography; the noise about which it counts less
MOST_NOISE_PX, WORST = 0.25, 0.006  # of where features are; of the bend's error
APART, APART_SHARE = 0.004, 0.25  # by which runs may differ
LEAST, MOST, SIGNS = 0.008, 0.4, 5.0  # at half the width, of the distance from the middle; times its error
# below the least, what blurs of a run's ends do to features is as large
ROUNDS = 20
GRID = (13, 9)  # places of what two frames share


def bend_of(runs: Sequence[Run], stands: Array | None = None) -> float | None:
    """How a lens bends: what belongs to r, its distance from the middle in halves of the width, is seen at
    r (1 + bend r²), below 0 for a barrel. None where the lens bends nothing, or nothing tells.

    Parameters
    ----------
    runs : see `look.runs_of`. stands : (h, w), 1 where something stands in the frame, see `standing`.

    Example
    -------
    >>> from zonal_mantle.lock.look import runs_of
    >>> rough = cv2.GaussianBlur(np.random.default_rng(1).random((400, 900), np.float32), (0, 0), 2)
    >>> bend_of(runs_of(lambda frame: rough[20:380, 5 * frame : 5 * frame + 640], range(20))) is None
    True
    """
    told = []
    near = None if stands is None else np.asarray(cv2.dilate(stands, np.ones(WINDOW, np.uint8)), np.float32)
    for run in runs:
        if run.ends is None:
            continue
        a, b = run.ends
        if near is not None:
            clear = ~(_within(near, a) | _within(near, b))
            a, b = a[clear], b[clear]
        found = _fitted(a, b, run.pictures[0].shape[::-1])
        if found is not None:
            told.append(found)
    if len(told) < LEAST_RUNS:
        return None
    values, errors = np.array(told).T
    middle = float(np.median(values))
    agree = np.abs(values - middle) <= max(APART, APART_SHARE * abs(middle))
    if agree.sum() < LEAST_RUNS:
        return None
    weight = errors[agree] ** -2
    bend, error = float((weight * values[agree]).sum() / weight.sum()), float(weight.sum() ** -0.5)
    return bend if LEAST < abs(bend) < MOST and abs(bend) > SIGNS * error else None


def _within(mask: Array, places: Floats) -> NDArray[np.bool_]:
    """Which places (n, 2) lie in a mask."""
    x, y = np.clip(places.astype(int), 0, np.array(mask.shape[::-1]) - 1).T
    return np.asarray(mask[y, x] > 0)


def _fitted(a: Floats, b: Floats, size: tuple[int, int]) -> tuple[float, float] | None:
    """The bend that explains best where features went, and its standard error; None where features tell too little."""
    if len(a) < LEAST_FEATURES:
        return None
    first, near = cv2.findHomography(a, b, cv2.RANSAC, NEAR_PX)
    if first is None or near.mean() < 0.5 or near.sum() < LEAST_FEATURES:
        return None
    half, middle = size[0] / 2, np.array(size) / 2
    a, b = ((each[near.ravel() > 0] - middle) / half for each in (a, b))
    scale = np.array([[half, 0, middle[0]], [0, half, middle[1]], [0, 0, 1]])
    start = np.linalg.inv(scale) @ first @ scale
    values, sure, damping = np.append((start / start[2, 2]).ravel()[:8], 0.0), SURE_PX / half, 1e-3

    def errors(values: Floats) -> Floats:
        here, there = (undistorted(each, np.eye(3), values[8]) for each in (a, b))
        at = np.c_[here, np.ones(len(here))] @ np.append(values[:8], 1).reshape(3, 3).T
        return np.asarray((at[:, :2] / at[:, 2:] - there).ravel())

    def judged(rest: Floats) -> float:
        return float((np.sqrt(1 + (rest / sure) ** 2) - 1).sum())

    rest = errors(values)
    for _ in range(ROUNDS):
        slopes = np.stack([(errors(values + 1e-6 * way) - rest) / 1e-6 for way in np.eye(9)], axis=1)
        weight = 1 / np.sqrt(1 + (rest / sure) ** 2)
        square = (slopes * weight[:, None]).T @ slopes
        step = np.linalg.solve(square + damping * np.diag(np.diag(square)), slopes.T @ (weight * rest))
        again = errors(values - step)
        if judged(again) < judged(rest):
            values, rest, damping = values - step, again, damping / 5
        else:
            damping *= 6
    noise = 1.4826 * float(np.median(np.abs(rest)))
    if noise * half > MOST_NOISE_PX:
        return None
    error = noise * float(np.sqrt(np.linalg.inv(square)[8, 8]))
    return (float(values[8]), error) if error < WORST else None


def lens_distortion(bend: float, focal_px: float, width: int) -> float:
    """The same by distances in focal lengths, as `shot.Lens` has it."""
    return bend * (focal_px / (width / 2)) ** 2


def straightened(places: Floats, bend: float, size: tuple[int, int]) -> Floats:
    """Where places of a frame (n, 2), px, would be seen by a lens that bends nothing."""
    return undistorted(places, camera_matrix(size[0] / 2, size), bend)


def bent(places: Floats, bend: float, size: tuple[int, int]) -> Floats:
    """The inverse of `straightened`."""
    return distorted(places, camera_matrix(size[0] / 2, size), bend)


def unbent(chain: Chain, bend: float, size: tuple[int, int]) -> Chain:
    """A chain of links as a lens that bends nothing would have it."""
    links = []
    for link in chain.links:
        here, there = (straightened(each, bend, size) for each in (link.points, link.targets))
        found, _ = cv2.findHomography(here, there)
        motion = link.fit.homography if found is None else np.asarray(found, float)
        fit = replace(link.fit, homography=motion)
        links.append(replace(link, points=here, fit=fit, beside=there - carry(motion, here)))
    return Chain(links, chain.lost)


def with_beside(chain: Chain, motions: dict[int, Floats], bend: float, size: tuple[int, int]) -> Chain:
    """A chain whose links know what a homography, fitted to all that both frames see, cannot follow at their points.

    Parameters
    ----------
    motions : about, of the frames, as a lens that bends nothing has them.
    """
    links = []
    for link in chain.links:
        if link.key not in motions or link.frame not in motions:
            links.append(link)
            continue
        motion = motions[link.frame] @ np.linalg.inv(motions[link.key])

        def seen(places: Floats, motion: Floats = motion) -> Floats:
            return bent(carry(motion, straightened(places, bend, size)), bend, size)

        (x0, y0), (x1, y1) = link.points.min(axis=0), link.points.max(axis=0)
        across, down = np.meshgrid(np.linspace(x0, x1, GRID[0]), np.linspace(y0, y1, GRID[1]))
        places = np.stack([across.ravel(), down.ravel()], axis=1)
        found, _ = cv2.findHomography(places, seen(places))
        beside = None if found is None else seen(link.points) - carry(np.asarray(found, float), link.points)
        links.append(replace(link, beside=beside))
    return Chain(links, chain.lost)


def nearest_motion(motion: Floats, places: Floats, bend: float, size: tuple[int, int]) -> tuple[Floats, float]:
    """The homography that is most like a motion seen through a lens that bends, and the root mean square of what it
    misses, px.

    Parameters
    ----------
    motion : (3, 3), from the reference frame to another, as a lens that bends nothing has it. places : (n, 2) of the
        other frame that count.
    """
    there = bent(carry(np.linalg.inv(motion), straightened(places, bend, size)), bend, size)
    found, _ = cv2.findHomography(there, places)
    if found is None:
        return motion, 0.0
    missed = carry(found, there) - places
    return np.asarray(found), float(np.sqrt((missed**2).sum(axis=1).mean()))


def bends_advice() -> str:
    """What is to be done about it where a lens can be solved."""
    return say("Switch on Solve lens distortion, or undistort the plate.")


def bends_words(bend: float, size: tuple[int, int]) -> str:
    """What is said of a lens that bends."""
    off = abs(bend) * size[0] / 2
    return say("The plate has lens distortion: {off:.1f} px at its left and right edges. ", off=off)
