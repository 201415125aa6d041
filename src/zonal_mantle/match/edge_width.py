"""How wide the sharpest edges of a picture are, and what blur makes them as wide as another picture's.

The sharpest edges of a picture are as wide as its blur whatever it shows. Under noise only those count that stand out
of it: crests of noise are as wide as the noise.

References
----------
Blur from the ratio of gradients before and after a known blur: Zhuo & Sim, Defocus map estimation from a single image,
Pattern Recognition 44 (2011).
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from .lens import aperture, sharpened, streak
from .sharpness import Blur

Array = NDArray[np.float32]
QUANTILES = (8, 12, 18, 25)  # per cent, of widths
CRESTS, LEAST_CRESTS = 0.9, 50  # quantile of steepness from which crests count; fewer tell nothing
OUT_OF_NOISE = 4.0  # standard deviations of the noise's slope: of noise, 3 in 10 000 pixels are as steep (Rayleigh)
NOISE_QUANTILE, ABOVE_NOISE = 0.99, 1.2  # of noise by itself anywhere, and times as steep as it a crest is
COARSE_PX = 6.0  # over which noise is as strong
LEAST_LIGHT = 0.02  # below which its root is not taken
RADII = (0.0, 0.35, 0.6, 0.8, 1.0, 1.25, 1.5, 1.8, 2.2)
AMOUNTS = (0.0, 0.2, 0.4, 0.7, 1.0, 1.5, 2.2)  # of sharpening


class AimEdges(NamedTuple):
    """The edges of an aim. widths : of the sharpest, see `edge_widths`; empty where they show nothing. noise : of the
    aim, in square-rooted light, (h, w). steep : what a crest is steeper than that is none of the noise's."""

    widths: NDArray[np.float64]
    noise: Array
    steep: float


def edges_of(aim: Array, mask: NDArray | None, noise: float | Array) -> AimEdges:
    """An aim's edges.

    Parameters
    ----------
    aim, mask : luma (h, w), and where it counts. noise : of the aim, standard deviation in square-rooted light, or such
        noise, (h, w).
    """
    if not isinstance(noise, np.ndarray):
        noise = np.random.default_rng(0).standard_normal(aim.shape, np.float32) * np.float32(noise)
    inside = np.ones(aim.shape, bool) if mask is None else mask
    drowned = _noisy(np.asarray(cv2.GaussianBlur(aim, (0, 0), COARSE_PX), np.float32), noise)
    steep = float(np.quantile(_steepness(drowned)[inside], NOISE_QUANTILE)) if noise.any() and inside.any() else 0.0
    return AimEdges(edge_widths(aim, mask, noise, ABOVE_NOISE * steep), noise, ABOVE_NOISE * steep)


def edge_widths(
    luma: Array, mask: NDArray | None = None, noise: Array | None = None, steep: float = 0.0
) -> NDArray[np.float64]:
    """Widths (standard deviations, px) of the sharpest edges, at `QUANTILES`; empty where there are none, or none that
    stand out of a noise, (h, w) in square-rooted light, and are steeper than `steep` a pixel, beside how bright it is
    about them."""
    y = np.asarray(luma, np.float32)
    strong, gx, gy = _gradient(y)
    weak = _gradient(np.asarray(cv2.GaussianBlur(y, (0, 0), 1.0), np.float32))[0]
    norm = np.maximum(strong, 1e-9)
    rows, columns = np.mgrid[: y.shape[0], : y.shape[1]].astype(np.float32)
    ahead, behind = (
        cv2.remap(strong, columns + s * gx / norm, rows + s * gy / norm, cv2.INTER_LINEAR) for s in (1, -1)
    )
    inside = np.ones(y.shape, bool) if mask is None else cv2.erode(mask.astype(np.uint8), np.ones((7, 7))) > 0
    if not inside.any():
        return np.empty(0)
    relative = _steepness(y, strong)
    least = max(float(np.quantile(relative[inside], CRESTS)), steep)
    crest = inside & (strong >= ahead) & (strong >= behind) & (relative > least)
    if noise is not None:
        level = np.asarray(cv2.GaussianBlur(y, (0, 0), COARSE_PX), np.float32)
        crest &= strong > OUT_OF_NOISE * _slopes(_noisy(level, noise) - level)
    ratio = strong[crest] / np.maximum(weak[crest], 1e-9)
    ratio = ratio[ratio > 1.02]
    if len(ratio) < LEAST_CRESTS:
        return np.empty(0)
    return np.asarray(np.percentile(1 / np.sqrt(ratio**2 - 1), QUANTILES))


def _steepness(y: Array, strong: NDArray | None = None) -> NDArray:
    """How steep a picture is, beside how bright it is about a place."""
    strong = _gradient(y)[0] if strong is None else strong
    return np.asarray(strong / np.maximum(cv2.GaussianBlur(y, (0, 0), 4), LEAST_LIGHT))


def _slopes(noise: Array) -> NDArray:
    """Standard deviation of a noise's slope in one direction, by place."""
    return np.sqrt(cv2.GaussianBlur(_gradient(noise)[0] ** 2, (0, 0), COARSE_PX) / 2)


def _gradient(a: NDArray) -> tuple[NDArray, NDArray, NDArray]:
    across, down = cv2.Sobel(a, -1, 1, 0, ksize=3) / 8, cv2.Sobel(a, -1, 0, 1, ksize=3) / 8
    return np.hypot(across, down), across, down


def rooted(grain: Array, luma: Array) -> Array:
    """What noise adds to a luma, in square-rooted light, where it is about as strong at all levels."""
    return np.asarray(grain / np.sqrt(np.maximum(luma, LEAST_LIGHT)), np.float32)


def _noisy(luma: Array, noise: Array) -> Array:
    return np.asarray(luma + noise * np.sqrt(np.maximum(luma, LEAST_LIGHT)), np.float32)


def wider_by(
    own: Array, mask: NDArray | None, aim: AimEdges, blurs: Sequence[Blur], motion: tuple[float, float] = (0.0, 0.0)
) -> NDArray[np.float64]:
    """By how much a picture's sharpest edges are wider than an aim's, with each of some blurs: natural logarithms, not
    a number where none stand out. The picture is blurred, also by a motion of so many pixels, and read as the aim is,
    with noise as the aim's, so that what the reading does to both falls out.

    Example
    -------
    >>> steps = np.kron(np.random.default_rng(1).random((12, 16)), np.ones((20, 20))).astype(np.float32)
    >>> soft = np.asarray(cv2.GaussianBlur(steps, (0, 0), 1.0), np.float32)
    >>> blurs = [Blur("soft", size, 0.0, 0.0, 0.0) for size in (0.0, 1.0)]
    >>> wider = wider_by(steps, None, edges_of(soft, None, 0.0), blurs)
    >>> bool(wider[0] < -0.3), bool(abs(wider[1]) < 0.01)
    (True, True)
    """
    if np.hypot(*motion) > 0.5:
        own = np.asarray(cv2.filter2D(own, -1, streak(*motion, 0.0, 0.0, -0.5, 0.5)), np.float32)
    widths = []
    for blur in blurs:
        blurred = own
        if blur.kind == "soft" and blur.size > 0.1:
            blurred = np.asarray(cv2.GaussianBlur(own, (0, 0), blur.size), np.float32)
        elif blur.kind == "disc" and (kernel := aperture(blur.size)).size > 1:
            blurred = np.asarray(cv2.filter2D(own, -1, kernel), np.float32)
        widths.append(_beside(blurred, mask, aim))
    return np.array(widths)


def _beside(luma: Array, mask: NDArray | None, aim: AimEdges) -> float:
    found = edge_widths(_noisy(luma, aim.noise), mask, aim.noise, aim.steep)
    return float(np.log(np.median(found / aim.widths))) if len(found) and len(aim.widths) else float("nan")


def radius_by_edges(own: Array, mask: NDArray | None, aim: AimEdges, motion: tuple[float, float] = (0.0, 0.0)) -> float:
    """The radius of the disc that makes a picture's sharpest edges as wide as the aim's; below 0 where they are sharper
    than its own; see `wider_by`."""
    widths = np.exp(wider_by(own, mask, aim, [Blur("disc", radius, 0.0, 0.0, 0.0) for radius in RADII], motion))
    ratios = np.maximum.accumulate(np.nan_to_num(widths, nan=1.0))
    if ratios[0] > 1.0:
        return -1.0
    return float(np.interp(1.0, ratios, RADII))


def sharpening_by_edges(own: Array, mask: NDArray | None, aim: AimEdges) -> float:
    """How much of its detail (`lens.sharpened`, finer than a pixel) makes a picture's sharpest edges as narrow as the
    aim's."""
    flat = np.dstack([own] * 3 + [np.ones_like(own)]).astype(np.float32)
    wider = np.array([_beside(sharpened(flat, amount, 1.0, 1.0)[..., 0], mask, aim) for amount in AMOUNTS])
    falling = np.minimum.accumulate(np.nan_to_num(wider, nan=0.0))
    return float(np.interp(0.0, -falling, AMOUNTS))
