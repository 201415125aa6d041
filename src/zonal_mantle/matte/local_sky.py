"""The sky behind everything, drawn inward from where it is seen, clouds and all.

Cells that hold nothing but sky give their means. Beyond them a polynomial is fitted (iteratively reweighted least
squares, Huber 1981 for the method), and what it leaves is smoothed and added, from broad to fine. Where sky is seen
only through gaps, single pixels that lie within the noise of the surface, and whose colour the ground of the shot does
not have, mend it there, ring by ring.
"""

from __future__ import annotations

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from .sky_fit import Sky, cells_of, polynomials, whitening_of

Array = NDArray[np.float32]

CELLS_ACROSS = 240
ROUGH = 2.0  # deviations of the sky's own spread beyond which a cell holds more than sky
BEYOND = 0.03  # coded: how far the fitted sky may leave what is seen of it
RINGS, GAP_NOISES, OWN_COLOUR, GAP_PIXELS = 4, 4.0, 1.0, 0.15
DEGREE = 2
LEAST_STEP = 1 / 255  # coded values

kernel = numba.njit(cache=True, nogil=True, error_model="numpy")


def local_sky(pixels: Array, chance: Array, feed: Array, own: Array) -> Sky:
    """The sky's surface on a grid of cells, and the noise about it.

    Parameters
    ----------
    pixels : (h, w, 3) float32, scene-linear, at any scale.
    chance : of being sky, at the working size, sharpened.
    feed, own : every second pixel, coded, and how much its colour is the sky's own; see `sky_region.colour_ratio`.
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
    share[spread > ROUGH * noise] = 0
    if not (share > 0).any():
        share = (seen > 0.5).astype(np.float32)
    surface = _polynomial(mean, share)
    for sigma, hold in ((20.0, 0.02), (6.0, 0.03), (1.0, 0.05)):
        surface = surface + _smoothed((mean - surface) * share[..., None], share, sigma, hold)
    surface = np.ascontiguousarray(surface, np.float32)
    deep = (share > 0.9) & (cv2.erode(seen, np.ones((5, 5))) > 0.8)
    whitening = whitening_of(pixels, surface, deep if deep.any() else share > 0, max(noise, 1e-4))
    whitening = _no_finer(whitening)
    surface = _through_gaps(feed, own, surface, whitening, share)
    return Sky(surface, whitening, float(share.mean()))


def _no_finer(whitening: NDArray[np.float32]) -> NDArray[np.float32]:
    """Noise is nowhere taken for less than one step of eight bits: compression smooths skies, and leaves steps and
    rings about what stands in them."""
    finer = whitening.astype(np.float64)
    covariance = np.linalg.inv(finer.T @ finer) + LEAST_STEP**2 * np.eye(3)
    return np.ascontiguousarray(np.linalg.cholesky(np.linalg.inv(covariance)).T, np.float32)


def _polynomial(mean: Array, share: Array) -> Array:
    """A surface of degree 2 over the cells by their shares, those that leave it weighing less; never far beyond what
    is seen."""
    basis = polynomials((mean.shape[0], mean.shape[1]), DEGREE)
    flat, target = basis.reshape(-1, basis.shape[2]), mean.reshape(-1, 3).astype(np.float64)
    weight = share.reshape(-1).astype(np.float64)
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
        fitted = flat @ np.linalg.solve(weighted.T @ flat + holds, weighted.T @ target)
    low, high = np.percentile(target[held], [1, 99], axis=0)
    return np.clip(fitted, low - BEYOND, high + BEYOND).reshape(mean.shape).astype(np.float32)


def _smoothed(values: NDArray, share: NDArray, sigma: float, hold: float) -> Array:
    """Weighted values smoothed over the grid; 0 where there are none within reach."""
    return np.asarray(
        cv2.GaussianBlur(values, (0, 0), sigma) / (cv2.GaussianBlur(share, (0, 0), sigma) + hold)[..., None], np.float32
    )


def _through_gaps(feed: Array, own: Array, surface: Array, whitening: NDArray[np.float32], share: Array) -> Array:
    gh = share.shape[0]
    close = share > 0.3
    for _ in range(RINGS):
        rest, seen = np.empty_like(surface), np.empty_like(share)
        run_bands(_gap_rows, gh, feed, own, surface, whitening, np.float32(GAP_NOISES**2), rest, seen)
        seen[close] = share[close]
        rest[close] = 0
        surface = surface + _smoothed(rest * seen[..., None], seen, 2.5, 0.1)
    return np.ascontiguousarray(surface, np.float32)


@kernel
def _gap_rows(first, end, feed, own, surface, whitening, limit, rest, seen):  # type: ignore[no-untyped-def]
    """Per cell: the mean difference to the surface of the pixels within the noise of it, and how far there are any."""
    height, width = own.shape
    gh, gw = seen.shape
    for j in range(first, end):
        top, bottom = j * height // gh, max((j + 1) * height // gh, j * height // gh + 1)
        for i in range(gw):
            left, right = i * width // gw, max((i + 1) * width // gw, i * width // gw + 1)
            tr, tg, tb, count, all_of = np.float32(0), np.float32(0), np.float32(0), np.float32(0), np.float32(0)
            for y in range(top, min(bottom, height)):
                for x in range(left, min(right, width)):
                    all_of += np.float32(1)
                    if own[y, x] <= np.float32(OWN_COLOUR):
                        continue
                    r, g, b = feed[y, x, 0] - surface[j, i, 0], feed[y, x, 1] - surface[j, i, 1], np.float32(0)
                    b = feed[y, x, 2] - surface[j, i, 2]
                    p = whitening[0, 0] * r + whitening[0, 1] * g + whitening[0, 2] * b
                    q = whitening[1, 0] * r + whitening[1, 1] * g + whitening[1, 2] * b
                    s = whitening[2, 0] * r + whitening[2, 1] * g + whitening[2, 2] * b
                    if p * p + q * q + s * s < limit:
                        tr += r
                        tg += g
                        tb += b
                        count += np.float32(1)
            some = max(count, np.float32(1))
            rest[j, i, 0], rest[j, i, 1], rest[j, i, 2] = tr / some, tg / some, tb / some
            seen[j, i] = min(count / max(all_of, np.float32(1)) / np.float32(GAP_PIXELS), np.float32(1))
