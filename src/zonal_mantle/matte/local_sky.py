"""The sky behind everything, drawn inward from where it is seen, clouds and all.

Cells that hold nothing but sky give their means. Beyond them a polynomial is fitted (iteratively reweighted least
squares, Huber 1981 for the method), and what it leaves is smoothed and added, from broad to fine. Where sky is seen
only through gaps, single pixels whose colour the ground of the shot does not have mend it there, ring by ring: those
that lie within the noise of the surface and, in a cell that has hardly any of them, those that lie as near to it as
clouds do. How near that is, and in which direction of colour, is told by the covariance of what the broad surface
leaves of the sky that is seen round about (a variogram's sill, in the words of Chiles & Delfiner, Geostatistics, 2012):
for a clear sky no farther than noise.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import kernel, part
from .sky_fit import Sky, cells_of, polynomials, whitening_of

Array = NDArray[np.float32]

CELLS_ACROSS = 240
ROUGH = 2.0  # deviations of the sky's own spread beyond which a cell holds more than sky
BEYOND = 0.03  # coded: how far the fitted sky may leave what is seen of it
RINGS, GAP_NOISES, OWN_COLOUR, GAP_PIXELS = (2.5, 2.5, 2.5, 2.5, 0.8), 4.0, 1.0, 0.15
GAP_HOLD = 0.1  # weight beside which what is seen of gaps tells half
DEGREE = 2
BROADLY = 20.0  # cells: the sky is first followed over so many; what that leaves tells how uneven it is, over as many
UNEVEN_OWN, UNEVEN_NOISES, OTHERS = 1.5, 3.0, 3.0  # log ratio; deviations; times as many as those within the noise
KNOWN_SHARE = 0.3  # of a cell that is sky: more, and gaps need not tell it
MANY, WIDE = 4000, 8.0  # cells of which a quarter tells a polynomial; cells from which smoothing is wide
LEAST_STEP = 1 / 255  # coded values


def local_sky(pixels: Array, chance: Array, feed: Array, own: Array) -> Sky:
    """The sky's surface on a grid of cells, and the noise about it.

    Parameters
    ----------
    pixels : (h, w, 3) float32, scene-linear, at any scale.
    chance : of being sky, at the working size, sharpened.
    feed, own : every second pixel, coded, and how much its colour is the sky's own; see `sky_colours.colour_ratio`.
    """
    height, width = pixels.shape[:2]
    across = max(1, min(CELLS_ACROSS, width // 4))
    grid = (max(1, round(across * height / width)), across)
    mean, spread = cells_of(pixels, grid)
    size = (grid[1], grid[0])
    seen = cv2.resize(chance, size, interpolation=cv2.INTER_AREA)
    inner = cv2.erode(seen, np.ones((3, 3)))
    share = np.clip((inner - 0.5) / 0.2, 0, 1).astype(np.float32)
    sure = share > 0.9
    noise = float(np.median(spread[sure])) if sure.any() else 0.02
    share[spread > ROUGH * max(noise, LEAST_STEP)] = 0  # a codec leaves less than a step of noise beside soft clouds
    if not (share > 0).any():
        share = (seen > 0.5).astype(np.float32)
    surface = _polynomial(mean, share)
    surface = surface + _smoothed((mean - surface) * share[..., None], share, BROADLY, 0.02)
    uneven = _unevenness(mean - surface, share)
    for sigma, hold in ((6.0, 0.03), (1.0, 0.05)):
        surface = surface + _smoothed((mean - surface) * share[..., None], share, sigma, hold)
    surface = np.ascontiguousarray(surface, np.float32)
    deep = (share > 0.9) & (cv2.erode(seen, np.ones((5, 5))) > 0.8)
    whitening = whitening_of(pixels, surface, deep if deep.any() else share > 0, max(noise, 1e-4))
    whitening = _no_finer(whitening)
    surface = _through_gaps(feed, own, surface, whitening, share, uneven)
    coarse = np.float32(CELLS_ACROSS / across)  # the coarser cells are, the more of a cloud's rim they do not follow
    return Sky(surface, whitening, float(share.mean()), coarse * _in_deviations(uneven, whitening))


@part
def _span(i, cells, size):  # type: ignore[no-untyped-def]
    """The first of `size` places that lie in a cell, and the one after the last; at least one."""
    first = i * size // cells
    return first, max((i + 1) * size // cells, first + 1)


def _no_finer(whitening: NDArray[np.float32]) -> NDArray[np.float32]:
    """Noise is nowhere taken for less than one step of eight bits: compression smooths skies, and leaves steps and
    rings about what stands in them."""
    finer = whitening.astype(np.float64)
    covariance = np.linalg.inv(finer.T @ finer) + LEAST_STEP**2 * np.eye(3)
    return np.ascontiguousarray(np.linalg.cholesky(np.linalg.inv(covariance)).T, np.float32)


def _polynomial(mean: Array, share: Array) -> Array:
    """A surface of degree 2 over the cells by their shares, those that leave it weighing less; never far beyond what
    is seen. Of many cells every second one of every second row tells it."""
    basis = polynomials((mean.shape[0], mean.shape[1]), DEGREE)
    few = 2 if share.size > MANY and share[::2, ::2].any() else 1
    flat = basis[::few, ::few].reshape(-1, basis.shape[2])
    target = mean[::few, ::few].reshape(-1, 3).astype(np.float64)
    weight = share[::few, ::few].reshape(-1).astype(np.float64)
    held = weight > 0.5 if (weight > 0.5).any() else weight > 0
    fitted = target
    for step in range(4):
        each = weight
        if step:
            away = np.sqrt(((target - fitted) ** 2).mean(axis=1))
            typical = max(float(np.median(away[held])), 0.004)
            each = weight / (1 + (away / typical / 2) ** 2)
        weighted = flat * each[:, None]
        holds = np.diag([0.0, *([1e-3] * (flat.shape[1] - 1))]) * max(each.sum(), 1) + 1e-9 * np.eye(flat.shape[1])
        factors = np.linalg.solve(weighted.T @ flat + holds, weighted.T @ target)
        fitted = flat @ factors
    low, high = np.percentile(target[held], [1, 99], axis=0)
    return np.clip(basis @ factors, low - BEYOND, high + BEYOND).astype(np.float32)


def _smoothed(values: NDArray, share: NDArray, sigma: float, hold: float) -> Array:
    """Weighted values smoothed over the grid; 0 where there are none within reach. Widely, on half of it."""
    height, width = share.shape
    both = np.dstack([values, share]).astype(np.float32)
    step = 2 if sigma > WIDE and min(height, width) > WIDE else 1
    if step > 1:
        both = np.asarray(cv2.resize(both, (width // step, height // step), interpolation=cv2.INTER_AREA))
    both = np.asarray(cv2.GaussianBlur(both, (0, 0), sigma / step), np.float32)
    out = both[..., :3] / (both[..., 3:] + np.float32(hold))
    return np.asarray(cv2.resize(out, (width, height), interpolation=cv2.INTER_LINEAR) if step > 1 else out)


def _unevenness(rest: Array, share: Array) -> Array:
    """The covariance of what is left of the sky about each cell, (h, w, 6): rr, rg, rb, gg, gb, bb; of every second
    cell of every second row."""
    few, weight = rest[::2, ::2], share[::2, ::2]
    r, g, b = few[..., 0], few[..., 1], few[..., 2]
    out = np.empty((*share.shape, 6), np.float32)
    for k, products in enumerate(((r * r, r * g, r * b), (g * g, g * b, b * b))):
        near = _smoothed(np.dstack(products) * weight[..., None], weight, BROADLY / 2, 1e-4)
        out[..., 3 * k : 3 * k + 3] = cv2.resize(near, share.shape[::-1], interpolation=cv2.INTER_LINEAR)
    return out


def _in_deviations(uneven: Array, whitening: NDArray[np.float32]) -> Array:
    """The deviation that such a covariance (h, w, 6) stands for, in those of noise, over the channels."""
    products = whitening.T @ whitening
    rows, columns = np.triu_indices(3)
    twice = np.where(rows == columns, 1, 2) / 3 * products[rows, columns]
    return np.asarray(np.sqrt(np.maximum(uneven @ twice, 0)), np.float32)


def _through_gaps(
    feed: Array, own: Array, surface: Array, whitening: NDArray[np.float32], share: Array, uneven: Array
) -> Array:
    finer = whitening.astype(np.float64)
    noise = np.linalg.inv(finer.T @ finer)
    spread = (uneven + noise[np.triu_indices(3)]).astype(np.float32)
    told = whitening, np.float32(GAP_NOISES**2), share, spread
    surface = surface.copy()
    for sigma in RINGS:
        rest = np.empty((*share.shape, 4), np.float32)
        run_bands(_gap_rows, len(share), feed, own, surface, *told, sigma < 1, rest)
        run_bands(_mend_rows, len(share), cv2.GaussianBlur(rest, (0, 0), sigma), np.float32(GAP_HOLD), surface)
    return surface


@kernel
def _mend_rows(first, end, soft, hold, surface):  # type: ignore[no-untyped-def]
    """Adds to the surface what is left of it round about. soft (h, w, 4): weighted differences, and their weight."""
    for j in range(first, end):
        for i in range(surface.shape[1]):
            each = np.float32(1) / (soft[j, i, 3] + hold)
            for c in range(3):
                surface[j, i, c] += soft[j, i, c] * each


@kernel
def _gap_rows(first, end, feed, own, surface, whitening, limit, share, spread, fine, rest):  # type: ignore[no-untyped-def]
    """Per cell: the mean difference to the surface of the pixels that are sky by it, weighted, and how far there are
    any. Where much is sky the surface is known, and nothing is left. `spread` is the covariance of noise and clouds
    together (its upper triangle), by whose Cholesky factor differences are whitened; `fine`: clouds alone mend it."""
    height, width = own.shape
    gh, gw = share.shape
    zero, one, least = np.float32(0), np.float32(1), np.float32(1e-9)
    w00, w01, w02 = whitening[0, 0], whitening[0, 1], whitening[0, 2]
    w10, w11, w12 = whitening[1, 0], whitening[1, 1], whitening[1, 2]
    w20, w21, w22 = whitening[2, 0], whitening[2, 1], whitening[2, 2]
    for j in range(first, end):
        top, bottom = _span(j, gh, height)
        for i in range(gw):
            if share[j, i] > np.float32(KNOWN_SHARE):
                rest[j, i, 0], rest[j, i, 1], rest[j, i, 2] = zero, zero, zero
                rest[j, i, 3] = share[j, i]
                continue
            left, right = _span(i, gw, width)
            sr, sg, sb = surface[j, i, 0], surface[j, i, 1], surface[j, i, 2]
            wide = spread[j, i]
            a = np.sqrt(wide[0])
            b, c = wide[1] / a, wide[2] / a
            d = np.sqrt(max(wide[3] - b * b, least))
            e = (wide[4] - b * c) / d
            f = np.sqrt(max(wide[5] - c * c - e * e, least))
            tr, tg, tb, count = zero, zero, zero, zero
            ur, ug, ub, others = zero, zero, zero, zero
            for y in range(top, bottom):
                for x in range(left, right):
                    if own[y, x] <= np.float32(OWN_COLOUR):
                        continue
                    red, green, blue = feed[y, x, 0] - sr, feed[y, x, 1] - sg, feed[y, x, 2] - sb
                    p = w00 * red + w01 * green + w02 * blue
                    q = w10 * red + w11 * green + w12 * blue
                    s = w20 * red + w21 * green + w22 * blue
                    if p * p + q * q + s * s < limit:
                        tr, tg, tb, count = tr + red, tg + green, tb + blue, count + one
                    elif own[y, x] > np.float32(UNEVEN_OWN):
                        p = red / a
                        q = (green - b * p) / d
                        s = (blue - c * p - e * q) / f
                        if p * p + q * q + s * s < np.float32(UNEVEN_NOISES**2):
                            ur, ug, ub, others = ur + red, ug + green, ub + blue, others + one
            if others > np.float32(OTHERS) * count:
                tr, tg, tb, count = ur, ug, ub, others
            elif fine:
                tr, tg, tb = zero, zero, zero
            all_of = np.float32((bottom - top) * (right - left))
            weight = min(count / all_of / np.float32(GAP_PIXELS), one)
            each = weight / max(count, one)
            rest[j, i, 0], rest[j, i, 1], rest[j, i, 2], rest[j, i, 3] = tr * each, tg * each, tb * each, weight
