"""The sky in gaps: which pixels are sky by their colour, within a frame's region of sky and in the gaps that lead from
it into what stands before it."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import kernel, part
from .sky_region import WORKING_PX
from .what_stays import BLOCK

Array = NDArray[np.float32]

SKYS_OWN = 2.0  # log ratio from which a colour is the sky's own
GAP_REACH_PX = 12.0  # working pixels: gaps further from the region are no gaps, unless others lead there
HOPS, HOP_PX, REACHED = 6, 6.0, np.float32(0.01)  # from gaps to gaps; working pixels; how much of a sky is near
FAR_OFF = 24.0  # deviations of noise
FAR_HOPS, FAR_HOP_PX, FAR_REACHED = 8, 9.0, np.float32(0.003)  # the same from small gaps to small gaps
CLEAR, APART = 0.35, 0.35  # pixels within the noise of the sky to one a little beyond it, and the share that is far
# from it: gaps that have more of both about them lead that far


@part
def beside_of(x, width, cells):  # type: ignore[no-untyped-def]
    """The two cells beside a pixel's middle, and its share of the way between their middles."""
    half = np.float32(0.5)
    u = min(
        max((np.float32(x) + half) * np.float32(cells) / np.float32(width) - half, np.float32(0)), np.float32(cells - 1)
    )
    i = min(int(u), max(cells - 2, 0))
    return i, min(i + 1, cells - 1), np.float32(u - np.float32(i))


@part
def mixed_of(grid, j, below, fv, i, beside, fu):  # type: ignore[no-untyped-def]
    one = np.float32(1)
    top = grid[j, i] * (one - fu) + grid[j, beside] * fu
    low = grid[below, i] * (one - fu) + grid[below, beside] * fu
    return top * (one - fv) + low * fv


def sky_like(off: Array, region: Array, chance: Array, own: Array, plain: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """Pixels that are sky by their colour: in the region (`chance` is that at every pixel), or in gaps. A gap's colour
    is one that the ground has not, or many pixels have it and few are beside it, so that it is not only a colour that
    passes by the sky's.

    Parameters
    ----------
    off : (h, w) float32, distance from the sky in deviations of noise. plain : (h, w), see `clear_sky.plain_surfaces`.
    region : the chance of sky at the working size; chance : the same at every pixel, (h, w).
    own : (h / 2, w / 2), see `sky_colours.colour_ratio`.

    Returns
    -------
    (h, w) uint8, 0 or 1.
    """
    height, width = off.shape
    counts = np.empty((3, -(-height // BLOCK), -(-width // BLOCK)), np.float32)
    run_bands(_count_rows, counts.shape[1], off, counts)
    inside, passing, apart = (cv2.GaussianBlur(each, (0, 0), 2.0) for each in counts)
    ratio = inside / (passing + np.float32(1e-4))
    peaked = np.clip((ratio - 0.8) / 0.4, 0, 1).astype(np.float32)
    clear = ((ratio > CLEAR) & (apart > APART)).astype(np.float32)
    like, could = np.empty((height, width), np.uint8), np.empty(peaked.shape, np.float32)
    run_bands(_could_rows, len(could), off, own, peaked, plain, could)
    within = _reached(region, could, clear)
    run_bands(_like_rows, height, off, chance, own, peaked, within, plain, like)
    return like


def _reached(region: Array, could: Array, clear: Array) -> Array:
    """How much of a sky is near, by two blocks by two: about the region, about gaps (`could`, by block) that it
    reaches, and about those that they reach."""
    size = max(could.shape[1] // 2, 2), max(could.shape[0] // 2, 2)
    gaps = np.asarray(cv2.resize(could, size, interpolation=cv2.INTER_AREA), np.float32)
    sky = cv2.resize((region > 0.5).astype(np.float32), size, interpolation=cv2.INTER_AREA)
    reach, hop = (max(px * size[0] / WORKING_PX, 1.0) for px in (GAP_REACH_PX, HOP_PX))
    out = np.asarray(cv2.GaussianBlur(sky, (0, 0), reach), np.float32)
    out = _hopped(out, gaps, HOPS, hop, REACHED)
    mostly = np.asarray(cv2.resize(clear, size, interpolation=cv2.INTER_AREA)) > 0.5
    far = _hopped(
        out, np.where(mostly, gaps, np.float32(0)), FAR_HOPS, max(FAR_HOP_PX * size[0] / WORKING_PX, 1.0), FAR_REACHED
    )
    return np.where((far > FAR_REACHED) & mostly, np.maximum(out, 2 * REACHED), out)


def _hopped(reached: Array, gaps: Array, hops: int, hop: float, least: np.float32) -> Array:
    """What is reached, and what lies about gaps that are, again and again."""
    for _ in range(hops):
        if not ((gaps > 0) & (reached <= least)).any():
            break
        through = np.where(reached > least, gaps, np.float32(0))
        reached = np.maximum(reached, cv2.GaussianBlur(through, (0, 0), hop))
    return reached


@kernel
def _count_rows(first, end, off, counts):  # type: ignore[no-untyped-def]
    """Per block, the share of pixels within the noise of the sky, and a little beyond it."""
    height, width = off.shape
    part = np.float32(1 / (BLOCK * BLOCK))
    for j in range(first, end):
        for i in range(counts.shape[2]):
            own, beside, far = 0, 0, 0
            for y in range(BLOCK * j, min(BLOCK * j + BLOCK, height)):
                for x in range(BLOCK * i, min(BLOCK * i + BLOCK, width)):
                    d = off[y, x]
                    own += d < np.float32(2.5)
                    beside += (d > np.float32(4)) & (d < np.float32(8))
                    far += d > np.float32(FAR_OFF)
            counts[0, j, i], counts[1, j, i] = np.float32(own) * part, np.float32(beside) * part
            counts[2, j, i] = np.float32(far) * part


@kernel
def _could_rows(first, end, off, own, peaked, plain, could):  # type: ignore[no-untyped-def]
    """Per block, the share of pixels that are sky by their colour if they are gaps."""
    height, width = off.shape
    part = np.float32(1 / (BLOCK * BLOCK))
    for j in range(first, end):
        for i in range(could.shape[1]):
            found = 0
            for y in range(BLOCK * j, min(BLOCK * j + BLOCK, height)):
                for x in range(BLOCK * i, min(BLOCK * i + BLOCK, width)):
                    if off[y, x] < np.float32(4) and plain[y, x] < 2:
                        found += own[y // 2, x // 2] > np.float32(SKYS_OWN) or peaked[j, i] > np.float32(0.5)
            could[j, i] = np.float32(found) * part


@kernel
def _like_rows(y0, y1, off, chance, own, peaked, within, plain, like):  # type: ignore[no-untyped-def]
    height, width = off.shape
    half = np.float32(0.5)
    for y in range(y0, y1):
        j, below, fv = beside_of(y, height, within.shape[0])
        jb, belowb, fvb = beside_of(y, height, peaked.shape[0])
        for x in range(width):
            found = chance[y, x] > np.float32(0.97)
            if not found and off[y, x] < np.float32(4):
                if chance[y, x] > half:
                    found = True
                elif plain[y, x] < 2:
                    i, beside, fu = beside_of(x, width, within.shape[1])
                    if mixed_of(within, j, below, fv, i, beside, fu) > np.float32(REACHED):
                        ib, besideb, fub = beside_of(x, width, peaked.shape[1])
                        found = own[y // 2, x // 2] > np.float32(SKYS_OWN)
                        found = found or mixed_of(peaked, jb, belowb, fvb, ib, besideb, fub) > half
            like[y, x] = np.uint8(found)
