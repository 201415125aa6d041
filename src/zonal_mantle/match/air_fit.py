"""Visibility and airlight from parts of the plate whose distances are known.

Model: parts alike at distances d show the same percentiles of colour J through air: C = J·T + A·(1 − T), T =
exp(−β k d), k by Ångström's exponent. All percentiles of all parts are fitted at once, J, A, β and the exponent free;
what tells β is how the spread of a part shrinks with distance. One part alone gives a guess by the dark channel.

References
----------
H. Koschmieder, Theorie der horizontalen Sichtweite (1924). K. He, J. Sun & X. Tang, Single image haze removal using
dark channel prior, CVPR 2009.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from ..words import say
from .air import CONTRAST_THRESHOLD, EYE_NM, WAVES_NM

Array = NDArray[np.float32]
Triple = tuple[float, float, float]
QUANTILES = (3, 15, 35, 50, 65, 85, 97)
LEAST_SPREAD = 0.1  # share by which distances must differ
USUAL_EXPONENT, EXPONENT_SPREAD = 0.5, 0.6
DRAWS = 32
KEEPS_HAZE = 0.95  # He, Sun & Tang 2009, ω
ALIKE = 0.06  # share of their values by which alike things differ
LEAST_PIXELS = 150
SMOOTH_PX = 2.0  # standard deviation
LEAST_GUESSED = 0.08  # of own light: with less all of it is haze, or burnt out
MOST_REACH = 1.3  # natural logarithm of visibility: an interval that is wider says nothing
NINE_IN_TEN = 1.645  # standard deviations of a normal distribution
CONTENT, LEAST_UNLIKE = 0.5, 0.06  # share of the variance from strip to strip; of contrasts of one texture


class AirPart(NamedTuple):
    """A part of the plate: its pixels, scene-linear (n, 3), in the order of blocks; how far off it is."""

    pixels: NDArray
    distance_m: float


class AirFit(NamedTuple):
    """visibility_m with the interval that holds it in nine of ten cases; airlight, with standard deviations; exponent.
    points : distance and share of own light (green) of each part, as its own contrast tells it. is_guess : by
    the dark channel."""

    visibility_m: float
    interval_m: tuple[float, float]
    airlight: Triple
    airlight_spread: Triple
    exponent: float
    points: tuple[tuple[float, float], ...]
    is_guess: bool = False


def without_noise(picture: Array) -> Array:
    """A picture whose noise no longer widens what is seen of distant things, whose contrast is small. (h, w, 3)."""
    return np.asarray(cv2.GaussianBlur(picture, (0, 0), SMOOTH_PX), np.float32)


def fit_air(parts: Sequence[AirPart]) -> AirFit:
    """Visibility and airlight from two or more parts at different distances.

    Raises
    ------
    ValueError : there are fewer than two, they lie at about one distance, or they show no haze.
    """
    parts = [part for part in parts if len(part.pixels) >= LEAST_PIXELS]
    if len(parts) < 2:
        raise ValueError(say("Air is measured between two areas or more whose distances are known."))
    distances = np.array([part.distance_m for part in parts], float)
    if distances.max() < distances.min() * (1 + LEAST_SPREAD):
        raise ValueError(
            say(
                "All areas lie at about {metres:g} m: air is measured between different distances.",
                metres=distances.min(),
            )
        )
    quantiles = np.array([_quantiles(part.pixels) for part in parts])
    wobble = np.array([_wobble(part.pixels) for part in parts])
    first = _fitted(quantiles, wobble, distances, None)
    rng = np.random.default_rng(0)
    draws = []
    for _ in range(DRAWS):
        drawn = quantiles + rng.standard_normal(quantiles.shape[:1] + (1, 3)) * wobble.mean(axis=1, keepdims=True)
        drawn = drawn + rng.standard_normal(quantiles.shape) * wobble * 0.5
        draws.append(_fitted(drawn, wobble, distances, first))
    table = np.array(draws)
    spread = float(np.std(table[:, 0]))
    if spread > 1.2 or abs(first[0]) > 40:
        raise ValueError(say("The areas differ too little by haze, or too much by what they show, to measure air."))
    beta = float(np.exp(first[0]))
    visibility = -np.log(CONTRAST_THRESHOLD) / beta
    # things that are alike are not the same: how far their contrasts differ tells how far the ratio of two may be off
    unlike = float(np.sqrt(CONTENT * np.mean([_contrast_variance(part.pixels) for part in parts])))
    unlike *= np.sqrt(2 if len(parts) == 2 else 1) / max(beta * float(np.ptp(distances)), 1e-6)
    reach = max(NINE_IN_TEN * float(np.hypot(spread, unlike)), 0.03)
    if reach > MOST_REACH:
        raise ValueError(say("The areas differ too little by haze, or too much by what they show, to measure air."))
    sd = table[:, 2:5].std(axis=0)
    shares = tuple(zip(distances.tolist(), _shares_seen(quantiles, distances, first)))
    return AirFit(
        float(visibility), (float(visibility * np.exp(-reach)), float(visibility * np.exp(reach))),
        (float(first[2]), float(first[3]), float(first[4])), (float(sd[0]), float(sd[1]), float(sd[2])),
        float(first[1]), shares,
    )  # fmt: skip


def _quantiles(pixels: NDArray) -> NDArray[np.float64]:
    """(quantiles, 3)."""
    return np.asarray(np.percentile(np.asarray(pixels, float), QUANTILES, axis=0))


def _wobble(pixels: NDArray, count: int = 16) -> NDArray[np.float64]:
    """How far the quantiles of a part go by what it happens to show: from its blocks. (quantiles, 3)."""
    rng = np.random.default_rng(1)
    blocks = np.array_split(np.asarray(pixels, float), count)
    draws = [_quantiles(np.concatenate([blocks[k] for k in rng.integers(0, count, count)])) for _ in range(24)]
    own = np.std(draws, axis=0)
    return np.asarray(np.maximum(own, ALIKE * 0.2 * np.ptp(_quantiles(pixels), axis=0)[None] + 1e-5))


def _contrast_variance(pixels: NDArray, count: int = 8) -> float:
    """Variance of the logarithm of a part's contrast from strip to strip."""
    luma = np.asarray(pixels, float).mean(axis=1)
    spreads = [np.log(np.ptp(np.percentile(strip, [5, 95])) + 1e-6) for strip in np.array_split(luma, count)]
    return float(np.var(spreads)) + LEAST_UNLIKE**2


def _shares_seen(quantiles: NDArray, distances: NDArray, fit: NDArray) -> list[float]:
    """The share of own green light of each part by its contrast against that of what all of them show."""
    waves = np.log(np.array(WAVES_NM) / EYE_NM)
    t = np.exp(-np.exp(fit[0] - fit[1] * waves)[None, :] * distances[:, None])[:, None, :]
    own = ((quantiles - fit[2:5] * (1 - t)) / t).mean(axis=0)[:, 1]
    spread = own - own.mean()
    return [float((part[:, 1] * spread).sum() / max((spread**2).sum(), 1e-12)) for part in quantiles]


def _fitted(quantiles: NDArray, wobble: NDArray, distances: NDArray, begin: NDArray | None) -> NDArray[np.float64]:
    """log β, exponent, airlight: with the own colours solved for at each step, since they are linear."""
    from scipy.optimize import least_squares  # slow to import

    waves = np.log(np.array(WAVES_NM) / EYE_NM)
    weights = 1 / wobble

    def shares(p: NDArray) -> NDArray:
        return np.asarray(np.exp(-np.exp(p[0] - p[1] * waves)[None, :] * distances[:, None]))  # (parts, 3)

    def off(p: NDArray) -> NDArray:
        t = shares(p)[:, None, :]
        rest = quantiles - p[2:5] * (1 - t)
        # of what all air hides nothing is seen
        own = (weights**2 * t * rest).sum(axis=0) / np.maximum((weights**2 * t * t).sum(axis=0), 1e-30)
        own = np.maximum(own, 0)
        miss = (rest - t * own) * weights
        return np.concatenate([miss.ravel(), [(p[1] - USUAL_EXPONENT) / EXPONENT_SPREAD]])

    far = quantiles[np.argmax(distances)]
    starts = (
        [begin]
        if begin is not None
        else [
            np.array([np.log(1 / reach), USUAL_EXPONENT, *(far[3] * lift)])
            for reach in (distances.max() * 3, distances.max(), distances.max() / 3)
            for lift in (1.1, 1.8)
        ]
    )
    low = [np.log(3e-7), -0.5, 0, 0, 0]
    high = [np.log(3.0), 2.5, 20, 20, 20]
    best = None
    for start in starts:
        found = least_squares(off, np.clip(start, low, high), bounds=(low, high), loss="soft_l1", max_nfev=80)
        if best is None or found.cost < best.cost:
            best = found
    assert best is not None
    return np.asarray(best.x)


def guess_air(picture: Array, mask: NDArray | None, distance_m: float | None) -> AirFit:
    """Airlight, and the visibility where a distance is known (else NaN), by the dark channel: a start, no measurement.

    Parameters
    ----------
    picture : (h, w, 3) float32, scene-linear: all of the plate. mask : the part that lies at the distance.

    Raises
    ------
    ValueError : the part shows no haze.
    """
    size = max(3, round(min(picture.shape[:2]) * 0.012) | 1)
    dark = cv2.erode(np.ascontiguousarray(picture.min(axis=2)), np.ones((size, size), np.uint8))
    brightest = dark >= np.quantile(dark, 0.999)
    airlight = np.maximum(picture[brightest].mean(axis=0), 1e-3)
    relative = cv2.erode(np.ascontiguousarray((picture / airlight).min(axis=2)), np.ones((size, size), np.uint8))
    inside = relative[mask] if mask is not None and mask.any() else relative.ravel()
    share = 1 - KEEPS_HAZE * float(np.quantile(inside, 0.25))
    if not LEAST_GUESSED < share < 0.995:
        raise ValueError(say("No haze is seen there, or nothing but haze."))
    visibility = np.nan if distance_m is None else float(np.log(CONTRAST_THRESHOLD) / np.log(share) * distance_m)
    r, g, b = (float(v) for v in airlight)
    return AirFit(
        float(visibility), (visibility / 3, visibility * 3), (r, g, b), (r / 3, g / 3, b / 3), 0.0,
        () if distance_m is None else ((distance_m, share),), True,
    )  # fmt: skip
