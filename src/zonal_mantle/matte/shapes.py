"""Shapes to pixels: exact area coverage, smooth curves, feather."""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from ..media.bands import cleared, run_bands
from ..media.powers import FAST
from ..shot.shapes import Shape

Array = NDArray[np.float32]


@numba.njit(cache=True, nogil=True)
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


def outline(shape: Shape, frame: float, steps: int = 16) -> NDArray[np.float64]:
    """A shape's closed outline on a frame as a polygon (n, 2), in plate pixels.

    A smooth shape is a closed Catmull–Rom curve through its points (Catmull & Rom 1974).
    """
    points = np.array(shape.points_at(frame), np.float64)
    if shape.form == "polygon":
        return points
    before, after, beyond = np.roll(points, 1, 0), np.roll(points, -1, 0), np.roll(points, -2, 0)
    t = (np.arange(steps) / steps)[None, :, None]
    p0, p1, p2, p3 = (p[:, None, :] for p in (before, points, after, beyond))
    curve = 0.5 * (2 * p1 + (p2 - p0) * t + (2 * p0 - 5 * p1 + 4 * p2 - p3) * t**2 + (3 * p1 - p0 - 3 * p2 + p3) * t**3)
    return np.asarray(curve.reshape(-1, 2))


def shape_alpha(shape: Shape, frame: float, size: tuple[int, int], scale: float = 1.0) -> Array:
    """A shape as alpha on a frame.

    Parameters
    ----------
    size : (width, height) of the picture to make.
    scale : proxy scale; the shape stays in plate pixels and is multiplied by it.

    Returns
    -------
    (h, w) float32, 0…1. A feather of f px softens the edge with a Gaussian of standard deviation f / 2, half on
    either side.
    """
    return union([shape], frame, size, scale)


def union(shapes: Sequence[Shape], frame: float, size: tuple[int, int], scale: float = 1.0) -> Array:
    """What several shapes cover together, 1 − Π(1 − cover). (h, w) float32."""
    out = cleared((size[1], size[0]))
    for shape in shapes:
        points = outline(shape, frame) * scale
        sigma = shape.feather_px * scale / 2
        reach = 0 if sigma < 0.05 else int(np.ceil(3 * sigma)) + 2
        x0, y0 = np.maximum(np.floor(points.min(axis=0)).astype(int) - reach, 0)
        x1, y1 = np.minimum(np.ceil(points.max(axis=0)).astype(int) + reach, size)
        if x1 > x0 and y1 > y0:
            cover = _soft(points - (x0, y0), (int(x1 - x0), int(y1 - y0)), sigma)
            run_bands(_add, cover.shape[0], cover, out[y0:y1, x0:x1])
    return out


@numba.njit(cache=True, nogil=True, fastmath=FAST)
def _add(y0, y1, cover, out):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(cover.shape[1]):
            out[y, x] += (np.float32(1) - out[y, x]) * cover[y, x]


def _soft(points: NDArray, size: tuple[int, int], sigma: float) -> Array:
    """Coverage blurred by a Gaussian; a wide blur is made small and enlarged: the same to 1/500."""
    if sigma < 0.05:
        return coverage(points, size)
    coarse = max(1, int(sigma // 2.5))
    margin = int(np.ceil(3 * sigma / coarse)) + 1
    small = (-(-size[0] // coarse) + 2 * margin, -(-size[1] // coarse) + 2 * margin)
    drawn = coverage(points / coarse + margin, small)
    soft = cv2.GaussianBlur(drawn, (0, 0), sigma / coarse, borderType=cv2.BORDER_CONSTANT)
    if coarse == 1:
        return np.ascontiguousarray(soft[margin : margin + size[1], margin : margin + size[0]])
    # from box pixels back to the small picture's: x' = (x + ½) / coarse − ½ + margin
    back = np.array([[1 / coarse, 0, 0.5 / coarse - 0.5 + margin], [0, 1 / coarse, 0.5 / coarse - 0.5 + margin]])
    return np.asarray(cv2.warpAffine(soft, back, size, flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP))
