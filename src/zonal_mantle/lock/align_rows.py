"""Kernels of direct alignment: sampling, robust weights, normal equations, sums."""

from __future__ import annotations

import numpy as np

from ..media.compiled import fast_kernel, fast_part

_F, _AT = np.float32, np.uintp
LEAST_RUN = 8  # pixels side by side, on the whole, that are worth being told


@fast_part
def _cubic(t):  # type: ignore[no-untyped-def]
    """The weights of the four pixels about a place, by its share of the way between the middle two."""
    one, half = _F(1), _F(0.5)
    return (
        ((-half * t + one) * t - half) * t,
        (_F(1.5) * t - _F(2.5)) * t * t + one,
        ((-_F(1.5) * t + _F(2)) * t + half) * t,
        (half * t - half) * t * t,
    )


@fast_part
def _one_by_one(flat, width, first, across, down, row):  # type: ignore[no-untyped-def]
    """Places anywhere; `first` is the upper left of the sixteen pixels of each."""
    for x in range(_AT(row.shape[0])):
        k = _AT(first[x])
        a0, a1, a2, a3 = _cubic(across[x])
        b0, b1, b2, b3 = _cubic(down[x])
        r0 = a0 * flat[k] + a1 * flat[k + _AT(1)] + a2 * flat[k + _AT(2)] + a3 * flat[k + _AT(3)]
        k += _AT(width)
        r1 = a0 * flat[k] + a1 * flat[k + _AT(1)] + a2 * flat[k + _AT(2)] + a3 * flat[k + _AT(3)]
        k += _AT(width)
        r2 = a0 * flat[k] + a1 * flat[k + _AT(1)] + a2 * flat[k + _AT(2)] + a3 * flat[k + _AT(3)]
        k += _AT(width)
        r3 = a0 * flat[k] + a1 * flat[k + _AT(1)] + a2 * flat[k + _AT(2)] + a3 * flat[k + _AT(3)]
        row[x] = b0 * r0 + b1 * r1 + b2 * r2 + b3 * r3


@fast_part
def _side_by_side(flat, width, first, across, down, row):  # type: ignore[no-untyped-def]
    """The same of places that lie a pixel apart on one row, the first of them at `first`."""
    p0, p1, p2, p3 = flat[first:], flat[first + width :], flat[first + 2 * width :], flat[first + 3 * width :]
    for x in range(_AT(row.shape[0])):
        a0, a1, a2, a3 = _cubic(across[x])
        b0, b1, b2, b3 = _cubic(down[x])
        r0 = a0 * p0[x] + a1 * p0[x + _AT(1)] + a2 * p0[x + _AT(2)] + a3 * p0[x + _AT(3)]
        r1 = a0 * p1[x] + a1 * p1[x + _AT(1)] + a2 * p1[x + _AT(2)] + a3 * p1[x + _AT(3)]
        r2 = a0 * p2[x] + a1 * p2[x + _AT(1)] + a2 * p2[x + _AT(2)] + a3 * p2[x + _AT(3)]
        r3 = a0 * p3[x] + a1 * p3[x + _AT(1)] + a2 * p3[x + _AT(2)] + a3 * p3[x + _AT(3)]
        row[x] = b0 * r0 + b1 * r1 + b2 * r2 + b3 * r3


@fast_kernel
def sample_rows(y0, y1, feed, matrix, out, seen):  # type: ignore[no-untyped-def]
    """Rows of the other frame as the area sees it, by cubic convolution (Keys 1981); 0 and unseen outside.

    `matrix` carries array places of the area to array places of the feed. A frame that hardly turns or grows is read
    in runs of pixels side by side, which takes half as long.
    """
    h, w = feed.shape
    flat, width, one = feed.reshape(-1), out.shape[1], _F(1)
    first, across, down, row = np.empty(width, np.int32), np.empty(width, _F), np.empty(width, _F), np.empty(width, _F)
    for y in range(y0, y1):
        p, q, r = matrix[0, 1] * y + matrix[0, 2], matrix[1, 1] * y + matrix[1, 2], matrix[2, 1] * y + matrix[2, 2]
        for x in range(width):
            z = matrix[2, 0] * x + r
            u, v = (matrix[0, 0] * x + p) / z, (matrix[1, 0] * x + q) / z
            inside = (z > 0) & (u >= 1) & (v >= 1) & (u < w - 2) & (v < h - 2)
            u, v = (u, v) if inside else (1.0, 1.0)
            x0, y0_ = np.int32(u), np.int32(v)
            first[x] = (y0_ - np.int32(1)) * np.int32(w) + x0 - np.int32(1)
            across[x], down[x] = _F(u - x0), _F(v - y0_)
            seen[y, x] = one if inside else _F(0)
        breaks = 0
        for x in range(1, width):
            breaks += first[x] - first[x - 1] != 1
        if breaks * LEAST_RUN > width:
            _one_by_one(flat, w, first, across, down, row)
        else:
            end = 0
            while end < width:
                start, before = end, first[end] - end
                while end < width and first[end] - end == before:
                    end += 1
                _side_by_side(flat, w, first[start], across[start:end], down[start:end], row[start:end])
        for x in range(width):
            out[y, x] = row[x] * seen[y, x]


@fast_kernel
def normal_rows(y0, y1, pixels, across, down, view, weight, gain, frame, sums):  # type: ignore[no-untyped-def]
    """Adds the normal equations of some rows: eight numbers of motion, gain, bias, and the view itself.

    Slopes are the mean of the area's own and the view's (efficient second-order minimisation). Along a row the eight
    columns of motion are made of five, the slope across times 1, u, u² and the slope down times 1, u; so 33 sums
    hold all 66 products.
    """
    centre_x, centre_y, unit = frame
    width = pixels.shape[1]
    total, made = np.zeros((11, 11)), np.zeros((8, 5))
    five, half_way = np.empty((5, 5)), np.empty((8, 5))
    half = _F(0.5)
    gx_row, gy_row, u_row = np.empty(width, _F), np.empty(width, _F), np.empty(width, _F)
    for x in range(_AT(width)):
        u_row[x] = (_F(x) - centre_x) / unit
    made[0, 1] = made[2, 0] = made[3, 4] = made[5, 3] = 1.0
    made[6, 2] = -1.0
    for y in range(max(y0, 1), min(y1, pixels.shape[0] - 1)):
        v = (_F(y) - centre_y) / unit
        xx0 = xx1 = xx2 = xx3 = xx4 = xy0 = xy1 = xy2 = xy3 = yy0 = yy1 = yy2 = _F(0)
        for x in range(_AT(1), _AT(width - 1)):
            gx = half * unit * (gain * across[y, x] + half * (view[y, x + _AT(1)] - view[y, x - _AT(1)]))
            gy = half * unit * (gain * down[y, x] + half * (view[y + 1, x] - view[y - 1, x]))
            gx_row[x], gy_row[x] = gx, gy
        for x in range(_AT(1), _AT(width - 1)):
            gx, gy, u, w = gx_row[x], gy_row[x], u_row[x], weight[y, x]
            a, b, c = w * gx * gx, w * gx * gy, w * gy * gy
            xx0 += a
            xy0 += b
            yy0 += c
            a, b, c = a * u, b * u, c * u
            xx1 += a
            xy1 += b
            yy1 += c
            a, b, c = a * u, b * u, c * u
            xx2 += a
            xy2 += b
            yy2 += c
            a, b = a * u, b * u
            xx3 += a
            xy3 += b
            xx4 += a * u
        xp0 = xp1 = xp2 = yp0 = yp1 = xq0 = xq1 = xq2 = yq0 = yq1 = _F(0)
        for x in range(_AT(1), _AT(width - 1)):
            u, w = u_row[x], weight[y, x]
            a, b, p, q = w * gx_row[x], w * gy_row[x], pixels[y, x], view[y, x]
            xp0 += a * p
            yp0 += b * p
            xq0 += a * q
            yq0 += b * q
            a, b = a * u, b * u
            xp1 += a * p
            yp1 += b * p
            xq1 += a * q
            yq1 += b * q
            a = a * u
            xp2 += a * p
            xq2 += a * q
        x0 = x1 = x2 = down0 = down1 = ww = wp = wq = pp = pq = qq = _F(0)
        for x in range(_AT(1), _AT(width - 1)):
            u, w, p, q = u_row[x], weight[y, x], pixels[y, x], view[y, x]
            a, b = w * gx_row[x], w * gy_row[x]
            x0 += a
            down0 += b
            x1 += a * u
            down1 += b * u
            x2 += a * u * u
            ww += w
            wp += w * p
            wq += w * q
            pp += w * p * p
            pq += w * p * q
            qq += w * q * q
        five[0, 0], five[0, 1], five[0, 2], five[0, 3], five[0, 4] = xx0, xx1, xx2, xy0, xy1
        five[1, 1], five[1, 2], five[1, 3], five[1, 4] = xx2, xx3, xy1, xy2
        five[2, 2], five[2, 3], five[2, 4] = xx4, xy2, xy3
        five[3, 3], five[3, 4], five[4, 4] = yy0, yy1, yy2
        made[1, 0], made[4, 3], made[6, 4], made[7, 1], made[7, 3] = v, v, -v, -v, -v * v
        for i in range(8):
            for k in range(5):
                dot = 0.0
                for m in range(5):
                    dot += made[i, m] * (five[k, m] if k <= m else five[m, k])
                half_way[i, k] = dot
            for j in range(i + 1):
                dot = 0.0
                for k in range(5):
                    dot += half_way[i, k] * made[j, k]
                total[j, i] += dot
            total[i, 8] -= made[i, 0] * xp0 + made[i, 1] * xp1 + made[i, 2] * xp2 + made[i, 3] * yp0 + made[i, 4] * yp1
            total[i, 9] -= made[i, 0] * x0 + made[i, 1] * x1 + made[i, 2] * x2 + made[i, 3] * down0 + made[i, 4] * down1
            total[i, 10] += made[i, 0] * xq0 + made[i, 1] * xq1 + made[i, 2] * xq2 + made[i, 3] * yq0 + made[i, 4] * yq1
        total[8, 8] += pp
        total[8, 9] += wp
        total[8, 10] -= pq
        total[9, 9] += ww
        total[9, 10] -= wq
        total[10, 10] += qq
    band = y0 * sums.shape[0] // pixels.shape[0]
    sums[band] += total


@fast_part
def _product(a, b, out):  # type: ignore[no-untyped-def]
    """The product of two matrices, written into `out`."""
    for i in range(a.shape[0]):
        for j in range(b.shape[1]):
            total = 0.0
            for k in range(a.shape[1]):
                total += a[i, k] * b[k, j]
            out[i, j] = total


@fast_part
def _solve(square, side):  # type: ignore[no-untyped-def]
    """square · x = side by elimination with row pivots (Golub & Van Loan, 3.4); x stands in `side` then. LinAlgError
    where it has no end."""
    count = side.size
    for k in range(count):
        at = k
        for i in range(k + 1, count):
            if abs(square[i, k]) > abs(square[at, k]):
                at = i
        if square[at, k] == 0:
            raise np.linalg.LinAlgError
        if at != k:
            for j in range(count):
                square[k, j], square[at, j] = square[at, j], square[k, j]
            side[k], side[at] = side[at], side[k]
        for i in range(k + 1, count):
            share = square[i, k] / square[k, k]
            for j in range(k, count):
                square[i, j] -= share * square[k, j]
            side[i] -= share * side[k]
    for k in range(count - 1, -1, -1):
        for j in range(k + 1, count):
            side[k] -= square[k, j] * side[j]
        side[k] /= square[k, k]


@fast_kernel
def next_step(sums, wide, free):  # type: ignore[no-untyped-def]
    """The normal equations of a motion with gain and bias, (k, k), and the eight numbers of the step that they ask for.

    sums : (n, 11, 11), by `normal_rows`; wide : (11, k), what of the ten numbers each of the motion's own moves; free :
    (k, m), the ways of these that count. Raises LinAlgError where they have no end.
    """
    total = np.zeros((11, 11))
    for i in range(11):
        for j in range(i, 11):
            for n in range(sums.shape[0]):
                total[i, j] += sums[n, i, j]
            total[j, i] = total[i, j]
    own_count, count = free.shape
    half_way, square = np.empty((own_count, 11)), np.empty((own_count, own_count))
    some, part, side, scale = np.empty((count, count)), np.empty((count, own_count)), np.empty(count), np.empty(count)
    _product(wide.T, total, half_way)
    _product(half_way, wide, square)
    _product(free.T, square, part)
    _product(part, free, some)
    for i in range(count):
        scale[i] = np.sqrt(max(some[i, i], 1e-20))
    for i in range(count):
        side[i] = 0.0
        for j in range(own_count):
            side[i] -= free[j, i] * half_way[j, 10] / scale[i]
        for j in range(count):
            some[i, j] /= scale[i] * scale[j]
        some[i, i] += 1e-9
    _solve(some, side)
    found = np.zeros(11)
    for j in range(own_count):
        own = 0.0
        for i in range(count):
            own += free[j, i] * side[i] / scale[i]
        for i in range(11):
            found[i] += wide[i, j] * own
    return square, found[:8]


@fast_kernel
def fifths(picture, inside, out):  # type: ignore[no-untyped-def]
    """Every fifth pixel of every fifth row that is inside; how many there are."""
    count = 0
    for y in range(0, picture.shape[0], 5):
        for x in range(0, picture.shape[1], 5):
            if inside[y, x] > _F(0.5):
                out[count] = picture[y, x]
                count += 1
    return count


@fast_kernel
def thirds(rest, weight, out):  # type: ignore[no-untyped-def]
    """How steep every third pixel of every third row is that counts, across and down, (2, n)."""
    count = 0
    for y in range(1, rest.shape[0] - 1, 3):
        for x in range(1, rest.shape[1] - 1, 3):
            if weight[y, x] > _F(0.5):
                out[0, count] = abs(rest[y, x + 1] - rest[y, x - 1]) * _F(0.5)
                out[1, count] = abs(rest[y + 1, x] - rest[y - 1, x]) * _F(0.5)
                count += 1


@fast_kernel
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


@fast_kernel
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


@fast_kernel
def leave_rest(pixels, view, gain, bias, rest, power):  # type: ignore[no-untyped-def]
    for k in range(_AT(pixels.shape[0])):
        value = view[k] - gain * pixels[k] - bias
        rest[k] = value
        power[k] = value * value


@fast_kernel
def robust(inside, near, slope, wide, slack, weight):  # type: ignore[no-untyped-def]
    """Tukey's biweight of the error of a small neighbourhood; steep places are given more slack. Flat arrays."""
    zero, one = _F(0), _F(1)
    for k in range(_AT(inside.shape[0])):
        share = max(one - near[k] / (wide + slack * slope[k]), zero)
        weight[k] = inside[k] * share * share


@fast_kernel
def block_sums(inside, weight, rest, across, down, xs, ys, sums):  # type: ignore[no-untyped-def]
    """Normal equations of a shift, block by block."""
    for j in range(ys.shape[0] - 1):
        for y in range(ys[j], ys[j + 1]):
            for i in range(xs.shape[0] - 1):
                part = slice(xs[i], xs[i + 1])
                inside_, weight_, rest_ = inside[y, part], weight[y, part], rest[y, part]
                across_, down_ = across[y, part], down[y, part]
                a = b = c = p = q = whole = _F(0)
                for x in range(_AT(inside_.shape[0])):
                    w, gx, gy, r = weight_[x], across_[x], down_[x], rest_[x]
                    whole += inside_[x] * (gx * gx + gy * gy)
                    a += w * gx * gx
                    b += w * gx * gy
                    c += w * gy * gy
                    p += w * gx * r
                    q += w * gy * r
                sums[j, i, 0] += a
                sums[j, i, 1] += b
                sums[j, i, 2] += c
                sums[j, i, 3] += p
                sums[j, i, 4] += q
                sums[j, i, 5] += whole
