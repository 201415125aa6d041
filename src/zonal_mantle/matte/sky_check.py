"""Whether a matte agrees with the picture: sky that stays, ground that goes, an edge that lies beside its own.

Nothing here looks at how the matte was made. What is surely sky and surely ground is taken from the sky's region
(`sky_region`); from there the colour of each is drawn over the frame, and every pixel of the picture is placed on the
way from the one to the other (Porter & Duff 1984). A pixel that the matte keeps and whose colour is the sky's is left
over, unless the taught classifier denies that it is sky (a white wall below a white cloud); one that it takes away,
more than its place on that way tells, is gone, unless its colour is one that the shot's sky has more often.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import kernel
from ..media.curves import coded
from .old_sky import drawn_over
from .sky_colours import colour_ratio
from .sky_matte import SkyFound

Array = NDArray[np.float32]
Mask = NDArray[np.bool_]

SURE = 0.9  # chance
STAYS, GOES = 0.1, 0.9  # alpha over which sky stays, and under which ground goes
BEYOND, SHORT = 0.1, 0.25  # and by which it must leave what the colour tells of it: above for sky, below for ground
SKYS, SKYS_STEP = 0.25, 0.1  # nearer to the sky than this on the way to the ground, and this near in coded value
GROUNDS, GROUNDS_STEP = 0.5, 0.08  # farther from the sky than this
DENIED = 0.1  # chance by the classifier alone below which nothing is sky for its colour
SKYS_OWN, SKYS_OWN_DEEP = 0.0, 1.0  # log ratio from which a colour is no ground's; and deep within the ground
APART = 0.01  # squared coded distance of sky and ground at which they can be told apart
LEAST_WIDE = 100  # a hundredth of the frame's width: what is narrower (leaves, wires) is not judged
PIECE = 0.4  # share of what stays in one piece that must be left for it to be the sky's
DENSE = 0.6  # share of so wide a window that must be gone: what goes of a crown has gaps

SHIFTS, GROWTHS = 4, 3  # px that an edge is tried at, across and down; and grown or shrunk
CLEAR_PX, BAND_PX = 5, 4  # colours are drawn from beyond this; and what is compared lies within this of the edge
MOST_TRIED = 40_000  # pixels of the edge
LEAST_TRIED = 400


@dataclass(frozen=True)
class SkyCheck:
    """left (h, w): sky that a matte keeps. gone (h, w): ground that it takes away. sky (h, w): which side is sky."""

    left: Mask
    gone: Mask
    sky: Mask


def check_sky(pixels: Array, alpha: Array, found: SkyFound) -> SkyCheck:
    """What of a matte contradicts the picture.

    Parameters
    ----------
    pixels : (h, w, 3) float32, scene-linear. alpha : (h, w).
    found : where the frame's sky is, see `sky_matte.find_sky`.
    """
    height, width = alpha.shape
    codes, chance = coded(pixels), found.chance
    near = np.ones((3, 3), np.uint8)

    def surely(part: Mask, kernel: NDArray[np.uint8]) -> Mask:
        return _at_every_pixel(cv2.erode(part.astype(np.uint8), kernel) > 0, (width, height))

    sky, ground = surely(chance > SURE, near), surely(chance < 1 - SURE, near)
    wide = np.ones((5, 5), np.uint8)
    deep_sky, deep_ground = surely(chance > SURE, wide), surely(chance < 1 - SURE, wide)
    skys, grounds = drawn_over(codes, sky), drawn_over(codes, ground)
    denied = _at_every_pixel((found.sense < DENIED) & (chance < SURE), (width, height))
    own = colour_ratio(pixels, found.model.colours)[1]
    left, gone = np.empty(alpha.shape, np.bool_), np.empty(alpha.shape, np.bool_)

    def compare(y0: int, y1: int) -> None:
        on, apart, off = _along(codes[y0:y1], skys[y0:y1], grounds[y0:y1])
        tells, share = apart > APART, np.clip(on, 0, 1)
        skys_own = own[np.arange(y0, y1) // 2][:, np.arange(width) // 2]
        like_sky = (tells & ~denied[y0:y1] & (on < SKYS) & (off < SKYS_STEP)) | (deep_sky[y0:y1] & (on < GROUNDS))
        like_ground = tells & (on > GROUNDS) & (off > GROUNDS_STEP) & (skys_own < SKYS_OWN)
        like_ground |= deep_ground[y0:y1] & (on > SKYS) & (skys_own < SKYS_OWN_DEEP)
        left[y0:y1] = like_sky & (alpha[y0:y1] > np.maximum(STAYS, share + BEYOND))
        gone[y0:y1] = like_ground & (alpha[y0:y1] < np.minimum(GOES, share - SHORT))

    run_bands(compare, height)
    side = cv2.resize(chance, (width, height), interpolation=cv2.INTER_LINEAR) > 0.5
    across = max(3, width // LEAST_WIDE) | 1
    return SkyCheck(_solid(left, across), _dense(gone, across), side)


def piece_left(alpha: Array, left: Mask) -> Mask:
    """The largest piece that a matte keeps by itself and that is sky for the most part: a wisp in the midst of what
    goes is too small a share of the sky to tell by it. What stays of birds, kites and wires is none.

    Parameters
    ----------
    alpha : (h, w). left : (h, w), sky that it keeps, see `check_sky`.
    """
    if not left.any():
        return np.zeros(left.shape, np.bool_)
    count, labels, stats, _ = cv2.connectedComponentsWithStats((alpha > STAYS).astype(np.uint8), connectivity=8)
    size = stats[:, cv2.CC_STAT_AREA].astype(np.float64)
    skys = np.bincount(labels[left], minlength=count) > PIECE * size
    skys[0] = False  # what goes
    return np.asarray(labels == np.argmax(size * skys)) if skys.any() else np.zeros(left.shape, np.bool_)


def _at_every_pixel(part: Mask, size: tuple[int, int]) -> Mask:
    return np.asarray(cv2.resize(part.astype(np.uint8), size, interpolation=cv2.INTER_NEAREST) > 0)


def _about(mask: Mask, aside: int) -> tuple[slice, slice]:
    """The part of a frame that holds a mask, and so much beside it."""
    x, y, wide, high = cv2.boundingRect(mask.astype(np.uint8))
    return slice(max(y - aside, 0), y + high + aside), slice(max(x - aside, 0), x + wide + aside)


def _solid(mask: Mask, across: int) -> Mask:
    """What of a mask is at least so many pixels broad."""
    part = _about(mask, 1)
    kernel = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (across, across))
    if mask[part].any():
        mask[part] = cv2.morphologyEx(mask[part].astype(np.uint8), cv2.MORPH_OPEN, kernel) > 0
    return mask


def _dense(mask: Mask, across: int) -> Mask:
    """What of a mask lies within windows of so many pixels that it fills for the most part."""
    part, size = _about(mask, across), (across, across)
    if mask[part].any():
        share = cv2.blur(mask[part].astype(np.float32), size, borderType=cv2.BORDER_CONSTANT)
        mask[part] &= cv2.dilate((share > DENSE).astype(np.uint8), np.ones(size, np.uint8)) > 0
    return mask


def _along(codes: Array, sky: Array, ground: Array) -> tuple[Array, Array, Array]:
    """How far each colour lies on the way from sky (0) to ground (1), how far these are apart (squared), and how far
    the colour is from the sky."""
    way, step = ground - sky, codes - sky
    apart = np.square(way).sum(axis=-1)
    on = (step * way).sum(axis=-1) / np.maximum(apart, 1e-4)
    return on, apart, np.sqrt(np.square(step).sum(axis=-1))


@kernel
def _apart_from(rows, columns, candidate, seen, weight):  # type: ignore[no-untyped-def]
    """The weighted sum of squared differences of what is seen from alpha at places, which are kept in the frame."""
    height, width = candidate.shape
    total = 0.0
    for k in range(len(rows)):
        y, x = min(max(rows[k], 0), height - 1), min(max(columns[k], 0), width - 1)
        step = seen[k] - candidate[y, x]
        total += weight[k] * step * step
    return total


@dataclass(frozen=True)
class EdgeOff:
    """Where an edge fits its picture best: moved by (right, down), or grown (below 0: shrunk), px; and how many times
    better the picture is explained so than as it lies."""

    right: int
    down: int
    grow: int
    better: float

    @property
    def px(self) -> float:
        """How far it is off."""
        return float(max(np.hypot(self.right, self.down), abs(self.grow)))


def edge_off(pixels: Array, alpha: Array) -> EdgeOff | None:
    """How far a matte's edge lies beside the picture's; None where there is no edge to judge.

    The picture at the edge is explained as a mixture of what is solid and what is empty near by, each drawn from beyond
    CLEAR_PX of the edge; alpha is compared with the share of that mixture, where it lies and moved, grown and shrunk
    by whole pixels. Some `pixels` of a long edge are tried, evenly.
    """
    codes = coded(pixels)
    clear = np.ones((2 * CLEAR_PX + 1,) * 2, np.uint8)
    empty, solid = (cv2.erode(part.astype(np.uint8), clear) > 0 for part in (alpha < 0.02, alpha > 0.98))
    if not empty.any() or not solid.any():
        return None
    soft = ((alpha > 0.02) & (alpha < 0.98)) | (cv2.dilate(alpha, np.ones((3, 3))) - alpha > 0.5)
    band = cv2.dilate(soft.astype(np.uint8), np.ones((2 * BAND_PX + 1,) * 2)) > 0
    rows, columns = np.nonzero(band)
    few = slice(None, None, max(1, len(rows) // MOST_TRIED))
    rows, columns = rows[few], columns[few]
    sky, ground = drawn_over(codes, empty, 0.25), drawn_over(codes, solid, 0.25)
    on, apart, _ = _along(*(picture[rows, columns] for picture in (codes, sky, ground)))
    tells = apart > APART
    if tells.sum() < LEAST_TRIED:
        return None
    rows, columns = rows[tells], columns[tells]
    seen = np.clip(on[tells], -0.25, 1.25)
    weight = np.minimum(apart[tells], 0.2)

    def cost(candidate: Array, right: int = 0, down: int = 0) -> float:
        return float(_apart_from(rows - down, columns - right, candidate, seen, weight))

    here, tried = cost(alpha), {}
    for down in range(-SHIFTS, SHIFTS + 1):
        for right in range(-SHIFTS, SHIFTS + 1):
            tried[(right, down, 0)] = cost(alpha, right, down)
    for grow in range(1, GROWTHS + 1):
        kernel = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * grow + 1,) * 2)
        tried[(0, 0, grow)] = cost(np.asarray(cv2.dilate(alpha, kernel), np.float32))
        tried[(0, 0, -grow)] = cost(np.asarray(cv2.erode(alpha, kernel), np.float32))
    best = min(tried, key=lambda key: tried[key])
    return EdgeOff(*best, here / max(tried[best], 1e-12))
