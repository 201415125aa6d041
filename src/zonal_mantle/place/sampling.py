"""Cubic sampling of a premultiplied RGBA picture through a homography, a stretch of a row at a time, inside kernels.

First all places and weights of the stretch are found, as vector code over its columns; then each pixel is the weighted
sum of its sixteen neighbours, as vector code over the four channels.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from llvmlite import ir
from numba import types
from numba.extending import intrinsic

from ..media.compiled import fast_part

TILE = 256  # columns in a stretch: what a turned painting is sampled from stays at hand from row to row
_RGBA = ir.VectorType(ir.FloatType(), 4)
_NOWHERE = ir.Constant(_RGBA, ir.Undefined)
_MAY_FUSE = ("contract",)
_CLEAR = ir.Constant(_RGBA, [0.0] * 4)
_MOST = ir.Constant(_RGBA, [3e38, 3e38, 3e38, 1.0])
_AT, _F, _I = np.uintp, np.float32, np.int32
_FAR = 1e8


@intrinsic  # type: ignore[untyped-decorator]
def _sixteen_into(context: Any, data: Any, base: Any, stride: Any, weights: Any, i: Any, low: Any, out: Any) -> Any:
    """out[4 i : 4 i + 4] = the weighted sum of 4 × 4 RGBA pixels of `data` from `base` on, rows `stride` apart,
    without what a cubic overshoots: no light below `low`, no alpha outside 0…1.

    Written as vector code by hand, since the compiler does not find the four channels by itself.
    """

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        def pointer(place: int) -> Any:
            return context.make_array(signature.args[place])(context, builder, args[place]).data

        def offset(value: Any, by: int) -> Any:
            return builder.add(value, ir.Constant(value.type, by))

        def weight(k: int) -> Any:
            value = builder.load(builder.gep(pointer(3), [offset(args[4], k * TILE)]))
            first = builder.insert_element(_NOWHERE, value, ir.Constant(ir.IntType(32), 0))
            return builder.shuffle_vector(first, _NOWHERE, ir.Constant(ir.VectorType(ir.IntType(32), 4), [0] * 4))

        def add(a: Any, b: Any) -> Any:
            return builder.fadd(a, b, flags=_MAY_FUSE)

        across, down = [weight(k) for k in range(4)], [weight(k) for k in range(4, 8)]
        lines, row = [], args[1]
        for j in range(4):
            line = None
            for i in range(4):
                place = builder.bitcast(builder.gep(pointer(0), [offset(row, 4 * i)]), _RGBA.as_pointer())
                part = builder.fmul(builder.load(place, align=4), across[i], flags=_MAY_FUSE)
                line = part if line is None else add(line, part)
            lines.append(builder.fmul(line, down[j], flags=_MAY_FUSE))
            row = builder.add(row, args[2])
        total = add(add(lines[0], lines[1]), add(lines[2], lines[3]))
        least = _CLEAR
        for k in range(3):
            least = builder.insert_element(least, args[5], ir.Constant(ir.IntType(32), k))
        total = builder.select(builder.fcmp_ordered(">", total, least), total, least)
        total = builder.select(builder.fcmp_ordered("<", total, _MOST), total, _MOST)
        place = builder.gep(pointer(6), [builder.shl(args[4], ir.Constant(args[4].type, 2))])
        builder.store(total, builder.bitcast(place, _RGBA.as_pointer()), align=4)
        return context.get_dummy_value()

    return types.void(data, base, stride, weights, i, low, out), codegen


@fast_part
def _rim_into(data, w, h, x0, y0, weights, i, low, out):  # type: ignore[no-untyped-def]
    """A sample at the picture's rim; it is clear outside."""
    at = 4 * i
    out[at : at + 4] = _F(0)
    for j in range(max(0, 1 - y0), min(4, h + 1 - y0)):
        for k in range(max(0, 1 - x0), min(4, w + 1 - x0)):
            weight = weights[i + k * TILE] * weights[i + (4 + j) * TILE]
            base = ((y0 - 1 + j) * w + x0 - 1 + k) * 4
            for c in range(4):
                out[at + c] += weight * data[base + c]
    for c in range(3):
        out[at + c] = max(out[at + c], low)
    out[at + 3] = min(max(out[at + 3], _F(0)), _F(1))


@fast_part
def _places(inverse, left, y, count, xs, ys, weights):  # type: ignore[no-untyped-def]
    """Where each column of a stretch is seen in the picture, as whole pixels and the eight weights of their neighbours:
    cubic convolution with a = −1/2 (Keys 1981)."""
    py = y + 0.5
    u0, u1 = inverse[0, 1] * py + inverse[0, 2], inverse[0, 0]
    v0, v1 = inverse[1, 1] * py + inverse[1, 2], inverse[1, 0]
    z0, z1 = inverse[2, 1] * py + inverse[2, 2], inverse[2, 0]
    half, one, two, steep, bend = _F(0.5), _F(1), _F(2), _F(1.5), _F(2.5)
    for i in range(_AT(count)):
        px = left + _I(i) + 0.5
        z = z0 + z1 * px
        share = 1.0 / z
        u = (u0 + u1 * px) * share - 0.5
        v = (v0 + v1 * px) * share - 0.5
        u = u if z > 0 else -_FAR
        u, v = min(max(u, -_FAR), _FAR), min(max(v, -_FAR), _FAR)
        whole_u, whole_v = np.floor(u), np.floor(v)
        xs[i], ys[i] = _I(whole_u), _I(whole_v)
        a, b = _F(u - whole_u), _F(v - whole_v)
        weights[i] = ((-half * a + one) * a - half) * a
        weights[i + _AT(TILE)] = (steep * a - bend) * a * a + one
        weights[i + _AT(2 * TILE)] = ((-steep * a + two) * a + half) * a
        weights[i + _AT(3 * TILE)] = (half * a - half) * a * a
        weights[i + _AT(4 * TILE)] = ((-half * b + one) * b - half) * b
        weights[i + _AT(5 * TILE)] = (steep * b - bend) * b * b + one
        weights[i + _AT(6 * TILE)] = ((-steep * b + two) * b + half) * b
        weights[i + _AT(7 * TILE)] = (half * b - half) * b * b


@fast_part
def _span(xs, ys, w, h):  # type: ignore[no-untyped-def]
    """First and end place of a stretch that lie on the picture or its rim."""
    first, end = 0, xs.shape[0]
    while first < end and not (-2 <= xs[first] <= w and -2 <= ys[first] <= h):
        first += 1
    while end > first and not (-2 <= xs[end - 1] <= w and -2 <= ys[end - 1] <= h):
        end -= 1
    return first, end


@fast_part
def sample_stretch(picture, low, inverse, left, y, wanted, xs, ys, weights, out):  # type: ignore[no-untyped-def]
    """A stretch of a row, from column `left` on, of a picture seen through `inverse` (target pixels to its own).

    Fills `out`, flat RGBA, where `wanted` is above 0, and returns the first and the end place of the stretch that the
    picture reaches. No light comes out below `low`: 0, or far below it for a picture that goes there itself. At most
    TILE columns; `xs`, `ys` (TILE) int32 and `weights` (8 · TILE)
    float32 are scratch.
    """
    h, w = picture.shape[:2]
    data = picture.reshape(-1)
    count = wanted.shape[0]
    _places(inverse, left, y, count, xs, ys, weights)
    first, end = _span(xs[:count], ys[:count], w, h)
    for i in range(first, end):
        if wanted[i] > _F(0):
            x0, y0 = xs[i], ys[i]
            if _AT(x0 - 1) < _AT(w - 3) and _AT(y0 - 1) < _AT(h - 3) and w > 3 and h > 3:
                _sixteen_into(data, ((y0 - 1) * w + x0 - 1) * 4, w * 4, weights, i, low, out)  # type: ignore[call-arg]
            else:
                _rim_into(data, w, h, x0, y0, weights, i, low, out)
    return first, end


@fast_part
def _grid_places(grid, step, origin, left, y, count, us, vs, line):  # type: ignore[no-untyped-def]
    """Places on the picture of a stretch's pixel centres, straight between those of a grid; their least and most.

    The two rows of the grid are mixed once for the stretch, into `line`.
    """
    gy = (y + 0.5 - origin) / step
    row = int(gy)
    b = gy - row
    share = 1.0 / step
    first = int((left + 0.5 - origin) * share)
    cells = min(int((left + count - 0.5 - origin) * share) - first + 2, grid.shape[1] - first)
    upper, lower = grid[row, first : first + cells].reshape(-1), grid[row + 1, first : first + cells].reshape(-1)
    for k in range(_AT(2 * cells)):
        line[k] = upper[k] * (1 - b) + lower[k] * b
    start = (left + 0.5 - origin) * share - first
    low_u = low_v = 1e30
    high_u = high_v = -1e30
    for i in range(_AT(count)):
        gx = start + _I(i) * share
        cell = _I(gx)
        a = gx - cell
        at = _AT(2 * cell)
        u = line[at] + a * (line[at + _AT(2)] - line[at]) - 0.5
        v = line[at + _AT(1)] + a * (line[at + _AT(3)] - line[at + _AT(1)]) - 0.5
        us[i], vs[i] = u, v
        low_u, high_u = min(low_u, u), max(high_u, u)
        low_v, high_v = min(low_v, v), max(high_v, v)
    return low_u, high_u, low_v, high_v


@fast_part
def _cubics(us, vs, count, xs, ys, weights):  # type: ignore[no-untyped-def]
    """Whole pixels and the eight weights of places, as `_places`."""
    half, one, two, steep, bend = _F(0.5), _F(1), _F(2), _F(1.5), _F(2.5)
    for i in range(_AT(count)):
        u, v = min(max(us[i], -_FAR), _FAR), min(max(vs[i], -_FAR), _FAR)
        whole_u, whole_v = np.floor(u), np.floor(v)
        xs[i], ys[i] = _I(whole_u), _I(whole_v)
        a, b = _F(u - whole_u), _F(v - whole_v)
        weights[i] = ((-half * a + one) * a - half) * a
        weights[i + _AT(TILE)] = (steep * a - bend) * a * a + one
        weights[i + _AT(2 * TILE)] = ((-steep * a + two) * a + half) * a
        weights[i + _AT(3 * TILE)] = (half * a - half) * a * a
        weights[i + _AT(4 * TILE)] = ((-half * b + one) * b - half) * b
        weights[i + _AT(5 * TILE)] = (steep * b - bend) * b * b + one
        weights[i + _AT(6 * TILE)] = ((-steep * b + two) * b + half) * b
        weights[i + _AT(7 * TILE)] = (half * b - half) * b * b


@fast_part
def _kept_in(i, n, edge):  # type: ignore[no-untyped-def]
    """A place of a row or column, brought into 0 … n − 1 by running on (edge 3) or by mirroring at the rim."""
    if edge == 3:
        return i % n
    i %= 2 * n
    return i if i < n else 2 * n - 1 - i


@fast_part
def _folded(u, n, edge):  # type: ignore[no-untyped-def]
    """`_kept_in` for places between pixels."""
    if edge == 3:
        return u - n * np.floor((u + 0.5) / n)
    u -= 2 * n * np.floor((u + 0.5) / (2 * n))
    return u if u <= n - 0.5 else 2 * n - 1 - u


@fast_part
def _beyond_into(data, w, h, x0, y0, weights, i, edge, low, out):  # type: ignore[no-untyped-def]
    """A sample whose neighbours lie across the rim of a picture that goes on there; what runs around goes on across
    its sides only."""
    at = 4 * i
    out[at : at + 4] = _F(0)
    for j in range(4):
        yy = _kept_in(y0 - 1 + j, h, 1)
        for k in range(4):
            xx = _kept_in(x0 - 1 + k, w, edge)
            weight = weights[i + k * TILE] * weights[i + (4 + j) * TILE]
            base = (yy * w + xx) * 4
            for c in range(4):
                out[at + c] += weight * data[base + c]
    for c in range(3):
        out[at + c] = max(out[at + c], low)
    out[at + 3] = min(max(out[at + 3], _F(0)), _F(1))


@fast_part
def _calm_into(calm, u, v, w, h, share, i, out):  # type: ignore[no-untyped-def]
    """Mixes in the calm continuation of a sky: `calm` holds the picture mirrored once on all sides and made soft."""
    ch, cw = calm.shape[:2]
    x = min(max((u / w + 1) / 3 * cw - 0.5, 0.0), cw - 1.001)
    y = min(max((v / h + 1) / 3 * ch - 0.5, 0.0), ch - 1.001)
    x0, y0 = int(x), int(y)
    a, b = x - x0, y - y0
    for c in range(4):
        upper = calm[y0, x0, c] * (1 - a) + calm[y0, x0 + 1, c] * a
        lower = calm[y0 + 1, x0, c] * (1 - a) + calm[y0 + 1, x0 + 1, c] * a
        out[4 * i + c] += share * (_F(upper * (1 - b) + lower * b) - out[4 * i + c])


@fast_part
def sample_grid_stretch(  # type: ignore[no-untyped-def]
    picture, low, calm, grid, step, origin, edge, fade, left, y, wanted, us, vs, line, folded, xs, ys, weights, out
):
    """As `sample_stretch`, for a picture seen through a grid of places. `out` is clear before.

    edge : what is beyond the rim: 0 nothing, 1 the picture mirrored, 2 mirrored and then calm, over `fade` pixels of
        it; 3 its other side, and mirrored above and below.
    us, vs : (TILE) float64, line : (2 · TILE + 8) float64, folded : (2, TILE) float64, xs, ys : (TILE) int32,
        weights : (8 · TILE) float32, scratch.
    """
    h, w = picture.shape[:2]
    data = picture.reshape(-1)
    count = wanted.shape[0]
    low_u, high_u, low_v, high_v = _grid_places(grid, step, origin, left, y, count, us, vs, line)
    within = low_u >= 1 and high_u < w - 2 and low_v >= 1 and high_v < h - 2
    if edge == 0 and (high_u < -2 or low_u > w + 1 or high_v < -2 or low_v > h + 1):
        return
    fus, fvs = us, vs
    if edge != 0 and not within:  # folded back onto the picture: most of what is beyond is sampled like the rest
        fus, fvs = folded[0], folded[1]
        for i in range(count):
            u, v = us[i], vs[i]
            inside = -0.5 <= u <= w - 0.5 and -0.5 <= v <= h - 0.5
            fus[i], fvs[i] = (u, v) if inside else (_folded(u, w, edge), _folded(v, h, 1))
    _cubics(fus, fvs, count, xs, ys, weights)
    if within and w > 3 and h > 3:
        for i in range(count):
            if wanted[i] > _F(0):
                _sixteen_into(data, ((ys[i] - 1) * w + xs[i] - 1) * 4, w * 4, weights, i, low, out)  # type: ignore[call-arg]
        return
    for i in range(count):
        at = 4 * i
        if wanted[i] <= _F(0):
            continue
        if abs(us[i]) > 1e6 or abs(vs[i]) > 1e6:
            out[at : at + 4] = _F(0)
            continue
        x0, y0 = xs[i], ys[i]
        if _AT(x0 - 1) < _AT(w - 3) and _AT(y0 - 1) < _AT(h - 3) and w > 3 and h > 3:
            _sixteen_into(data, ((y0 - 1) * w + x0 - 1) * 4, w * 4, weights, i, low, out)  # type: ignore[call-arg]
        elif edge == 0:
            if -2 <= x0 <= w and -2 <= y0 <= h:
                _rim_into(data, w, h, x0, y0, weights, i, low, out)
            else:
                out[at : at + 4] = _F(0)
        else:
            _beyond_into(data, w, h, x0, y0, weights, i, edge, low, out)
        if edge == 2:
            far = max(max(-us[i], us[i] - (w - 1)), max(-vs[i], vs[i] - (h - 1)))
            if far > 0:
                share = min(far / fade, 1.0)
                _calm_into(calm, us[i] + 0.5, vs[i] + 0.5, w, h, _F(share * share * (3 - 2 * share)), i, out)
