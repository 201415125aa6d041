"""Cubic sampling of a premultiplied RGBA picture, for use inside kernels."""

from __future__ import annotations

import numba
import numpy as np

FAST = {"contract", "arcp", "nsz", "reassoc"}
_ONE, _TWO, _THREE = np.uintp(1), np.uintp(2), np.uintp(3)
_STEP = np.uintp(4)


@numba.njit(inline="always")
def cubic_weights(f):  # type: ignore[no-untyped-def]
    """Weights of four neighbours at a share f: cubic convolution with a = −1/2 (Keys 1981)."""
    half, one, two = np.float32(0.5), np.float32(1.0), np.float32(2.0)
    before = ((-half * f + one) * f - half) * f
    here = (np.float32(1.5) * f - np.float32(2.5)) * f * f + one
    after = ((np.float32(-1.5) * f + two) * f + half) * f
    beyond = (half * f - half) * f * f
    return before, here, after, beyond


@numba.njit(inline="always")
def _row(data, base, wx):  # type: ignore[no-untyped-def]
    """Four neighbouring pixels of a flat picture, weighted. Unsigned places, so that loads stay whole vectors."""
    b1, b2, b3 = base + _STEP, base + _STEP + _STEP, base + _STEP + _STEP + _STEP
    r = wx[0] * data[base] + wx[1] * data[b1] + wx[2] * data[b2] + wx[3] * data[b3]
    g = wx[0] * data[base + _ONE] + wx[1] * data[b1 + _ONE] + wx[2] * data[b2 + _ONE] + wx[3] * data[b3 + _ONE]
    b = wx[0] * data[base + _TWO] + wx[1] * data[b1 + _TWO] + wx[2] * data[b2 + _TWO] + wx[3] * data[b3 + _TWO]
    a = wx[0] * data[base + _THREE] + wx[1] * data[b1 + _THREE] + wx[2] * data[b2 + _THREE] + wx[3] * data[b3 + _THREE]
    return r, g, b, a


@numba.njit(inline="always")
def sample_inside(data, w, x0, y0, fx, fy):  # type: ignore[no-untyped-def]
    """A sample whose sixteen neighbours all lie in the picture. `data` is flat RGBA, `w` its width."""
    wx, wy = cubic_weights(fx), cubic_weights(fy)
    stride = np.uintp(w) * _STEP
    base = np.uintp((y0 - 1) * w + x0 - 1) * _STEP
    p, q = _row(data, base, wx), _row(data, base + stride, wx)
    s, t = _row(data, base + stride + stride, wx), _row(data, base + stride + stride + stride, wx)
    return (
        wy[0] * p[0] + wy[1] * q[0] + wy[2] * s[0] + wy[3] * t[0],
        wy[0] * p[1] + wy[1] * q[1] + wy[2] * s[1] + wy[3] * t[1],
        wy[0] * p[2] + wy[1] * q[2] + wy[2] * s[2] + wy[3] * t[2],
        wy[0] * p[3] + wy[1] * q[3] + wy[2] * s[3] + wy[3] * t[3],
    )


@numba.njit(nogil=True)
def sample_rim(data, w, h, x0, y0, fx, fy):  # type: ignore[no-untyped-def]
    """A sample at the picture's rim; it is clear outside."""
    wx, wy = cubic_weights(fx), cubic_weights(fy)
    r = g = b = a = np.float32(0.0)
    for j in range(4):
        row = y0 - 1 + j
        if row < 0 or row >= h:
            continue
        for i in range(4):
            column = x0 - 1 + i
            if column < 0 or column >= w:
                continue
            weight, base = wx[i] * wy[j], (row * w + column) * 4
            r += weight * data[base]
            g += weight * data[base + 1]
            b += weight * data[base + 2]
            a += weight * data[base + 3]
    return r, g, b, a


@numba.njit(inline="always")
def span(inverse, y, width, w, h):  # type: ignore[no-untyped-def]
    """First and end column of a row in which an affine warp meets the picture; all of the row for a projective one."""
    first, end = 0, width
    if inverse[2, 0] != 0 or inverse[2, 1] != 0:
        return first, end
    py = y + 0.5
    for axis in range(2):
        slope = inverse[axis, 0] / inverse[2, 2]
        start = (inverse[axis, 1] * py + inverse[axis, 2]) / inverse[2, 2] + 0.5 * slope
        limit = w if axis == 0 else h
        if abs(slope) < 1e-12:
            if start < -2 or start > limit + 2:
                return 0, 0
            continue
        a, b = (-2 - start) / slope, (limit + 2 - start) / slope
        low, high = min(a, b), max(a, b)
        first = max(first, int(np.floor(max(low, -1.0))))
        end = min(end, int(np.ceil(min(high, width + 1.0))) + 1)
    return max(first, 0), max(min(end, width), 0)
