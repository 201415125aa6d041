"""Shapes to pixels: exact area coverage of outlines, soft edges by distance, motion blur, riding."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from ..geometry import carry
from ..media.bands import cleared, run_bands
from ..media.compiled import FAST, fast_kernel, part
from ..media.memory import ByteCache, budget
from ..shot.shapes import Shape, ShapeKey

Array = NDArray[np.float32]
Points = NDArray[np.float64]
BLUR_STEPS = 8
_drawn = ByteCache(budget(0.05))  # shapes that stand still are drawn once
FINEST_BAND_PX = 24.0  # a softer edge than this is drawn smaller and enlarged


@part
def _span(row, x0, x1, d, w):  # type: ignore[no-untyped-def]
    """Adds one edge's stretch within a row, from x0 to x1 > x0 inside the picture, height d (signed)."""
    i0, i1 = int(np.floor(x0)), int(np.ceil(x1))
    if i1 <= i0 + 1:
        share = 0.5 * (x0 + x1) - i0
        row[i0] += d * (1 - share)
        row[i0 + 1] += d * share
        return
    s = 1 / (x1 - x0)
    head = 1 - (x0 - i0)
    tail = x1 - (i1 - 1)
    first, last = 0.5 * s * head * head, 0.5 * s * tail * tail
    row[i0] += d * first
    if i1 == i0 + 2:
        row[i0 + 1] += d * (1 - first - last)
    else:
        second = s * (head + 0.5)
        row[i0 + 1] += d * (second - first)
        for i in range(i0 + 2, i1 - 1):
            row[i] += d * s
        row[i1 - 1] += d * (1 - (second + (i1 - i0 - 3) * s) - last)
    row[i1] += d * last


@numba.njit(cache=True, nogil=True)
def _fill(first, end, points, cover, out):  # type: ignore[no-untyped-def]
    w = out.shape[1]
    n = points.shape[0]
    for k in range(n):
        ax, ay = points[k]
        bx, by = points[(k + 1) % n]
        if ay == by:
            continue
        sign = 1.0
        if ay > by:
            ax, ay, bx, by = bx, by, ax, ay
            sign = -1.0
        if by <= first or ay >= end:
            continue
        slope = (bx - ax) / (by - ay)
        for y in range(max(int(np.floor(ay)), first), min(int(np.ceil(by)), end)):
            top, bottom = max(float(y), ay), min(float(y + 1), by)
            if bottom <= top:
                continue
            xa, xb = ax + (top - ay) * slope, ax + (bottom - ay) * slope
            x0, x1 = min(xa, xb), max(xa, xb)
            d = (bottom - top) * sign
            if x1 <= 0:
                cover[y, 0] += d
            elif x0 < w:
                length = x1 - x0
                if x0 < 0:
                    cover[y, 0] += d * (-x0 / length)
                inside0, inside1 = max(x0, 0.0), min(x1, float(w))
                part = d if length == 0 else d * (inside1 - inside0) / length
                _span(cover[y], inside0, inside1, part, w)
    for y in range(first, end):
        total = 0.0
        for x in range(w):
            total += cover[y, x]
            solid = min(abs(total), 1.0)
            out[y, x] = 1.0 if solid > 1 - 1e-6 else solid if solid > 1e-6 else 0.0  # the sum's own rounding


def coverage(points: NDArray, size: tuple[int, int]) -> Array:
    """How much of each pixel a closed polygon covers, exactly.

    Parameters
    ----------
    points : (n, 2), x right and y down in pixels, continuous.
    size : (width, height) of the picture; the polygon may reach beyond it.

    Returns
    -------
    (h, w) float32, 0…1. Overlapping turns in the same direction count once.

    References
    ----------
    Accumulated signed areas, as in analytic font rasterisers (general knowledge; no single source).
    """
    cover = cleared((size[1], size[0] + 2))
    out = np.empty((size[1], size[0]), np.float32)
    run_bands(_fill, size[1], np.ascontiguousarray(points, np.float64), cover, out)
    return out


def outline(shape: Shape, frame: float, steps: int = 32) -> Points:
    """A shape's closed outline on a frame as a polygon (n, 2), in the pixels its keys are in.

    A smooth shape is a closed Catmull–Rom curve through its points (Catmull & Rom 1974); a curve is made of cubic
    Bézier arcs between its points.
    """
    return flattened(shape, shape.key_at(frame), steps)[0]


def flattened(shape: Shape, key: ShapeKey, steps: int = 32) -> tuple[Points, NDArray[np.float64]]:
    """An outline as a polygon (n, 2), and its feather share at every corner of that (n)."""
    points = np.array(key.points, np.float64)
    shares = np.array(shape.feather_shares or np.ones(len(points)), np.float64)
    if shape.form == "polygon":
        return points, shares
    after = np.roll(points, -1, 0)
    if shape.form == "smooth":
        leave, arrive = (after - np.roll(points, 1, 0)) / 6, (points - np.roll(points, -2, 0)) / 6
    else:
        handles = np.array(key.handles, np.float64)
        leave, arrive = handles[:, 2:], np.roll(handles[:, :2], -1, 0)
    t = (np.arange(steps) / steps)[None, :, None]
    p0, p1, p2, p3 = (p[:, None, :] for p in (points, points + leave, after + arrive, after))
    curve = (1 - t) ** 3 * p0 + 3 * (1 - t) ** 2 * t * p1 + 3 * (1 - t) * t**2 * p2 + t**3 * p3
    between = shares[:, None] * (1 - t[..., 0]) + np.roll(shares, -1)[:, None] * t[..., 0]
    return np.asarray(curve.reshape(-1, 2)), between.reshape(-1)


@dataclass(frozen=True)
class Standing:
    """A shape as it stands on a frame, in plate pixels: equal wherever it looks equal.

    outlines : one or, where its motion is blurred, several, each the bytes of (n, 2) float64; shares: of (n) float64.
    """

    outlines: tuple[bytes, ...]
    shares: bytes
    feather_in_px: float
    feather_out_px: float
    grow_px: float
    invert: bool


def standing(shape: Shape, frame: float, ride: Callable[[Shape, int], NDArray] | None = None) -> Standing:
    """Resolves a shape's keys, its lock and its shutter on a frame.

    `ride` gives the (3, 3) motion that a riding shape takes from its lock, from the reference frame to a frame.
    """
    blurred = shape.shutter > 0 and (len(shape.keys) > 1 or shape.rides is not None)
    steps = BLUR_STEPS if blurred else 1
    outlines, shares = [], np.zeros(0)
    for k in range(steps):
        time = frame + ((k + 0.5) / steps - 0.5) * shape.shutter
        points, shares = flattened(shape, shape.key_at(time))
        if shape.rides is not None and ride is not None:
            points = carry(_motion(ride, shape, time), points)
        outlines.append(np.ascontiguousarray(points).tobytes())
    soft = shape.feather_in_px, shape.feather_out_px
    return Standing(tuple(outlines), shares.tobytes(), *soft, shape.grow_px, shape.invert)


def _motion(ride: Callable[[Shape, int], NDArray], shape: Shape, time: float) -> NDArray[np.float64]:
    """What it rides on at any time, straight between whole frames."""
    before = int(np.floor(time))
    share = time - before
    a = np.asarray(ride(shape, before), np.float64)
    if share < 1e-9:
        return a
    b = np.asarray(ride(shape, before + 1), np.float64)
    return np.asarray(a / a[2, 2] * (1 - share) + b / b[2, 2] * share)


def shape_alpha(
    shape: Shape,
    frame: float,
    size: tuple[int, int],
    scale: float = 1.0,
    ride: Callable[[Shape, int], NDArray] | None = None,
) -> Array:
    """A shape as alpha on a frame.

    Parameters
    ----------
    size : (width, height) of the picture to make.
    scale : proxy scale; the shape stays in plate pixels and is multiplied by it.
    ride : what it rides on; see `standing`.

    Returns
    -------
    (h, w) float32, 0…1. Without feather the exact share of each pixel that is covered; with feather a smooth step
    from the inner to the outer width, by distance from the outline.
    """
    return union((standing(shape, frame, ride),), size, scale)


def union(shapes: Sequence[Standing], size: tuple[int, int], scale: float = 1.0) -> Array:
    """What several shapes cover together, 1 − Π(1 − cover). (h, w) float32, not to be written to."""
    key = (tuple(shapes), size, scale)
    return np.asarray(_drawn.make(key, lambda: _together(shapes, size, scale)), np.float32)


def _together(shapes: Sequence[Standing], size: tuple[int, int], scale: float) -> Array:
    out = cleared((size[1], size[0]))
    for shape in shapes:
        cover, (x0, y0) = _cover(shape, size, scale)
        if shape.invert:
            whole = np.ones((size[1], size[0]), np.float32)
            whole[y0 : y0 + cover.shape[0], x0 : x0 + cover.shape[1]] -= cover
            cover, x0, y0 = whole, 0, 0
        if cover.size:
            run_bands(_add, cover.shape[0], cover, out[y0 : y0 + cover.shape[0], x0 : x0 + cover.shape[1]])
    return out


@numba.njit(cache=True, nogil=True, fastmath=FAST)
def _add(y0, y1, cover, out):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(cover.shape[1]):
            out[y, x] += (np.float32(1) - out[y, x]) * cover[y, x]


def _cover(shape: Standing, size: tuple[int, int], scale: float) -> tuple[Array, tuple[int, int]]:
    """A shape's cover within the box that it can reach, and the box's corner."""
    outlines = [np.frombuffer(data).reshape(-1, 2) * scale for data in shape.outlines]
    shares = np.frombuffer(shape.shares)
    grow, inner, outer = shape.grow_px * scale, shape.feather_in_px * scale, shape.feather_out_px * scale
    most = float(shares.max()) if len(shares) else 1.0
    reach = int(np.ceil(max(grow, 0) + outer * most)) + 2
    x0, y0 = np.maximum(np.floor(np.min([p.min(axis=0) for p in outlines], axis=0)).astype(int) - reach, 0)
    x1, y1 = np.minimum(np.ceil(np.max([p.max(axis=0) for p in outlines], axis=0)).astype(int) + reach, size)
    box = (max(int(x1 - x0), 0), max(int(y1 - y0), 0))
    if not box[0] or not box[1]:
        return np.zeros((0, 0), np.float32), (0, 0)
    total: Array | None = None
    for points in outlines:
        local = points - (x0, y0)
        if inner + outer < 0.02 and abs(grow) < 1e-6:
            cover = coverage(local, box)
        else:
            cover = _soft(local, shares, box, grow, inner, outer)
        total = cover if total is None else total + cover
    assert total is not None
    return (total if len(outlines) == 1 else total / np.float32(len(outlines))), (int(x0), int(y0))


def _soft(points: Points, shares: NDArray, size: tuple[int, int], grow: float, inner: float, outer: float) -> Array:
    """A smooth step across the outline by distance; a wide one is drawn smaller and enlarged."""
    coarse = max(1, int((inner + outer) // FINEST_BAND_PX))
    if coarse == 1:
        return _stepped(points, shares, size, grow, inner, outer)
    small = (-(-size[0] // coarse) + 2, -(-size[1] // coarse) + 2)
    drawn = _stepped(points / coarse + 1, shares, small, grow / coarse, inner / coarse, outer / coarse)
    # from box pixels back to the small picture's: x' = (x + ½) / coarse − ½ + 1
    back = np.array([[1 / coarse, 0, 0.5 / coarse + 0.5], [0, 1 / coarse, 0.5 / coarse + 0.5]])
    return np.asarray(cv2.warpAffine(drawn, back, size, flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP))


def _stepped(points: Points, shares: NDArray, size: tuple[int, int], grow: float, inner: float, outer: float) -> Array:
    inside = coverage(points, size)
    band = abs(grow) + max(inner, outer) * max(float(shares.max()), 0) + 1.5
    nearest = np.full((size[1], size[0]), np.float32(band * band))
    share = np.ones((size[1], size[0]), np.float32)
    args = (np.ascontiguousarray(points, np.float64), np.ascontiguousarray(shares, np.float64), band)
    run_bands(
        _step_rows, size[1], *args, np.float32(grow), np.float32(inner), np.float32(outer), inside, nearest, share
    )
    return inside


@fast_kernel
def _step_rows(y0, y1, points, shares, band, grow, inner, outer, inside, nearest, share):  # type: ignore[no-untyped-def]
    w = inside.shape[1]
    n = points.shape[0]
    for k in range(n):
        ax, ay = points[k]
        bx, by = points[(k + 1) % n]
        sa, sb = shares[k], shares[(k + 1) % n]
        dx, dy = bx - ax, by - ay
        length = dx * dx + dy * dy
        top = max(int(np.floor(min(ay, by) - band)), y0)
        bottom = min(int(np.ceil(max(ay, by) + band)) + 1, y1)
        for y in range(top, bottom):
            py = y + 0.5
            # the stretch of the row that may lie within the band
            left, right = min(ax, bx) - band, max(ax, bx) + band
            if abs(dy) > 1e-9 and length > 4 * band * band:
                slack = band * np.sqrt(length) / abs(dy)
                middle = ax + (py - ay) * dx / dy
                left, right = max(left, middle - slack - band), min(right, middle + slack + band)
            for x in range(max(int(np.floor(left)), 0), min(int(np.ceil(right)) + 1, w)):
                px = x + 0.5
                t = 0.0 if length == 0 else min(max(((px - ax) * dx + (py - ay) * dy) / length, 0.0), 1.0)
                ex, ey = px - ax - t * dx, py - ay - t * dy
                away = np.float32(ex * ex + ey * ey)
                if away < nearest[y, x]:
                    nearest[y, x] = away
                    share[y, x] = np.float32(sa + (sb - sa) * t)
    half, one, zero = np.float32(0.5), np.float32(1), np.float32(0)
    for y in range(y0, y1):
        for x in range(w):
            out = inside[y, x] < half
            if nearest[y, x] >= np.float32(band * band):
                inside[y, x] = zero if out else one
                continue
            away = np.sqrt(nearest[y, x])
            signed = (away if out else -away) - grow
            # a pixel is half covered where the outline runs through its middle: the step is never steeper than a pixel
            low, high = max(inner * share[y, x], half), max(outer * share[y, x], half)
            if high + low <= np.float32(1.0001):
                inside[y, x] = min(max(half - signed, zero), one)
                continue
            u = min(max((high - signed) / (high + low), zero), one)
            inside[y, x] = u * u * (np.float32(3) - np.float32(2) * u)
