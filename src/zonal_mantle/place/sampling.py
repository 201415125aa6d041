"""Cubic sampling of a picture, for use inside kernels."""

from __future__ import annotations

import numba
import numpy as np


@numba.njit(inline="always")
def cubic_weights(f, out):  # type: ignore[no-untyped-def]
    """Weights of four neighbours at a share f: cubic convolution with a = −1/2 (Keys 1981)."""
    out[0] = ((-0.5 * f + 1.0) * f - 0.5) * f
    out[1] = (1.5 * f - 2.5) * f * f + 1.0
    out[2] = ((-1.5 * f + 2.0) * f + 0.5) * f
    out[3] = (0.5 * f - 0.5) * f * f


@numba.njit(inline="always")
def sample_cubic(picture, x, y, wx, wy, out):  # type: ignore[no-untyped-def]
    """A premultiplied RGBA (or opaque RGB) picture at array place (x, y), clear outside. True where it has anything."""
    h, w, channels = picture.shape
    if x <= -2 or y <= -2 or x >= w + 1 or y >= h + 1:
        return False
    x0, y0 = int(np.floor(x)), int(np.floor(y))
    cubic_weights(np.float32(x - x0), wx)
    cubic_weights(np.float32(y - y0), wy)
    r = g = b = a = np.float32(0.0)
    if x0 >= 1 and y0 >= 1 and x0 < w - 2 and y0 < h - 2:
        for j in range(4):
            row = y0 - 1 + j
            rr = gg = bb = aa = np.float32(0.0)
            for i in range(4):
                weight, column = wx[i], x0 - 1 + i
                rr += weight * picture[row, column, 0]
                gg += weight * picture[row, column, 1]
                bb += weight * picture[row, column, 2]
                aa += weight * (picture[row, column, 3] if channels == 4 else np.float32(1.0))
            r += wy[j] * rr
            g += wy[j] * gg
            b += wy[j] * bb
            a += wy[j] * aa
    else:
        for j in range(4):
            row = y0 - 1 + j
            if row < 0 or row >= h:
                continue
            for i in range(4):
                column = x0 - 1 + i
                if column < 0 or column >= w:
                    continue
                weight = wx[i] * wy[j]
                r += weight * picture[row, column, 0]
                g += weight * picture[row, column, 1]
                b += weight * picture[row, column, 2]
                a += weight * (picture[row, column, 3] if channels == 4 else np.float32(1.0))
    out[0] = max(r, np.float32(0.0))
    out[1] = max(g, np.float32(0.0))
    out[2] = max(b, np.float32(0.0))
    out[3] = min(max(a, np.float32(0.0)), np.float32(1.0))
    return True
