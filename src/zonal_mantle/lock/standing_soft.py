"""What stands before a soft picture, which has hardly a feature that could tell how it moves: burnt-in words, marks.

They are compact and touch no side of the frame, as ground does; and they were laid over the picture when it had its
grain, so that they have none, or lie near its top or foot: rocks in a mist do not. The picture, with them filled in
from around and made small, is laid over itself by the whole of it (G. D. Evangelidis & E. Z. Psarakis, Parametric image
alignment using enhanced correlation coefficient maximization, PAMI 2008). Where its parts agree that it moved, and the
edges of a compact thing did not, that stands.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import carry
from .look import CELLS, Run

Array = NDArray[np.float32]
Mask = NDArray[np.bool_]
Matrix = NDArray[np.float64]

SMALL_PX, SMOOTH_PX = 160, 1.0  # the longer side of what is laid over itself; of that
TURNS, STEP = 60, 1e-4
MOST_HIGH, MOST = 0.2, 0.12  # of the frame: how high a thing is, and how much all are
MOST_PARTS = 60  # more are a picture's own
LINES = 0.25  # of the box about a higher one that it fills at most
BETTER, STEADY = 0.35, 1.5  # of what is left otherwise; codes below which nothing is told by a cell
FINE_PX, QUIET = 1.5, 5  # of grain; percentile of pixels that have the least
LEAST_GRAIN, BARE, LEAST_TOLD = 0.15, 0.6, 100  # codes; of the picture's grain; pixels that tell
MARGIN = 0.16  # of the frame's height
LEAST_CELLS, AGREE = 4, 0.75  # cells that tell the motion, and their share of all that tell any
LEAST_KNOWN = 0.5  # of a thing's edges, that stand by features
LEAST_CROSSED, LEAST_AGREE = 0.15, 0.7  # of a thing's edges, that the picture crosses; and of those, that stand


@dataclass(frozen=True)
class Part:
    """What may be a burnt-in thing: its edges, as they follow in rows and columns of a frame; these and what lies
    between them close by; all that it takes; and whether that is lines, not a whole."""

    edges: Mask
    close: Mask
    takes: Mask
    lines: bool


def parts_of(still: Mask, bridged: int) -> list[Part]:
    """Edges that hang together over gaps of `bridged` pixels and touch no side of the frame: low things, each as a
    whole, and lines about much of a frame. None where they are much of the frame. still (h, w)."""
    height, width = still.shape
    rows, columns = np.nonzero(still)
    there: Any = np.pad(still.astype(np.uint8), bridged)
    there = cv2.morphologyEx(there, cv2.MORPH_CLOSE, np.ones((bridged, bridged), np.uint8))
    _, labels, stats, _ = cv2.connectedComponentsWithStats(there, connectivity=8)
    labels = labels[bridged:-bridged, bridged:-bridged]
    left, top, wide, high, count = stats.T
    left, top = left - bridged, top - bridged
    within = (left > 1) & (top > 1) & (left + wide < width - 1) & (top + high < height - 1)
    free = [
        int(each) for each in np.flatnonzero(within & ((high < MOST_HIGH * height) | (count < LINES * wide * high)))
    ]
    if len(free) > MOST_PARTS:
        return []
    out, all_of, own = list[Part](), 0, labels[rows, columns]
    for each in free:
        edges = own == each
        if not edges.any():
            continue
        close, takes = labels == each, np.zeros((height, width), np.uint8)
        lines = bool(high[each] >= MOST_HIGH * height)
        if not lines:
            around = cv2.convexHull(np.stack([columns[edges], rows[edges]], axis=1).astype(np.int32))
            cv2.fillConvexPoly(takes, around, 1)
        else:
            takes[close] = 1
        all_of += int(takes.sum())
        out.append(Part(edges, close, takes > 0, lines))
    return out if all_of < MOST * height * width else []


def soft_motion(run: Run, hidden: Mask) -> Matrix | None:
    """How the picture of a run moved from its first frame to its last, (3, 3), by all of it but what is `hidden`; None
    where its parts do not agree on that, or hardly move."""
    height, width = hidden.shape
    fit = min(1.0, SMALL_PX / max(width, height))
    cover = cv2.resize(
        cv2.dilate(hidden.astype(np.uint8), np.ones((5, 5))), None, fx=fit, fy=fit, interpolation=cv2.INTER_AREA
    )
    small = [_filled(codes, cover) for codes in run.codes]
    way: Any = np.eye(2, 3, dtype=np.float32)
    mask = (cover == 0).astype(np.uint8)
    done = (cv2.TERM_CRITERIA_COUNT | cv2.TERM_CRITERIA_EPS, TURNS, STEP)
    try:
        for picture in small[1:]:
            _, way = cv2.findTransformECC(small[0], picture, way, cv2.MOTION_EUCLIDEAN, done, mask, 1)
        _, way = cv2.findTransformECC(small[0], small[-1], way, cv2.MOTION_AFFINE, done, mask, 1)
    except cv2.error:  # it has nothing to go by
        return None
    if not _agreed(small[0], small[-1], way, mask):
        return None
    whole = np.vstack([way, [0, 0, 1]]).astype(float)
    half = np.array([[1, 0, 0.5], [0, 1, 0.5], [0, 0, 1]])
    grow = np.diag([1 / fit, 1 / fit, 1])
    return np.asarray(grow @ half @ whole @ np.linalg.inv(half) @ np.linalg.inv(grow))


def _filled(codes: NDArray[np.uint8], cover: NDArray[Any]) -> Array:
    """A picture made small, what is covered filled in from around, a little smoothed."""
    size = cover.shape[1], cover.shape[0]
    small: Any = cv2.resize(codes.astype(np.float32), size, interpolation=cv2.INTER_AREA)
    if cover.any():
        small = cv2.inpaint(small, (cover > 0).astype(np.uint8), 3, cv2.INPAINT_TELEA)
    return np.asarray(cv2.GaussianBlur(small, (0, 0), SMOOTH_PX), np.float32)


def _agreed(first: Array, last: Array, way: Array, mask: NDArray[np.uint8]) -> bool:
    """Whether the cells of a frame that tell of any motion tell of this one: so it is far more alike than in place."""
    size = first.shape[1], first.shape[0]
    there = cv2.warpAffine(last, way, size, flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP)
    seen = cv2.warpAffine(mask, way, size, flags=cv2.INTER_NEAREST | cv2.WARP_INVERSE_MAP) * mask
    seen = cv2.erode(seen, np.ones((3, 3), np.uint8), borderValue=0).astype(np.float32)
    share = cv2.resize(seen, CELLS, interpolation=cv2.INTER_AREA)
    moved, stayed = (
        cv2.resize(seen * (first - other) ** 2, CELLS, interpolation=cv2.INTER_AREA) / np.maximum(share, 1e-6)
        for other in (there, last)
    )
    tells = (share > 0.3) & (np.maximum(moved, stayed) > STEADY**2)
    for_it, against = tells & (moved < BETTER * stayed), tells & (stayed < BETTER * moved)
    return int(for_it.sum()) >= LEAST_CELLS and bool(for_it.sum() >= AGREE * (for_it | against).sum())


def things_before_soft(
    runs: Sequence[Run],
    still: Mask,
    slopes: tuple[Array, Array],
    known: Array | None,
    bridged: int,
    across_px: float,
    stands_by: Callable[[int, Matrix], Mask],
) -> Mask:
    """Compact things that stand while the picture moves across their edges, each as a whole. (h, w).

    Parameters
    ----------
    still : edges that are in one place on all frames. slopes : mean slopes over all frames, across and down.
    known : what is known to stand; of a thing that does for the most part, all does.
    bridged : pixels that parts of one thing lie apart. across_px : that the picture moves across an edge, at least.
    stands_by : (run, motion) -> where its ends are far more alike in place than moved so, (h, w).
    """
    parts, out = parts_of(still, bridged), np.zeros(still.shape, np.bool_)
    if not parts:
        return out
    hidden = np.logical_or.reduce([part.takes for part in parts])
    rows, columns = np.nonzero(still)
    power = np.hypot(slopes[0], slopes[1])[rows, columns]
    places = np.stack([columns, rows], axis=1) + 0.5
    crossed, proven = np.zeros((2, len(rows)), np.bool_)
    restless = _restless(runs)
    grain = float(np.percentile(restless[~hidden], QUIET))
    for k, run in enumerate(runs):
        motion = soft_motion(run, hidden)
        if motion is None:
            continue
        step = carry(motion, places) - places
        along = np.abs(step[:, 0] * slopes[0][rows, columns] + step[:, 1] * slopes[1][rows, columns])
        over = along > across_px * power
        crossed |= over
        proven |= over & stands_by(k, motion)[rows, columns]
    for part in parts:
        own = part.edges
        bare = grain > LEAST_GRAIN and part.close.sum() > LEAST_TOLD
        bare = bare and bool(np.percentile(restless[part.close], QUIET) < BARE * grain)
        laid = bare or (not part.lines and _in_margin(rows[own], len(still)))
        stands = crossed[own].mean() > LEAST_CROSSED and proven[own].sum() > LEAST_AGREE * crossed[own].sum()
        if (laid and stands) or (known is not None and known[rows[own], columns[own]].mean() > LEAST_KNOWN):
            out |= part.takes
    return out


def _restless(runs: Sequence[Run]) -> Array:
    """How much fine parts of each pixel differ from frame to frame, codes: its grain, where nothing moves. (h, w)."""
    out = []
    for run in runs:
        with np.errstate(invalid="ignore"):  # of infinite light
            steps = [(later - sooner) * np.float32(255) for sooner, later in zip(run.pictures, run.pictures[1:])]
        out += [np.abs(step - cv2.GaussianBlur(step, (0, 0), FINE_PX)) for step in steps]
    return np.asarray(np.median(np.stack(out), axis=0), np.float32)


def _in_margin(rows: NDArray[Any], height: int) -> bool:
    return bool(rows.max() < MARGIN * height or rows.min() > (1 - MARGIN) * height)
