"""Laying one zone under what is nearer: a row is sampled, then graded, hazed and composited in one pass.

The picture is built from near to far. By the associativity of *over* (Porter & Duff 1984) that gives the same as from
far to near, and what is hidden need not be computed.
"""

from __future__ import annotations

import numba
import numpy as np

from ..match.cdl import grade_row
from ..media.powers import FAST
from ..place.sampling import TILE, sample_grid_stretch, sample_stretch

kernel = numba.njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy")
_AT = np.uintp
_HIDDEN = np.float32(1e-5)  # less than this is not looked for


@kernel
def _open_row(have, matte, matted, share):  # type: ignore[no-untyped-def]
    """What of each pixel a zone may still fill: not covered by what is nearer, and within its matte. The row's sum."""
    zero, one, total = np.float32(0), np.float32(1), np.float32(0)
    for x in range(_AT(share.shape[0])):
        part = one - have[_AT(4) * x + _AT(3)]
        share[x] = part if part > _HIDDEN else zero
    if matted:
        for x in range(share.shape[0]):
            part = share[x] * min(max(matte[x], zero), one)
            share[x] = part if part > _HIDDEN else zero
    for x in range(share.shape[0]):
        total += share[x]
    return total


@kernel
def _blend_row(row, share, keep, haze, have):  # type: ignore[no-untyped-def]
    """Hazes and lays flat premultiplied RGBA."""
    zero = np.float32(0)
    haze_r, haze_g, haze_b = haze
    for x in range(_AT(share.shape[0])):
        k = _AT(4) * x
        covered = share[x] * row[k + _AT(3)]
        part = share[x] * keep
        have[k] += part * max(row[k], zero) + covered * haze_r
        have[k + _AT(1)] += part * max(row[k + _AT(1)], zero) + covered * haze_g
        have[k + _AT(2)] += part * max(row[k + _AT(2)], zero) + covered * haze_b
        have[k + _AT(3)] += covered


@kernel
def lay_plate(y0, y1, plate, matte, matted, grade, graded, powered, keep, haze, acc):  # type: ignore[no-untyped-def]
    """The plate itself, cut by its matte."""
    width = acc.shape[1]
    row, share = np.ones(4 * width, np.float32), np.empty(width, np.float32)
    for y in range(y0, y1):
        have = acc[y].reshape(-1)
        if _open_row(have, matte[y if matted else 0], matted, share) > 0:
            pixels = plate[y].reshape(-1)
            for x in range(_AT(width)):
                row[_AT(4) * x] = pixels[_AT(3) * x]
                row[_AT(4) * x + _AT(1)] = pixels[_AT(3) * x + _AT(1)]
                row[_AT(4) * x + _AT(2)] = pixels[_AT(3) * x + _AT(2)]
            if graded:
                grade_row(row, grade, powered)
            _blend_row(row, share, keep, haze, have)


@kernel
def lay_foreground(y0, y1, foreground, grade, graded, powered, keep, haze, acc):  # type: ignore[no-untyped-def]
    """The plate without its old sky: premultiplied RGBA."""
    width = acc.shape[1]
    row, share = np.empty(4 * width, np.float32), np.empty(width, np.float32)
    for y in range(y0, y1):
        have = acc[y].reshape(-1)
        if _open_row(have, share, False, share) > 0:
            row[:] = foreground[y].reshape(-1)
            if graded:
                grade_row(row, grade, powered)
            _blend_row(row, share, keep, haze, have)


@kernel
def lay_painting(  # type: ignore[no-untyped-def]
    y0, y1, painting, inverse, matte, matted, grade, graded, powered, keep, haze, acc
):
    """A painting through a homography, limited by its matte."""
    width = acc.shape[1]
    row, share = np.zeros(4 * TILE, np.float32), np.empty(TILE, np.float32)
    xs, ys, weights = np.empty(TILE, np.int32), np.empty(TILE, np.int32), np.empty(8 * TILE, np.float32)
    for left in range(0, width, TILE):
        right = min(left + TILE, width)
        for y in range(y0, y1):
            have = acc[y].reshape(-1)[4 * left : 4 * right]
            limit = matte[y, left:right] if matted else matte[0]
            open_share = share[: right - left]
            if _open_row(have, limit, matted, open_share) > 0:
                first, end = sample_stretch(painting, inverse, left, y, open_share, xs, ys, weights, row)
                part = row[4 * first : 4 * end]
                if graded:
                    grade_row(part, grade, powered)
                _blend_row(part, open_share[first:end], keep, haze, have[4 * first : 4 * end])


@kernel
def lay_seen(  # type: ignore[no-untyped-def]
    y0, y1, painting, calm, grid, step, origin, edge, fade, matte, matted, grade, graded, powered, keep, haze, acc
):
    """A painting seen through a grid of places (`place.seen.grid`), limited by its matte."""
    width = acc.shape[1]
    row, share = np.zeros(4 * TILE, np.float32), np.empty(TILE, np.float32)
    us, vs = np.empty(TILE, np.float64), np.empty(TILE, np.float64)
    line, folded = np.empty(2 * TILE + 8, np.float64), np.empty((2, TILE), np.float64)
    xs, ys, weights = np.empty(TILE, np.int32), np.empty(TILE, np.int32), np.empty(8 * TILE, np.float32)
    for left in range(0, width, TILE):
        right = min(left + TILE, width)
        for y in range(y0, y1):
            have = acc[y].reshape(-1)[4 * left : 4 * right]
            limit = matte[y, left:right] if matted else matte[0]
            open_share = share[: right - left]
            if _open_row(have, limit, matted, open_share) > 0:
                row[:] = np.float32(0)
                sample_grid_stretch(
                    painting,
                    calm,
                    grid,
                    step,
                    origin,
                    edge,
                    fade,
                    left,
                    y,
                    open_share,
                    us,
                    vs,
                    line,
                    folded,
                    xs,
                    ys,
                    weights,
                    row,
                )
                part = row[: 4 * (right - left)]
                if graded:
                    grade_row(part, grade, powered)
                _blend_row(part, open_share, keep, haze, have)
