"""Fitting the sky: a smooth surface over the frame, followed into gaps among leaves, and the plate's noise.

A polynomial is fitted to the coded means of cells by iteratively reweighted least squares (Tukey's biweight; Huber
1981 for the method). What it leaves is smoothed and added, from broad to fine. Where the sky is seen only through gaps,
single pixels that are sky by the surface so far mend it there, ring by ring.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import fast_kernel
from ..media.curves import srgb_encode
from ..media.powers import coded_row
from ..shot.matte import Area, ClearSkyPull
from ..words import say
from .errors import MatteError

Array = NDArray[np.float32]

CELLS_ACROSS = 128
LEAST_SKY = 0.004  # share of the frame that must be sky for a fit
LEAST_NOISE = 0.0012  # coded values: a third of an 8-bit step, for plates without grain
MOST_NOISE = 0.06  # coded values: rougher than this is no sky
GAP_RINGS, GAP_NOISE, GAP_PIXELS = 12, 8.0, 4  # rings of cells, deviations, sampled pixels that say enough


@dataclass(frozen=True)
class Sky:
    """The sky behind everything.

    surface : (gh, gw, 3) float32, coded, at the middles of cells spread over the frame.
    whitening : (3, 3), takes a difference in coded values to units of the noise's standard deviation.
    share : of the frame's cells that were taken for sky, 0…1.
    uneven : (gh, gw) float32, how far clouds lie from the sky as it is broadly, in deviations of noise, more for cells
        that are coarse and follow them less; None where that was not looked at.
    """

    surface: Array
    whitening: NDArray[np.float32]
    share: float
    uneven: Array | None = None


@fast_kernel
def _cell_rows(first, end, pixels, height, width, mean, spread):  # type: ignore[no-untyped-def]
    """Mean coded colour and spread within each cell of rows `first` to `end` of the grid, from every second row."""
    gh, gw = spread.shape
    feed, total, square = np.empty(3 * width, np.float32), np.empty(3 * gw, np.float32), np.empty(3 * gw, np.float32)
    for j in range(first, end):
        top, bottom = j * height // gh, max((j + 1) * height // gh, j * height // gh + 1)
        total[:] = np.float32(0)
        square[:] = np.float32(0)
        rows = 0
        for y in range(top, bottom, 2):
            rows += 1
            coded_row(pixels[y].reshape(-1), feed)
            for i in range(gw):
                left, right = i * width // gw, max((i + 1) * width // gw, i * width // gw + 1)
                for c in range(3):
                    t, q = np.float32(0), np.float32(0)
                    for x in range(left, right):
                        value = feed[3 * x + c]
                        t += value
                        q += value * value
                    total[3 * i + c] += t
                    square[3 * i + c] += q
        for i in range(gw):
            left, right = i * width // gw, max((i + 1) * width // gw, i * width // gw + 1)
            count, variance = np.float32(rows * (right - left)), np.float32(0)
            for c in range(3):
                middle = total[3 * i + c] / count
                mean[j, i, c] = middle
                variance += max(square[3 * i + c] / count - middle * middle, np.float32(0))
            spread[j, i] = np.sqrt(variance / np.float32(3))


def cells_of(pixels: Array, grid: tuple[int, int]) -> tuple[Array, Array]:
    """Mean coded colour (rows, columns, 3) and spread (rows, columns) of the cells of a grid over the picture."""
    mean, spread = np.empty((*grid, 3), np.float32), np.empty(grid, np.float32)
    run_bands(_cell_rows, grid[0], pixels, pixels.shape[0], pixels.shape[1], mean, spread)
    return mean, spread


def fit_sky(pixels: Array, pull: ClearSkyPull, scale: float = 1.0) -> Sky:
    """Finds the sky and fits it.

    Parameters
    ----------
    pixels : (h, w, 3) float32, scene-linear.
    pull : its degree, and its areas of known sky in full-resolution pixels; without areas the largest smooth region
        that touches the top of the frame is taken.

    Raises
    ------
    MatteError : no sky is found.
    """
    height, width = pixels.shape[:2]
    gw = min(CELLS_ACROSS, max(width // 5, 1))
    gh = max(1, min(round(gw * height / width), max(height // 5, 1)))
    mean, spread = cells_of(pixels, (gh, gw))
    known = _known(pull.areas, (gh, gw), (width / scale, height / scale))
    noise = max(float(np.median(spread[known])) if known.any() else _quietest(mean, spread), LEAST_NOISE)
    smooth = spread < 2.0 * noise
    sky = smooth & known if known.any() else _topmost(smooth)
    if noise > MOST_NOISE or (sky.mean() < LEAST_SKY and not known.any()):
        raise MatteError(
            say("No sky was found: no large smooth region touches the top of the frame. Drag over some sky.")
        )
    basis = polynomials((gh, gw), pull.degree)
    flat, target = basis.reshape(-1, basis.shape[2]), mean.reshape(-1, 3).astype(np.float64)
    fitted, typical = mean.astype(np.float64), noise / 3
    for step in range(6):
        weight = sky.reshape(-1).astype(np.float64)
        if step:
            weight *= np.clip(1 - (_distance(mean, fitted).reshape(-1) / (6 * typical)) ** 2, 0, 1) ** 2
        weighted = flat * weight[:, None]
        square = weighted.T @ flat + 1e-7 * max(weight.sum(), 1) * np.eye(flat.shape[1])
        fitted = (flat @ np.linalg.solve(square, weighted.T @ target)).reshape(gh, gw, 3)
        away = _distance(mean, fitted)
        typical = max(float(np.median(away[sky])), 0.1 * noise)
        grown = (away < 5 * typical) & (spread < 2.5 * noise)
        joined = _joined(grown, sky)
        sky = joined if joined.any() else sky
    surface = fitted.astype(np.float32)
    whitening = whitening_of(pixels, surface, sky, noise)
    if pull.clouds:
        share = sky.astype(np.float32)
        for sigma, hold in ((10.0, 0.02), (2.0, 0.05)):  # what the surface leaves, from broad to fine
            surface = surface + _smoothed((mean - surface) * share[..., None], share, sigma, hold)
        surface = _through_gaps(pixels, surface, whitening, share, mean)
    return Sky(np.ascontiguousarray(surface), whitening, float(sky.mean()))


def _smoothed(values: NDArray, share: NDArray, sigma: float, hold: float) -> Array:
    """Weighted values smoothed over the grid; 0 where there are none within reach."""
    soft = cv2.GaussianBlur(values, (0, 0), sigma) / (cv2.GaussianBlur(share, (0, 0), sigma) + hold)[..., None]
    return np.asarray(soft, np.float32)


def _through_gaps(pixels: Array, surface: Array, whitening: NDArray[np.float32], share: Array, mean: Array) -> Array:
    """Follows the sky into gaps among leaves, ring by ring: single pixels that are sky by the surface so far, which is
    good near to what is known, mend the surface there."""
    gh, gw = surface.shape[:2]
    feed = sampled(pixels)
    base, left = surface, np.zeros_like(surface)
    close = cv2.GaussianBlur(share, (0, 0), 3.0) > 0.1  # there the fit itself knows better
    covariance = np.linalg.inv(whitening.T.astype(np.float64) @ whitening)
    lift = 0.8 * float(np.sqrt(covariance.sum() / 9))  # the upper half of noise lies 0.8 deviations above its mean
    for ring in range(GAP_RINGS):
        rest, seen = np.empty_like(surface), np.empty((gh, gw), np.float32)
        limit = GAP_NOISE if ring < GAP_RINGS - 2 else GAP_NOISE / 2  # at the end only what is surely sky
        run_bands(_gap_rows, gh, feed, surface, whitening, np.float32(limit * limit), np.float32(lift), rest, seen)
        seen = np.where(share > 0, share, np.where(close, 0, seen))
        rest = np.where(share[..., None] > 0, mean - surface, rest)
        left = left + _smoothed(rest * seen[..., None], seen, 2.5, 0.03)
        surface = base + left
    return np.asarray(surface, np.float32)


def sampled(pixels: Array) -> Array:
    """Every second pixel of every second row, coded."""
    feed = np.empty((-(-pixels.shape[0] // 2), -(-pixels.shape[1] // 2), 3), np.float32)
    run_bands(_sample_rows, feed.shape[0], pixels, feed)
    return feed


@fast_kernel
def _sample_rows(y0, y1, pixels, out):  # type: ignore[no-untyped-def]
    """Every second pixel of every second row, coded."""
    row = np.empty(3 * out.shape[1], np.float32)  # apart from what is written: only then the curve becomes vector code
    for y in range(y0, y1):
        seen = pixels[2 * y]
        for x in range(out.shape[1]):
            for c in range(3):
                row[3 * x + c] = seen[2 * x, c]
        coded_row(row, out[y].reshape(-1))


@fast_kernel
def _gap_rows(first, end, feed, surface, whitening, limit, lift, rest, seen):  # type: ignore[no-untyped-def]
    """Per cell: mean difference to the surface of the pixels that are sky by it, and how far there are any, 0…1."""
    height, width = feed.shape[:2]
    gh, gw = seen.shape
    zero, one = np.float32(0), np.float32(1)
    for j in range(first, end):
        top, bottom = j * height // gh, max((j + 1) * height // gh, j * height // gh + 1)
        for i in range(gw):
            left, right = i * width // gw, max((i + 1) * width // gw, i * width // gw + 1)
            sr, sg, sb = surface[j, i, 0], surface[j, i, 1], surface[j, i, 2]
            middle, all_of = zero, zero
            tr, tg, tb, count = zero, zero, zero, zero
            for turn in range(2):  # then only the brighter half, since what is a little covered is darker
                for y in range(top, min(bottom, height)):
                    for x in range(left, min(right, width)):
                        r, g, b = feed[y, x, 0] - sr, feed[y, x, 1] - sg, feed[y, x, 2] - sb
                        p = whitening[0, 0] * r + whitening[0, 1] * g + whitening[0, 2] * b
                        q = whitening[1, 0] * r + whitening[1, 1] * g + whitening[1, 2] * b
                        s = whitening[2, 0] * r + whitening[2, 1] * g + whitening[2, 2] * b
                        if p * p + q * q + s * s >= limit:
                            continue
                        level = (r + g + b) / np.float32(3)
                        if turn == 0:
                            middle += level
                            all_of += one
                        elif level * all_of >= middle:
                            tr += r - lift
                            tg += g - lift
                            tb += b - lift
                            count += one
            some = max(count, one)
            rest[j, i, 0], rest[j, i, 1], rest[j, i, 2] = tr / some, tg / some, tb / some
            seen[j, i] = min(count / np.float32(GAP_PIXELS), one)


def _known(areas: tuple[Area, ...], grid: tuple[int, int], size: tuple[float, float]) -> NDArray[np.bool_]:
    out = np.zeros(grid, bool)
    for x0, y0, x1, y1 in areas:
        left, right = sorted((x0 / size[0] * grid[1], x1 / size[0] * grid[1]))
        top, bottom = sorted((y0 / size[1] * grid[0], y1 / size[1] * grid[0]))
        out[max(int(top), 0) : max(int(np.ceil(bottom)), 0), max(int(left), 0) : max(int(np.ceil(right)), 0)] = True
    return out


def _quietest(mean: Array, spread: Array) -> float:
    """The noise of the brighter half of the frame, judged by its smoothest fifth."""
    level = mean[..., 1]
    return float(np.percentile(spread[level >= np.median(level)], 20))


def _topmost(smooth: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """The largest connected region among those that touch the top."""
    _, labels, stats, _ = cv2.connectedComponentsWithStats(smooth.astype(np.uint8), connectivity=4)
    touching = [int(label) for label in np.unique(labels[:2]) if label]
    if not touching:
        return np.zeros_like(smooth)
    return np.asarray(labels == max(touching, key=lambda label: stats[label, cv2.CC_STAT_AREA]))


def _joined(grown: NDArray[np.bool_], sky: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """The regions of `grown` that are large or meet what was sky before."""
    _, labels, stats, _ = cv2.connectedComponentsWithStats(grown.astype(np.uint8), connectivity=4)
    met = np.bincount(labels[sky], minlength=len(stats)) > 0
    met[0] = False
    return np.asarray(met[labels])


@lru_cache(maxsize=8)
def polynomials(grid: tuple[int, int], degree: int) -> NDArray[np.float64]:
    """Products of powers of x and y (-1 to 1) up to a degree, at the middles of a grid's cells. (h, w, n)."""
    y, x = ((np.arange(n) + 0.5) / n * 2 - 1 for n in grid)
    powers = [(i, j) for i in range(degree + 1) for j in range(degree + 1 - i)]
    return np.stack([y[:, None] ** j * x[None, :] ** i for i, j in powers], axis=2)


def _distance(a: NDArray, b: NDArray) -> NDArray[np.float64]:
    return np.asarray(np.sqrt(((a - b) ** 2).mean(axis=2)))


def whitening_of(pixels: Array, surface: Array, sky: NDArray[np.bool_], noise: float) -> NDArray[np.float32]:
    """Takes differences in coded values to units of the noise, (3, 3): from the noise's covariance over sky pixels,
    those that are no noise left out."""
    height, width = pixels.shape[:2]
    gh, gw = sky.shape
    rows, columns = np.nonzero(cv2.erode(sky.astype(np.uint8), np.ones((3, 3), np.uint8)) if sky.mean() > 0.05 else sky)
    if len(rows) == 0:
        return np.asarray(np.eye(3) / noise, np.float32)
    pick = np.linspace(0, len(rows) - 1, min(len(rows), 1500)).astype(int)
    differences = []
    for oy, ox in ((0.3, 0.3), (0.7, 0.35), (0.4, 0.75), (0.65, 0.6)):
        gy, gx = rows[pick] + oy, columns[pick] + ox
        y, x = (gy * height / gh).astype(int), (gx * width / gw).astype(int)
        at = pixels[np.minimum(y, height - 1), np.minimum(x, width - 1)]
        differences.append(srgb_encode(at) - surface[rows[pick], columns[pick]])
    values = np.concatenate(differences).astype(np.float64)
    covariance = np.cov(values.T) + LEAST_NOISE**2 * np.eye(3)
    for _ in range(4):
        off = np.einsum("ni,ni->n", values @ np.linalg.inv(covariance), values)
        inside = values[off < 12]
        if len(inside) < 50:
            break
        covariance = np.cov(inside.T) * 1.05 + LEAST_NOISE**2 * np.eye(3)
    return np.ascontiguousarray(np.linalg.cholesky(np.linalg.inv(covariance)).T, np.float32)
