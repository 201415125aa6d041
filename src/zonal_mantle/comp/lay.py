"""Laying one layer under what is nearer: a row is sampled, then toned, hazed and composited in one pass.

The picture is built from near to far. By the associativity of *over* (Porter & Duff 1984) that gives the same as from
far to near, and what is hidden need not be computed. Kernels take float32; only what a cubic
undershoots is clamped, and only where the painting has nothing below 0.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..match.tone import ToneNumbers, tone_row
from ..media.compiled import fast_kernel, fast_part
from ..place.minify import TILE_HEIGHT, TILE_WIDTH
from ..place.sampling import TILE, sample_grid_stretch, sample_stretch

Array = NDArray[np.float32]
_AT = np.uintp
_HIDDEN = np.float32(1e-5)  # less than this is not looked for
_NONE = np.zeros((1, 1), np.float32)


class Accumulator(NamedTuple):
    """The picture so far, from the lens on: premultiplied RGBA (h, w, 4), and where `counts` the share of each pixel
    that is counted (plate, or what a grain lies on), (h, w). `empty`: nothing was laid yet and its arrays hold
    anything."""

    rgba: Array
    counted: Array
    counts: bool
    empty: bool


class Limit(NamedTuple):
    """What of a layer is let through: alpha (h, w) where `matted`, times an opacity 0…1."""

    matte: Array
    matted: bool
    opacity: np.float32


class Look(NamedTuple):
    """What becomes of a layer's light: its tone, the shares that reach the lens, what the air adds; and how much what
    it shows is `counted`."""

    tone: ToneNumbers
    keep_r: np.float32
    keep_g: np.float32
    keep_b: np.float32
    haze_r: np.float32
    haze_g: np.float32
    haze_b: np.float32
    counted: np.float32


class Tiles(NamedTuple):
    """Which tiles of a picture (`place.minify`) a call lays: those that hold `own`, or all where that is below 0."""

    tiles: NDArray[np.int32]
    own: int


class Places(NamedTuple):
    """Where a picture's pixels look on a painting: a grid of places (`place.seen.Grid`), what is beyond the painting's
    rim (`place.rim`), its calm continuation and over how many of its pixels that comes in."""

    grid: NDArray[np.float64]
    step: int
    origin: float
    edge: int
    calm: Array
    fade: float


def limit_of(matte: Array | None = None, opacity: float = 1.0) -> Limit:
    """A limit by an alpha, or none."""
    return Limit(_NONE if matte is None else matte, matte is not None, np.float32(opacity))


@fast_part
def _open_row(have, empty, matte, matted, opacity, share):  # type: ignore[no-untyped-def]
    """What of each pixel a layer may still fill: not covered by what is nearer, and within its matte. The row's sum."""
    zero, one, total = np.float32(0), np.float32(1), np.float32(0)
    if empty:
        share[:] = opacity
    else:
        for x in range(_AT(share.shape[0])):
            part = (one - have[_AT(4) * x + _AT(3)]) * opacity
            share[x] = part if part > _HIDDEN else zero
    if matted:
        for x in range(share.shape[0]):
            part = share[x] * min(max(matte[x], zero), one)
            share[x] = part if part > _HIDDEN else zero
    for x in range(share.shape[0]):
        total += share[x]
    return total


@fast_part
def _blend_row(row, share, look, have, counted, counts):  # type: ignore[no-untyped-def]
    """Hazes and lays flat premultiplied RGBA."""
    keep_r, keep_g, keep_b = look.keep_r, look.keep_g, look.keep_b
    haze_r, haze_g, haze_b = look.haze_r, look.haze_g, look.haze_b
    for x in range(_AT(share.shape[0])):
        k = _AT(4) * x
        covered = share[x] * row[k + _AT(3)]
        have[k] += share[x] * keep_r * row[k] + covered * haze_r
        have[k + _AT(1)] += share[x] * keep_g * row[k + _AT(1)] + covered * haze_g
        have[k + _AT(2)] += share[x] * keep_b * row[k + _AT(2)] + covered * haze_b
        have[k + _AT(3)] += covered
    if counts and look.counted != np.float32(0):
        for x in range(share.shape[0]):
            counted[x] += look.counted * share[x] * row[4 * x + 3]


@fast_part
def _begin_row(row, share, look, have, counted, counts):  # type: ignore[no-untyped-def]
    """As `_blend_row`, where nothing is nearer."""
    keep_r, keep_g, keep_b = look.keep_r, look.keep_g, look.keep_b
    haze_r, haze_g, haze_b = look.haze_r, look.haze_g, look.haze_b
    for x in range(_AT(share.shape[0])):
        k = _AT(4) * x
        covered = share[x] * row[k + _AT(3)]
        have[k] = share[x] * keep_r * row[k] + covered * haze_r
        have[k + _AT(1)] = share[x] * keep_g * row[k + _AT(1)] + covered * haze_g
        have[k + _AT(2)] = share[x] * keep_b * row[k + _AT(2)] + covered * haze_b
        have[k + _AT(3)] = covered
    if counts:
        for x in range(share.shape[0]):
            counted[x] = look.counted * share[x] * row[4 * x + 3]


@fast_kernel
def lay_opaque(y0, y1, pixels, limit, look, acc):  # type: ignore[no-untyped-def]
    """Rows of a picture without alpha, (h, w, 3), pixel for pixel."""
    width = acc.rgba.shape[1]
    row, share = np.ones(4 * width, np.float32), np.empty(width, np.float32)
    for y in range(y0, y1):
        have = acc.rgba[y].reshape(-1)
        if _open_row(have, acc.empty, limit.matte[y if limit.matted else 0], limit.matted, limit.opacity, share) > 0:
            own = pixels[y].reshape(-1)
            for x in range(_AT(width)):
                row[_AT(4) * x] = own[_AT(3) * x]
                row[_AT(4) * x + _AT(1)] = own[_AT(3) * x + _AT(1)]
                row[_AT(4) * x + _AT(2)] = own[_AT(3) * x + _AT(2)]
            if look.tone.stages > 0:
                tone_row(row, look.tone)
            if acc.empty:
                _begin_row(row, share, look, have, acc.counted[y if acc.counts else 0], acc.counts)
            else:
                _blend_row(row, share, look, have, acc.counted[y if acc.counts else 0], acc.counts)
        elif acc.empty:
            have[:] = np.float32(0)
            if acc.counts:
                acc.counted[y] = np.float32(0)


@fast_kernel
def lay_cut(y0, y1, pixels, limit, look, acc):  # type: ignore[no-untyped-def]
    """Rows of a premultiplied picture, (h, w, 4), pixel for pixel."""
    width = acc.rgba.shape[1]
    row, share = np.empty(4 * width, np.float32), np.empty(width, np.float32)
    for y in range(y0, y1):
        have = acc.rgba[y].reshape(-1)
        if _open_row(have, acc.empty, limit.matte[y if limit.matted else 0], limit.matted, limit.opacity, share) > 0:
            row[:] = pixels[y].reshape(-1)
            if look.tone.stages > 0:
                tone_row(row, look.tone)
            if acc.empty:
                _begin_row(row, share, look, have, acc.counted[y if acc.counts else 0], acc.counts)
            else:
                _blend_row(row, share, look, have, acc.counted[y if acc.counts else 0], acc.counts)
        elif acc.empty:
            have[:] = np.float32(0)
            if acc.counts:
                acc.counted[y] = np.float32(0)


@fast_kernel
def lay_flat(y0, y1, painting, low, inverse, which, limit, look, acc):  # type: ignore[no-untyped-def]
    """Rows of a premultiplied painting, (h', w', 4), through a homography from the picture's places to its own."""
    width = acc.rgba.shape[1]
    row, share = np.zeros(4 * TILE, np.float32), np.empty(TILE, np.float32)
    xs, ys, weights = np.empty(TILE, np.int32), np.empty(TILE, np.int32), np.empty(8 * TILE, np.float32)
    wide = TILE if which.own < 0 else TILE_WIDTH
    for left in range(0, width, wide):
        right = min(left + wide, width)
        for y in range(y0, y1):
            if which.own >= 0 and which.tiles[y // TILE_HEIGHT, left // TILE_WIDTH] != which.own:
                continue
            have = acc.rgba[y].reshape(-1)[4 * left : 4 * right]
            matte = limit.matte[y, left:right] if limit.matted else limit.matte[0]
            open_share = share[: right - left]
            if _open_row(have, False, matte, limit.matted, limit.opacity, open_share) > 0:
                first, end = sample_stretch(painting, low, inverse, left, y, open_share, xs, ys, weights, row)
                part = row[4 * first : 4 * end]
                if look.tone.stages > 0:
                    tone_row(part, look.tone)
                counted = acc.counted[y, left + first : left + end] if acc.counts else acc.counted[0]
                _blend_row(part, open_share[first:end], look, have[4 * first : 4 * end], counted, acc.counts)


@fast_kernel
def lay_seen(y0, y1, painting, low, places, which, limit, look, acc):  # type: ignore[no-untyped-def]
    """Rows of a premultiplied painting, (h', w', 4), seen through a grid of places (`Places`)."""
    width = acc.rgba.shape[1]
    row, share = np.zeros(4 * TILE, np.float32), np.empty(TILE, np.float32)
    us, vs = np.empty(TILE, np.float64), np.empty(TILE, np.float64)
    line, folded = np.empty(2 * TILE + 8, np.float64), np.empty((2, TILE), np.float64)
    xs, ys, weights = np.empty(TILE, np.int32), np.empty(TILE, np.int32), np.empty(8 * TILE, np.float32)
    wide = TILE if which.own < 0 else TILE_WIDTH
    for left in range(0, width, wide):
        right = min(left + wide, width)
        for y in range(y0, y1):
            if which.own >= 0 and which.tiles[y // TILE_HEIGHT, left // TILE_WIDTH] != which.own:
                continue
            have = acc.rgba[y].reshape(-1)[4 * left : 4 * right]
            matte = limit.matte[y, left:right] if limit.matted else limit.matte[0]
            open_share = share[: right - left]
            if _open_row(have, False, matte, limit.matted, limit.opacity, open_share) > 0:
                row[:] = np.float32(0)
                sample_grid_stretch(
                    painting, low, places.calm, places.grid, places.step, places.origin, places.edge, places.fade,
                    left, y, open_share, us, vs, line, folded, xs, ys, weights, row,
                )  # fmt: skip
                part = row[: 4 * (right - left)]
                if look.tone.stages > 0:
                    tone_row(part, look.tone)
                counted = acc.counted[y, left:right] if acc.counts else acc.counted[0]
                _blend_row(part, open_share, look, have, counted, acc.counts)
