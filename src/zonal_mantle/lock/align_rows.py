"""Kernels of direct alignment: sampling, robust weights, normal equations, sums."""

from __future__ import annotations

import numba
import numpy as np

from ..media.powers import FAST

kernel = numba.njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy")
_F, _AT = np.float32, np.uintp


@kernel
def sample_rows(y0, y1, feed, matrix, out, seen):  # type: ignore[no-untyped-def]
    """Rows of the other frame as the area sees it, by cubic convolution (Keys 1981); 0 and unseen outside.

    `matrix` carries array places of the area to array places of the feed.
    """
    h, w = feed.shape
    flat = feed.reshape(-1)
    one, two, half, steep, bend = _F(1), _F(2), _F(0.5), _F(1.5), _F(2.5)
    for y in range(y0, y1):
        for x in range(out.shape[1]):
            z = matrix[2, 0] * x + matrix[2, 1] * y + matrix[2, 2]
            u = (matrix[0, 0] * x + matrix[0, 1] * y + matrix[0, 2]) / z
            v = (matrix[1, 0] * x + matrix[1, 1] * y + matrix[1, 2]) / z
            if not (z > 0 and u >= 1 and v >= 1 and u < w - 2 and v < h - 2):
                out[y, x] = _F(0)
                seen[y, x] = _F(0)
                continue
            x0, y0_ = int(u), int(v)
            a, b = _F(u - x0), _F(v - y0_)
            a0, a1 = ((-half * a + one) * a - half) * a, (steep * a - bend) * a * a + one
            a2, a3 = ((-steep * a + two) * a + half) * a, (half * a - half) * a * a
            b0, b1 = ((-half * b + one) * b - half) * b, (steep * b - bend) * b * b + one
            b2, b3 = ((-steep * b + two) * b + half) * b, (half * b - half) * b * b
            k = _AT((y0_ - 1) * w + x0 - 1)
            r0 = a0 * flat[k] + a1 * flat[k + _AT(1)] + a2 * flat[k + _AT(2)] + a3 * flat[k + _AT(3)]
            k += _AT(w)
            r1 = a0 * flat[k] + a1 * flat[k + _AT(1)] + a2 * flat[k + _AT(2)] + a3 * flat[k + _AT(3)]
            k += _AT(w)
            r2 = a0 * flat[k] + a1 * flat[k + _AT(1)] + a2 * flat[k + _AT(2)] + a3 * flat[k + _AT(3)]
            k += _AT(w)
            r3 = a0 * flat[k] + a1 * flat[k + _AT(1)] + a2 * flat[k + _AT(2)] + a3 * flat[k + _AT(3)]
            out[y, x] = b0 * r0 + b1 * r1 + b2 * r2 + b3 * r3
            seen[y, x] = one


@kernel
def normal_rows(y0, y1, pixels, across, down, view, weight, gain, frame, sums):  # type: ignore[no-untyped-def]
    """Adds the normal equations of some rows: eight numbers of motion, gain, bias, and the view itself.

    Slopes are the mean of the area's own and the view's (efficient second-order minimisation).
    """
    centre_x, centre_y, unit = frame
    width = pixels.shape[1]
    columns = np.empty((11, width), _F)
    weighted = np.empty(width, _F)
    total = np.zeros((11, 11))
    half = _F(0.5)
    for y in range(max(y0, 1), min(y1, pixels.shape[0] - 1)):
        v = (_F(y) - centre_y) / unit
        for x in range(1, width - 1):
            gx = half * unit * (gain * across[y, x] + half * (view[y, x + 1] - view[y, x - 1]))
            gy = half * unit * (gain * down[y, x] + half * (view[y + 1, x] - view[y - 1, x]))
            u = (_F(x) - centre_x) / unit
            along = gx * u + gy * v
            columns[0, x], columns[1, x], columns[2, x] = gx * u, gx * v, gx
            columns[3, x], columns[4, x], columns[5, x] = gy * u, gy * v, gy
            columns[6, x], columns[7, x] = -along * u, -along * v
            columns[8, x], columns[9, x], columns[10, x] = -pixels[y, x], _F(-1), view[y, x]
        for i in range(11):
            for x in range(1, width - 1):
                weighted[x] = columns[i, x] * weight[y, x]
            for j in range(i, 11):
                dot = _F(0)
                for x in range(1, width - 1):
                    dot += weighted[x] * columns[j, x]
                total[i, j] += dot
    band = y0 * sums.shape[0] // pixels.shape[0]
    sums[band] += total


@kernel
def tally(pixels, view, inside, weight, rest, slope, sums):  # type: ignore[no-untyped-def]
    """Weighted sums of both pictures, their squares and product, what is left over, and slopes. Flat arrays."""
    w = a = b = aa = bb = ab = rr = ss = whole = _F(0)
    for k in range(_AT(pixels.shape[0])):
        share, p, q = weight[k], pixels[k], view[k]
        whole += inside[k] * slope[k]
        w += share
        a += share * p
        b += share * q
        aa += share * p * p
        bb += share * q * q
        ab += share * p * q
        rr += share * rest[k] * rest[k]
        ss += share * slope[k]
    sums[0], sums[1], sums[2], sums[3], sums[4], sums[5], sums[6], sums[7] = w, a, b, aa, bb, ab, rr, ss
    sums[8] = whole


@kernel
def moments(pixels, view, weight, sums):  # type: ignore[no-untyped-def]
    """What gain and bias are found from: sums of weight, both pictures, and their products. Flat arrays."""
    w = a = b = aa = ab = _F(0)
    for k in range(_AT(pixels.shape[0])):
        share, p, q = weight[k], pixels[k], view[k]
        w += share
        a += share * p
        b += share * q
        aa += share * p * p
        ab += share * p * q
    sums[0], sums[1], sums[2], sums[3], sums[4] = w, a, b, aa, ab


@kernel
def leave_rest(pixels, view, gain, bias, rest, power):  # type: ignore[no-untyped-def]
    for k in range(_AT(pixels.shape[0])):
        value = view[k] - gain * pixels[k] - bias
        rest[k] = value
        power[k] = value * value


@kernel
def robust(inside, near, slope, wide, slack, weight):  # type: ignore[no-untyped-def]
    """Tukey's biweight of the error of a small neighbourhood; steep places are given more slack. Flat arrays."""
    zero, one = _F(0), _F(1)
    for k in range(_AT(inside.shape[0])):
        share = max(one - near[k] / (wide + slack * slope[k]), zero)
        weight[k] = inside[k] * share * share


@kernel
def block_sums(inside, weight, rest, across, down, xs, ys, sums):  # type: ignore[no-untyped-def]
    """Normal equations of a shift, block by block."""
    for j in range(ys.shape[0] - 1):
        for i in range(xs.shape[0] - 1):
            a = b = c = p = q = whole = _F(0)
            for y in range(ys[j], ys[j + 1]):
                for x in range(xs[i], xs[i + 1]):
                    w, gx, gy, r = weight[y, x], across[y, x], down[y, x], rest[y, x]
                    whole += inside[y, x] * (gx * gx + gy * gy)
                    a += w * gx * gx
                    b += w * gx * gy
                    c += w * gy * gy
                    p += w * gx * r
                    q += w * gy * r
            sums[j, i, 0], sums[j, i, 1], sums[j, i, 2], sums[j, i, 3], sums[j, i, 4] = a, b, c, p, q
            sums[j, i, 5] = whole
