"""Levels and edge: black and white, growth in parts of a pixel, softness inside and outside, specks and holes."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import fast_kernel
from ..media.powers import power_of
from ..shot.matte import Edge, Levels

Array = NDArray[np.float32]
MOST_FINE, FINE_ENOUGH = 48.0, 12.0  # px: wider blurs are made on cells, on which they are this wide
LEAST_CELLS, MOST_COARSE = 16, 64.0  # cells across the shorter side; on so few a wider blur is as good as flat


@fast_kernel
def _level_rows(y0, y1, alpha, black, slope, power, out):  # type: ignore[no-untyped-def]
    one = np.float32(1)
    for y in range(y0, y1):
        for x in range(alpha.shape[1]):
            value = (alpha[y, x] - black) * slope
            out[y, x] = power_of(value, power) if value < one and power != one else value


def changes_levels(levels: Levels, frame: float = 0) -> bool:
    """Whether levels do anything on a frame."""
    return (levels.black.at(frame), levels.white.at(frame), levels.gamma.at(frame)) != (0, 1, 1)


def works_edge(edge: Edge, frame: float = 0) -> bool:
    """Whether anything is done to the edge on a frame."""
    keyed = (edge.grow_px, edge.soften_px, edge.soften_in_px, edge.soften_out_px)
    return any(part.at(frame) != 0 for part in keyed) or max(edge.specks_px2, edge.holes_px2, edge.steady) > 0


def level(alpha: Array, levels: Levels, frame: float = 0) -> Array:
    """Takes `black` to 0 and `white` to 1; gamma bends what is between, above 1 toward solid. (h, w) float32."""
    black, white, gamma = levels.black.at(frame), levels.white.at(frame), levels.gamma.at(frame)
    if not changes_levels(levels, frame):
        return alpha
    out = np.empty_like(alpha)
    slope = np.float32(1 / max(white - black, 1e-4))
    run_bands(_level_rows, alpha.shape[0], alpha, np.float32(black), slope, np.float32(1 / max(gamma, 1e-2)), out)
    return out


@fast_kernel
def _shift_rows(y0, y1, alpha, guide, step, out):  # type: ignore[no-untyped-def]
    """Alpha sampled `step` px up (above 0) or down its slope."""
    h, w = alpha.shape
    for y in range(y0, y1):
        for x in range(w):
            gx = guide[y, min(x + 1, w - 1)] - guide[y, max(x - 1, 0)]
            gy = guide[min(y + 1, h - 1), x] - guide[max(y - 1, 0), x]
            length = np.sqrt(gx * gx + gy * gy)
            if length < np.float32(1e-5):
                out[y, x] = alpha[y, x]
                continue
            u = min(max(np.float32(x) + step * gx / length, np.float32(0)), np.float32(w - 1))
            v = min(max(np.float32(y) + step * gy / length, np.float32(0)), np.float32(h - 1))
            i, j = min(int(u), max(w - 2, 0)), min(int(v), max(h - 2, 0))
            fu, fv = u - np.float32(i), v - np.float32(j)
            i1, j1 = min(i + 1, w - 1), min(j + 1, h - 1)
            top = alpha[j, i] + (alpha[j, i1] - alpha[j, i]) * fu
            low = alpha[j1, i] + (alpha[j1, i1] - alpha[j1, i]) * fu
            value = top + (low - top) * fv
            out[y, x] = max(value, alpha[y, x]) if step > 0 else min(value, alpha[y, x])


def grow(alpha: Array, by_px: float) -> Array:
    """Moves the edge outward by a number of pixels (inward below 0), keeping its own softness.

    Each step of at most a pixel looks along the slope of the softened matte: the semi-Lagrangian step of a front that
    moves along its normal (Osher & Sethian 1988 for the model).
    """
    if abs(by_px) < 1e-3:
        return alpha
    steps = int(np.ceil(abs(by_px)))
    step = np.float32(by_px / steps)
    for _ in range(steps):
        guide = np.asarray(cv2.GaussianBlur(alpha, (0, 0), 1.0))
        out = np.empty_like(alpha)
        run_bands(_shift_rows, alpha.shape[0], np.ascontiguousarray(alpha), guide, step, out)
        alpha = out
    return alpha


def soften(alpha: Array, both_px: float, inside_px: float, outside_px: float) -> Array:
    """A Gaussian of a standard deviation in px over the edge; inside only takes away, outside only adds."""
    if both_px > 0.05:
        alpha = _blurred(alpha, both_px)
    out = alpha
    if inside_px > 0.05:
        out = np.minimum(out, _pulled(alpha, inside_px, cv2.erode))
    if outside_px > 0.05:
        out = np.maximum(out, _pulled(alpha, outside_px, cv2.dilate))
    return np.asarray(out, np.float32)


def _pulled(alpha: Array, sigma: float, shift) -> Array:  # type: ignore[no-untyped-def]
    """Blurred wholly to one side: first moved by the blur's reach, so that the other side stays as it was."""
    step = _coarse(alpha, sigma)
    if step > 1:  # the most or the least of each cell, so that nothing thin is lost
        small = shift(alpha, np.ones((step, step), np.uint8))[step // 2 :: step, step // 2 :: step]
        return _spread(_pulled(np.ascontiguousarray(small), min(sigma / step, MOST_COARSE), shift), alpha)
    reach = max(1, round(1.5 * sigma))
    disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * reach + 1, 2 * reach + 1))
    return np.asarray(cv2.GaussianBlur(shift(alpha, disc), (0, 0), sigma))


def _blurred(alpha: Array, sigma: float) -> Array:
    step = _coarse(alpha, sigma)
    if step > 1:
        size = -(-alpha.shape[1] // step), -(-alpha.shape[0] // step)
        small = np.asarray(cv2.resize(alpha, size, interpolation=cv2.INTER_AREA), np.float32)
        return _spread(_blurred(small, min(sigma / step, MOST_COARSE)), alpha)
    return np.asarray(cv2.GaussianBlur(alpha, (0, 0), sigma), np.float32)


def _coarse(alpha: Array, sigma: float) -> int:
    """How many pixels are worked on as one where a blur is so wide that nothing finer is left of it."""
    return 1 if sigma <= MOST_FINE else max(1, min(int(sigma / FINE_ENOUGH), min(alpha.shape) // LEAST_CELLS))


def _spread(small: Array, alpha: Array) -> Array:
    return np.asarray(cv2.resize(small, alpha.shape[::-1], interpolation=cv2.INTER_LINEAR), np.float32)


def clean(alpha: Array, specks_px2: float, holes_px2: float) -> Array:
    """Takes out specks and fills holes smaller than an area (px², four-connected, at half alpha)."""
    for solid, area in ((True, specks_px2), (False, holes_px2)):
        if area <= 0:
            continue
        seen = (alpha > 0.05) if solid else (alpha < 0.95)
        _, labels, stats, _ = cv2.connectedComponentsWithStats(seen.astype(np.uint8), connectivity=4)
        small = stats[:, cv2.CC_STAT_AREA] < area
        small[0] = False
        alpha = np.where(small[labels], np.float32(0 if solid else 1), alpha)
    return np.asarray(alpha, np.float32)


def work_edge(alpha: Array, edge: Edge, frame: float = 0, scale: float = 1.0) -> Array:
    """Specks and holes, growth, softness, in that order; widths are in plate pixels. (h, w) float32."""
    alpha = clean(alpha, edge.specks_px2 * scale**2, edge.holes_px2 * scale**2)
    alpha = grow(alpha, edge.grow_px.at(frame) * scale)
    widths = (part.at(frame) * scale for part in (edge.soften_px, edge.soften_in_px, edge.soften_out_px))
    return soften(alpha, *widths)
