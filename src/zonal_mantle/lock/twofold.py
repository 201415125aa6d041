"""Whether a second thing moves in a lock's field, and holds so much of it that it may as well be what is meant."""

from __future__ import annotations

from typing import NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import between_centres, carry
from ..shot.lock import Motion
from .align import Area, Fit

Array = NDArray[np.float32]
LEAST_LEFT = 0.08  # of the field must be unlike for a second thing to be looked for
LEAST_LIKE, LEAST_HELD = 0.9, 0.5  # how alike a second thing must be, and on how much of what was left
TIMES_SURE = 3.0  # its own error, by which it must move apart
LEAST_APART_PX = 1.0
LEAST_MOVED_PX, TIMES_MOVED = 0.1, 3.0  # times its error, by which a field that is a mixture moves without a part
LEAST_FRAMES = 3  # that tell what stands in a field
LEAST_STANDS, MOST_STANDS = 0.02, 0.3  # of the field that is worth a look; of the rest's texture that it may hold
MUCH = 0.22  # of what the first holds: a second thing that holds more is not something that passes
RIM, INNER = 0.5, 0.3  # of the way from a field's middle to its rim; what lies within counts for less
TEXTURE = 1e-3  # power of slopes, coded values squared, at which a pixel counts by half


class Second(NamedTuple):
    """A second thing in a field: how it moves (3, 3), by how many px other than the first, and how much of the field's
    texture it holds, as a share of what the first does."""

    motion: NDArray[np.float64]
    apart_px: float
    share: float


def seconds(area: Area, feeds: list[Array], fit: Fit, cover: Array | None = None) -> list[Second]:
    """What else moves in a field, with all of it that does not move as a fit says; what holds most comes first.

    What is left is fitted by itself. Where that holds well, it is weighed against the first by the textured pixels on
    which each of them is alike, those near the field's rim in full: a field is drawn over what it is meant for, which
    reaches all round it, while what stands or passes in front of that does not.
    """
    left = area.unlike(feeds, fit.homography, cover)
    if left is None or float(left.sum()) < LEAST_LEFT * area.levels[0].total:
        return []
    sure = np.where(left > 0.5, left, np.float32(0))
    mask = np.asarray(cv2.morphologyEx(sure, cv2.MORPH_OPEN, np.ones((9, 9), np.uint8)), np.float32)
    try:
        other = Area(area.pictures, mask)
    except ValueError:
        return []
    first, out = max(_held(area, area.whole_mask(), left), 1e-9), list[Second]()
    for guess in (np.eye(3), fit.homography, other.start(feeds, fit.homography, 0.1)):
        found = other.find(feeds, guess, "similarity", cover)
        if found is None or found.likeness < LEAST_LIKE or found.kept < LEAST_HELD:
            continue
        here, there = (carry(each.homography, other.centre[None])[0] for each in (found, fit))
        apart = float(np.hypot(*(here - there)))
        if _is_the_first_again(area, mask, left, np.linalg.inv(fit.homography) @ found.homography):
            continue
        rest = other.unlike(feeds, found.homography, cover)
        if rest is not None and apart > max(LEAST_APART_PX, TIMES_SURE * found.uncertainty_px):
            out.append(Second(found.homography, apart, _held(area, mask, rest) / first))
    return sorted(out, key=lambda each: -each.share)


def _is_the_first_again(area: Area, mask: Array, unlike: Array, way: NDArray[np.float64]) -> bool:
    """Whether a second thing would lie where the first is alike: a texture that repeats, under what covers it."""
    height, width = mask.shape
    there = np.asarray(cv2.warpPerspective(mask, between_centres(way), (width, height)), np.float32)
    alike = np.maximum(area.whole_mask() - unlike, 0)
    return float((there * alike).sum()) > LEAST_HELD * float(mask.sum())


def apart_without(area: Area, feeds: list[Array], fit: Fit, motion: Motion, cover: Array | None = None) -> float:
    """By how many px an area's corners would move if what is unlike in it, and what lies just beside that, were left
    out; 0 where that is within the error without it. A fit that holds a mixture of two things does not stand so."""
    left = area.unlike(feeds, fit.homography, cover)
    if left is None:
        return 0.0
    sure = np.where(left > 0.5, left, np.float32(0))
    clear = cleared(area, np.asarray(cv2.morphologyEx(sure, cv2.MORPH_OPEN, np.ones((3, 3), np.uint8)), np.float32), 13)
    again = None if clear is None else clear.find(feeds, fit.homography, motion, cover, top=2)
    if again is None:
        return 0.0
    moved = carry(again.homography, area.corners) - carry(fit.homography, area.corners)
    apart = float(np.sqrt((moved**2).sum(axis=1).mean()))
    return apart if apart > max(LEAST_MOVED_PX, TIMES_MOVED * again.uncertainty_px) else 0.0


def without_what_stands(area: Area, seen: list[tuple[list[Array], NDArray[np.float64], Array | None]]) -> Area | None:
    """An area without what is unlike on most of the frames on which it was found: what stood before it on its own
    frame. None where there is nothing of that, or so much that it may be what is meant.

    `seen` has, by frame, its pyramid, how the area moved there, and what of the frame counts.
    """
    maps = [each for each in (area.unlike(*frame) for frame in seen) if each is not None]
    if len(maps) < LEAST_FRAMES:
        return None
    often = np.sum([each > 0.5 for each in maps], axis=0, dtype=np.int32)
    stands = np.where(2 * often > len(maps), np.float32(1), np.float32(0))
    stands = np.asarray(cv2.morphologyEx(stands, cv2.MORPH_OPEN, np.ones((9, 9), np.uint8)), np.float32)
    whole = area.whole_mask()
    if float((stands * whole).sum()) < LEAST_STANDS * area.levels[0].total:
        return None
    clear, nothing = cleared(area, stands, 9), np.zeros_like(whole)
    if clear is None:
        return None
    left = clear.whole_mask()
    return clear if _held(area, whole - left, nothing) < MOST_STANDS * _held(area, left, nothing) else None


def cleared(area: Area, mask: Array, wide_px: int) -> Area | None:
    """An area without what lies within a mask, or just beside it; None where too little is left."""
    wide = np.asarray(cv2.dilate(mask, np.ones((wide_px, wide_px), np.uint8)), np.float32)
    try:
        return Area(area.pictures, area.whole_mask() * (1 - wide), area.box)
    except ValueError:
        return None


def _held(area: Area, mask: Array, unlike: Array) -> float:
    """How much of the field's texture is alike, what lies near its rim in full."""
    level = area.levels[0]
    x0, y0 = level.origin
    height, width = level.pixels.shape
    alike = np.maximum(mask - unlike, 0)[y0 : y0 + height, x0 : x0 + width]
    left, top, right, bottom = area.box
    across = np.abs(np.arange(width) + x0 + 0.5 - area.centre[0]) / ((right - left) / 2)
    down = np.abs(np.arange(height) + y0 + 0.5 - area.centre[1]) / ((bottom - top) / 2)
    near = np.where(np.maximum(across[None], down[:, None]) > RIM, 1.0, INNER)
    return float((alike * level.mask * near * level.slope / (level.slope + TEXTURE)).sum())
