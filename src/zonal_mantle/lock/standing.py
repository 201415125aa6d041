"""What stands in the frame while the picture moves: borders, burnt-in words, marks of ownership, dirt on the lens.

An edge of such a thing is in the same place on every frame. That alone proves nothing: a camera may stand, and a
horizon slides along itself. So an edge counts only where the picture beside it is seen to move across it, by features
on a few runs of frames that agree on one motion all over the frame; where they do not, or where what stands fills much
of the frame, nothing is left out. That edges which stand still are found by the median of their slopes: Dekel,
Rubinstein, Liu & Freeman, On the effectiveness of visible watermarks, CVPR 2017.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import between_centres, carry
from .look import CELLS, Run
from .standing_soft import things_before_soft

Array = NDArray[np.float32]
Codes = NDArray[np.uint8]
Matrix = NDArray[np.float64]
Slopes = tuple[Array, Array]

SLOPE, STRAYS = 2.5, 0.6  # codes a pixel that an edge has at least, and by how much of it that may differ by frame
LEAST_EDGE = 12  # pixels that hang together
ACROSS_PX = 3.0  # that the picture moves across an edge that stands
BETTER, ABOUT = 0.35, 7  # of what an edge is off by if it moved, that it is off standing, as a mean over such a window
LEAST_CELLS = 0.6  # of the cells of a frame that have edges: they move
NEAR, MOST_ALONE = 0.04, 0.06  # of the width; of the frame, that stands with nothing that moves so near: ground
BRIDGED, BESIDE = 0.012, 4  # of the frame's width that parts of one thing lie apart; pixels about it
LEAST, MOST = 0.005, 0.4  # of the frame
FLAT, LEAST_DEEP, ALIKE = 3.0, 0.008, 1.5  # codes a border strays by; of the frame; times that opposite sides differ by


def standing(runs: Sequence[Run]) -> Array | None:
    """Where something stands in the frame while the picture moves, (h, w) float32 at the size of the runs' pictures, 1
    there; None where nothing does or nothing tells.

    Example
    -------
    >>> from zonal_mantle.lock.look import runs_of
    >>> rough = cv2.GaussianBlur(np.random.default_rng(1).random((180, 420), np.float32), (0, 0), 2)
    >>> def feed(frame):
    ...     picture = np.ascontiguousarray(rough[:, 4 * frame : 4 * frame + 320])
    ...     picture[:24] = picture[-24:] = 0
    ...     return picture
    >>> stands = standing(runs_of(feed, range(16)))
    >>> float(stands[:20].min()), float(stands[60:120].max())
    (1.0, 0.0)
    >>> standing(runs_of(lambda frame: rough[:, :320], range(16))) is None
    True
    """
    if not runs:
        return None
    rim = border(runs)
    out = _proven(runs, rim)
    if rim is not None:
        out = rim if out is None else np.maximum(out, rim)
    return out if out is not None and LEAST <= out.mean() <= MOST else None


def _slopes_of(codes: Codes) -> Slopes:
    """Of the picture, a little smoothed, across and down, codes a pixel."""
    soft = cv2.GaussianBlur(codes.astype(np.float32), (0, 0), 0.8)
    across, down = (cv2.Sobel(soft, cv2.CV_32F, *way, scale=1 / 8) for way in ((1, 0), (0, 1)))
    return np.asarray(across, np.float32), np.asarray(down, np.float32)


def border(runs: Sequence[Run]) -> Array | None:
    """Flat borders at two opposite sides of every frame, and just beside them, (h, w); None where there are none."""
    shape = runs[0].codes[0].shape
    out = np.zeros(shape, np.float32)
    for turned in (False, True):
        pictures = [codes.T if turned else codes for run in runs for codes in run.codes]
        near, far = (min(_flat_rows(codes[::way]) for codes in pictures) for way in (1, -1))
        least = max(2, LEAST_DEEP * len(pictures[0]))
        if min(near, far) >= least and max(near, far) <= ALIKE * min(near, far):
            rows = out.T if turned else out
            rows[: near + BESIDE] = rows[-far - BESIDE :] = 1
    return out if out.any() else None


def _flat_rows(codes: Codes) -> int:
    """How many rows from the first on are of one tone, all through."""
    rows = codes[: len(codes) // 3].astype(np.float32)
    strays = np.maximum(rows.std(axis=1), np.abs(rows.mean(axis=1) - rows[0].mean()))
    rough = np.flatnonzero(strays > FLAT)
    return int(rough[0]) if len(rough) else 0  # a third of the frame and more is no border


def _proven(runs: Sequence[Run], rim: Array | None) -> Array | None:
    """Edges that stand while the picture moves across them, and what lies between them; None where there are none."""
    slopes = [[_slopes_of(codes) for codes in run.codes] for run in runs]
    across, down = (np.stack([pair[way] for run in slopes for pair in run]) for way in (0, 1))
    mean_x, mean_y = across.mean(axis=0), down.mean(axis=0)
    power = mean_x**2 + mean_y**2
    strays = ((across - mean_x) ** 2 + (down - mean_y) ** 2).mean(axis=0)
    still = _in_one_piece((power > SLOPE**2) & (strays < STRAYS**2 * power))
    if not still.any():
        return None
    by_features = _by_features(runs, slopes, (mean_x, mean_y), power, still, rim)

    def stands_by(k: int, motion: Matrix) -> NDArray[np.bool_]:
        return _either(slopes[k][0], slopes[k][-1], motion)[0]

    bridged = _bridge(still.shape[1])
    things = things_before_soft(runs, still, (mean_x, mean_y), by_features, bridged, ACROSS_PX, stands_by)
    if not things.any():
        return by_features
    whole = _about(things.astype(np.uint8))
    return whole if by_features is None else np.maximum(by_features, whole)


def _bridge(width: int) -> int:
    """Pixels that parts of one thing lie apart."""
    return max(3, round(BRIDGED * width)) | 1


def _about(whole: NDArray[np.uint8]) -> Array:
    return np.asarray(cv2.dilate(whole, np.ones((2 * BESIDE + 1,) * 2, np.uint8)), np.float32)


def _by_features(
    runs: Sequence[Run],
    slopes: list[list[Slopes]],
    mean: Slopes,
    power: Array,
    still: NDArray[np.bool_],
    rim: Array | None,
) -> Array | None:
    """What stands where features tell how the picture moves."""
    (mean_x, mean_y), shape = mean, still.shape
    rows, columns = np.nonzero(still)
    places, proven = np.stack([columns, rows], axis=1) + 0.5, np.zeros(shape, np.bool_)
    moving = np.zeros(shape, np.bool_)
    for run, (first, *_, last) in zip(runs, slopes):
        if run.motion is None:
            continue
        stands, moves = _either(first, last, run.motion)
        step = carry(run.motion, places) - places
        along = np.abs(step[:, 0] * mean_x[rows, columns] + step[:, 1] * mean_y[rows, columns])
        crossed = along > ACROSS_PX * np.sqrt(power[rows, columns])
        proven[rows[crossed], columns[crossed]] |= stands[rows[crossed], columns[crossed]]
        moving |= moves
    proven = _in_one_piece(proven)
    if not proven.any() or not moving.any():
        return None
    seen, some = (_cells_of(each) > LEAST_EDGE for each in (moving, power > SLOPE**2))
    edges = some | seen
    if rim is not None:
        edges &= _cells_of(rim == 0) > 0
    if (seen & edges).sum() < LEAST_CELLS * edges.sum():
        return None
    wide = _bridge(shape[1])
    whole = _filled(cv2.morphologyEx(proven.astype(np.uint8), cv2.MORPH_CLOSE, np.ones((wide, wide), np.uint8)))
    far = cv2.distanceTransform((~moving).astype(np.uint8), cv2.DIST_L2, 5) > NEAR * shape[1]
    if ((whole > 0) & far).mean() > MOST_ALONE:
        return None
    return _about(whole)


def _filled(parts: NDArray[Any]) -> NDArray[np.uint8]:
    """With what small parts enclose: numbers that change stand in a box."""
    outlines, _ = cv2.findContours(parts, cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_SIMPLE)
    small = [each for each in outlines if cv2.contourArea(each) < MOST_ALONE * parts.size]
    return np.asarray(cv2.drawContours(parts.copy(), small, -1, 1, cv2.FILLED), np.uint8)


def _either(first: Slopes, last: Slopes, motion: Matrix) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Where the first and the last frame of a run are far more alike in place than where the picture went to; and where
    it is the other way, and there are edges."""
    height, width = first[0].shape
    flags = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
    way = between_centres(motion)
    in_place, gone, edge = (np.zeros((height, width), np.float32) for _ in range(3))
    for before, after in zip(first, last):
        there = cv2.warpPerspective(after, way, (width, height), flags=flags)
        in_place += (after - before) ** 2
        gone += (there - before) ** 2
        edge += before**2
    window = (ABOUT, ABOUT)
    a, b = cv2.blur(in_place, window), cv2.blur(gone, window)
    seen = cv2.erode(np.ones((height, width), np.uint8), np.ones(window, np.uint8), borderValue=0)
    in_view = cv2.warpPerspective(seen, way, (width, height), flags=cv2.INTER_NEAREST | cv2.WARP_INVERSE_MAP) > 0
    return np.asarray((a < BETTER * b) & in_view), np.asarray((b < BETTER * a) & (edge > SLOPE**2) & in_view)


def _in_one_piece(edges: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Without specks."""
    _, labels, stats, _ = cv2.connectedComponentsWithStats(edges.astype(np.uint8), connectivity=8)
    large = stats[:, cv2.CC_STAT_AREA] >= LEAST_EDGE
    large[0] = False
    return np.asarray(large[labels])


def _cells_of(there: NDArray[np.bool_]) -> NDArray[np.int64]:
    """How many pixels are of a kind in each cell of a frame. (5, 8)."""
    places = np.argwhere(there) * np.array(CELLS[::-1]) // np.array(there.shape)
    out = np.zeros(CELLS[::-1], np.int64)
    np.add.at(out, tuple(places.T), 1)
    return out
