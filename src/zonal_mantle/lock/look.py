"""A first look at a shot: runs of a few of its frames, and how the picture moves over each."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from .features import LEAST_CORNER, WINDOW, codes_of

Array = NDArray[np.float32]
Codes = NDArray[np.uint8]
Matrix = NDArray[np.float64]

WORKING_PX = 960  # the longer side of what is looked at
RUNS, LONGEST = 3, 7  # runs of frames that are looked at, and frames of each at most: steps double
LEAST_FRAMES = 4
FAR_PX = 24.0  # that the picture moves by, which is enough of a run
AGREES_PX, AGREES = 1.5, 0.2  # of features, about their common motion; of how far they went
LEAST_AGREE, LEAST_FEATURES = 0.5, 14
CELLS, A_CELL = (8, 5), 20


@dataclass(frozen=True)
class Run:
    """Frames in their order at the working size, as they are and in eight bits; how the picture moved from the first to
    the last, (3, 3), and where features were on both, (n, 2) each. None where features do not agree."""

    pictures: list[Array]
    codes: list[Codes]
    motion: Matrix | None = None
    ends: tuple[Matrix, Matrix] | None = None


def runs_of(feed_of: Callable[[int], Array], frames: range) -> list[Run]:
    """Runs at the beginning, in the middle and at the end of a shot; none of a shot that is too short.

    Parameters
    ----------
    feed_of : gives the (h, w) feed of a frame.
    """
    if len(frames) < LEAST_FRAMES:
        return []

    def picture_at(frame: int) -> Array:
        feed = feed_of(frame)
        fit = min(1.0, WORKING_PX / max(feed.shape))
        return np.asarray(cv2.resize(feed, None, fx=fit, fy=fit, interpolation=cv2.INTER_AREA), np.float32)

    firsts = sorted({round(at) for at in np.linspace(frames.start, max(frames.stop - LONGEST, frames.start), RUNS)})
    return [_run(picture_at, range(first, frames.stop)) for first in firsts]


def _run(picture_at: Callable[[int], Array], frames: range) -> Run:
    """Frames from the first on, further and further apart, until the picture has moved far."""
    pictures, frame, step = [picture_at(frames[0])], frames[0], 1
    codes = [codes_of(pictures[0])]
    first = places = _corners(codes[0])
    good = np.ones(len(first), np.bool_)
    while frame + step in frames and len(codes) < LONGEST:
        frame += step
        pictures.append(picture_at(frame))
        codes.append(codes_of(pictures[-1]))
        step = 1 if len(codes) < 3 else 2 * step
        if not good.any():
            continue
        there, held = _followed(codes[-2], codes[-1], places)
        back, again = _followed(codes[-1], codes[-2], there)
        good &= held & again & (np.linalg.norm(back - places, axis=2).ravel() < 0.5)
        places = there
        if good.any() and len(codes) > 2 and np.median(np.linalg.norm(places - first, axis=2)[good]) > FAR_PX:
            break
    if good.sum() < LEAST_FEATURES:
        return Run(pictures, codes)
    a, b = (each[good].reshape(-1, 2).astype(float) for each in (first, places))
    moves = np.linalg.norm(b - a, axis=1) > AGREES_PX  # what stands has no say
    if moves.sum() < LEAST_FEATURES:
        return Run(pictures, codes)
    within = max(AGREES_PX, AGREES * float(np.median(np.linalg.norm(b - a, axis=1)[moves])))
    motion, agree = cv2.estimateAffine2D(a[moves], b[moves], method=cv2.RANSAC, ransacReprojThreshold=within)
    if motion is None or agree.mean() < LEAST_AGREE:
        return Run(pictures, codes)
    return Run(pictures, codes, np.vstack([motion, [0, 0, 1]]), (a[moves] + 0.5, b[moves] + 0.5))


def _followed(codes: Codes, other: Codes, places: Array) -> tuple[Array, NDArray[np.bool_]]:
    """Where features (n, 1, 2) are on another frame, and which were found there."""
    there, held, _ = cv2.calcOpticalFlowPyrLK(codes, other, places, None, winSize=WINDOW, maxLevel=4)  # type: ignore[call-overload]
    return np.asarray(there, np.float32), np.asarray(held.ravel() > 0)


def _corners(codes: Codes) -> Array:
    """Corners of each cell, (n, 1, 2): burnt-in words are stronger than any that a picture has elsewhere."""
    out = [np.zeros((0, 1, 2), np.float32)]
    columns, rows = (np.linspace(0, size, count + 1).astype(int) for size, count in zip(codes.shape[::-1], CELLS))
    for x0, x1 in zip(columns, columns[1:]):
        for y0, y1 in zip(rows, rows[1:]):
            part = np.ascontiguousarray(codes[y0:y1, x0:x1])
            found = cv2.goodFeaturesToTrack(part, A_CELL, 0.01, 6, blockSize=5)
            if found is not None:
                strength = cv2.cornerMinEigenVal(part, 5, ksize=3)
                firm = strength[found[:, 0, 1].astype(int), found[:, 0, 0].astype(int)] > LEAST_CORNER / 2
                out.append(found[firm] + np.array((x0, y0), np.float32))
    return np.concatenate(out).astype(np.float32)
