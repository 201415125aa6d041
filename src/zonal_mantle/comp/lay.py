"""Laying one zone under what is nearer: fused kernels that grade, add air and composite in one pass.

The picture is built from near to far. By the associativity of *over* (Porter & Duff 1984) that gives the same as from
far to near, and what is hidden need not be computed.
"""

from __future__ import annotations

import numba
import numpy as np

from ..match.cdl import grade_colour
from ..place.sampling import FAST, sample_inside, sample_rim, span


@numba.njit(inline="always")
def _under(acc, y, x, r, g, b, alpha, cover, graded, tables, saturation, keep, airlight):  # type: ignore[no-untyped-def]
    """Puts one premultiplied pixel, limited by `cover`, under what is there already."""
    if graded:
        if alpha < np.float32(0.9999):
            r, g, b = grade_colour(tables, saturation, r / alpha, g / alpha, b / alpha)
            r, g, b = r * alpha, g * alpha, b * alpha
        else:
            r, g, b = grade_colour(tables, saturation, r, g, b)
    rest = (np.float32(1.0) - acc[y, x, 3]) * cover
    haze = alpha * (np.float32(1.0) - keep)
    acc[y, x, 0] += rest * (r * keep + airlight[0] * haze)
    acc[y, x, 1] += rest * (g * keep + airlight[1] * haze)
    acc[y, x, 2] += rest * (b * keep + airlight[2] * haze)
    acc[y, x, 3] += rest * alpha


@numba.njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy")
def lay_plate(y0, y1, plate, matte, matted, graded, tables, saturation, keep, airlight, acc):  # type: ignore[no-untyped-def]
    """The plate itself, cut by its matte."""
    zero, one = np.float32(0.0), np.float32(1.0)
    for y in range(y0, y1):
        for x in range(plate.shape[1]):
            if acc[y, x, 3] >= 1:
                continue
            cover = min(max(matte[y, x], zero), one) if matted else one
            if cover > 0:
                r, g, b = plate[y, x, 0], plate[y, x, 1], plate[y, x, 2]
                _under(acc, y, x, r, g, b, one, cover, graded, tables, saturation, keep, airlight)


@numba.njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy")
def lay_painting(  # type: ignore[no-untyped-def]
    y0, y1, painting, inverse, matte, matted, graded, tables, saturation, keep, airlight, acc
):
    """A painting through a homography, limited by its matte."""
    zero, one = np.float32(0.0), np.float32(1.0)
    h, w = painting.shape[:2]
    data = painting.reshape(-1)
    for y in range(y0, y1):
        first, end = span(inverse, y, acc.shape[1], w, h)
        for x in range(first, end):
            if acc[y, x, 3] >= 0.99999:
                continue
            cover = min(max(matte[y, x], zero), one) if matted else one
            if cover <= 0:
                continue
            px, py = x + 0.5, y + 0.5
            z = inverse[2, 0] * px + inverse[2, 1] * py + inverse[2, 2]
            if z <= 0:
                continue
            u = (inverse[0, 0] * px + inverse[0, 1] * py + inverse[0, 2]) / z - 0.5
            v = (inverse[1, 0] * px + inverse[1, 1] * py + inverse[1, 2]) / z - 0.5
            if u <= -2 or v <= -2 or u >= w + 1 or v >= h + 1:
                continue
            fu, fv = np.floor(u), np.floor(v)
            x0, y0_, fx, fy = int(fu), int(fv), np.float32(u - fu), np.float32(v - fv)
            if x0 >= 1 and y0_ >= 1 and x0 < w - 2 and y0_ < h - 2:
                r, g, b, a = sample_inside(data, w, x0, y0_, fx, fy)
            else:
                r, g, b, a = sample_rim(data, w, h, x0, y0_, fx, fy)
            a = min(a, one)
            if a > 0:
                r, g, b = max(r, zero), max(g, zero), max(b, zero)
                _under(acc, y, x, r, g, b, a, cover, graded, tables, saturation, keep, airlight)
