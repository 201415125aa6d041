"""Laying one zone under what is nearer: fused kernels that grade, add air and composite in one pass.

The picture is built from near to far. By the associativity of *over* (Porter & Duff 1984) that gives the same as from
far to near, and what is hidden need not be computed.
"""

from __future__ import annotations

import numba
import numpy as np

from ..match.cdl import grade_colour
from ..place.sampling import FAST, sample_inside, sample_rim, span


@numba.njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy")
def lay_plate(y0, y1, plate, matte, matted, graded, tables, saturation, keep, airlight, acc):  # type: ignore[no-untyped-def]
    """The plate itself, cut by its matte."""
    zero, one = np.float32(0.0), np.float32(1.0)
    haze_r, haze_g, haze_b = airlight[0] * (one - keep), airlight[1] * (one - keep), airlight[2] * (one - keep)
    for y in range(y0, y1):
        for x in range(plate.shape[1]):
            have = acc[y, x, 3]
            if have >= one:
                continue
            cover = min(max(matte[y, x], zero), one) if matted else one
            if cover > zero:
                r, g, b = plate[y, x, 0], plate[y, x, 1], plate[y, x, 2]
                if graded:
                    r, g, b = grade_colour(tables, saturation, r, g, b)
                rest = (one - have) * cover
                acc[y, x, 0] += rest * (r * keep + haze_r)
                acc[y, x, 1] += rest * (g * keep + haze_g)
                acc[y, x, 2] += rest * (b * keep + haze_b)
                acc[y, x, 3] = have + rest


@numba.njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy")
def lay_painting(  # type: ignore[no-untyped-def]
    y0, y1, painting, inverse, matte, matted, graded, tables, saturation, keep, airlight, acc
):
    """A painting through a homography, limited by its matte."""
    zero, one, solid = np.float32(0.0), np.float32(1.0), np.float32(0.9999)
    haze_r, haze_g, haze_b = airlight[0] * (one - keep), airlight[1] * (one - keep), airlight[2] * (one - keep)
    h, w = painting.shape[:2]
    data = painting.reshape(-1)
    m00, m01, m02 = inverse[0, 0], inverse[0, 1], inverse[0, 2]
    m10, m11, m12 = inverse[1, 0], inverse[1, 1], inverse[1, 2]
    m20, m21, m22 = inverse[2, 0], inverse[2, 1], inverse[2, 2]
    for y in range(y0, y1):
        first, end = span(inverse, y, acc.shape[1], w, h)
        py = y + 0.5
        for x in range(first, end):
            have = acc[y, x, 3]
            if have >= np.float32(0.99999):
                continue
            cover = min(max(matte[y, x], zero), one) if matted else one
            if cover <= zero:
                continue
            px = x + 0.5
            z = m20 * px + m21 * py + m22
            if z <= 0.0:
                continue
            u, v = (m00 * px + m01 * py + m02) / z - 0.5, (m10 * px + m11 * py + m12) / z - 0.5
            if u <= -2.0 or v <= -2.0 or u >= w + 1 or v >= h + 1:
                continue
            fu, fv = np.floor(u), np.floor(v)
            x0, row0, fx, fy = int(fu), int(fv), np.float32(u - fu), np.float32(v - fv)
            if x0 >= 1 and row0 >= 1 and x0 < w - 2 and row0 < h - 2:
                r, g, b, a = sample_inside(data, w, x0, row0, fx, fy)
            else:
                r, g, b, a = sample_rim(data, w, h, x0, row0, fx, fy)
            a = min(a, one)
            if a <= zero:
                continue
            r, g, b = max(r, zero), max(g, zero), max(b, zero)
            if graded:
                if a < solid:
                    r, g, b = grade_colour(tables, saturation, r / a, g / a, b / a)
                    r, g, b = r * a, g * a, b * a
                else:
                    r, g, b = grade_colour(tables, saturation, r, g, b)
            rest = (one - have) * cover
            acc[y, x, 0] += rest * (r * keep + a * haze_r)
            acc[y, x, 1] += rest * (g * keep + a * haze_g)
            acc[y, x, 2] += rest * (b * keep + a * haze_b)
            acc[y, x, 3] = have + rest * a
