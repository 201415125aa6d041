"""Air: the haze between lens and zone, and mist on the ground."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

CONTRAST_THRESHOLD = 0.05  # meteorological optical range, WMO-No. 8
WAVES_NM = (611.4, 549.1, 464.2)  # dominant wavelengths of Rec. 709's primaries under D65
EYE_NM = 550.0  # that a visibility is meant for
Triple = tuple[float, float, float]


def extinction(visibility_m: float) -> float:
    """β in 1/m for a meteorological visibility: β = −ln 0.05 / V (WMO-No. 8, Volume I, chapter 9)."""
    return -math.log(CONTRAST_THRESHOLD) / visibility_m


def colour_of_extinction(exponent: float) -> Triple:
    """β of red, green and blue against that at 550 nm: (λ / 550)^−exponent.

    References
    ----------
    A. Ångström, On the atmospheric transmission of sun radiation and on dust in the air, Geografiska Annaler 11 (1929).
    """
    r, g, b = ((wave / EYE_NM) ** -exponent for wave in WAVES_NM)
    return r, g, b


def transmittance(distance_m: float | None, visibility_m: float) -> float:
    """Share of a zone's own light that reaches the lens, T = exp(−βd) (Koschmieder 1924).

    A zone at infinity (None) is the sky itself: its painting already holds its air, so T is 1.
    """
    return 1.0 if distance_m is None else math.exp(-extinction(visibility_m) * distance_m)


def transmittances(distance_m: float | None, visibility_m: float, exponent: float = 0.0) -> Triple:
    """`transmittance` of red, green and blue."""
    if distance_m is None:
        return 1.0, 1.0, 1.0
    r, g, b = (math.exp(-extinction(visibility_m) * distance_m * k) for k in colour_of_extinction(exponent))
    return r, g, b


def distance_for(share: float, visibility_m: float) -> float:
    """The distance at which a share of the light is left."""
    return -math.log(share) / extinction(visibility_m)


def visibility_for(share: float, distance_m: float) -> float:
    """The visibility at which a share of the light is left at a distance."""
    return math.log(CONTRAST_THRESHOLD) / math.log(share) * distance_m


def add_air(pixels: NDArray, alpha: NDArray, share: float, airlight: tuple[float, float, float]) -> NDArray:
    """C = J·T + A·(1 − T), on premultiplied colour. pixels (…, 3), alpha (…)."""
    return np.asarray(pixels * share + np.asarray(alpha)[..., None] * np.array(airlight) * (1 - share))


def mist_depth(
    distance_m: NDArray, up_m: NDArray, visibility_m: float, height_m: float, lens_m: float
) -> NDArray[np.float64]:
    """Optical depth through air whose extinction thins with height, β(h) = β₀ exp(−h / H), to a place.

    Parameters
    ----------
    distance_m : along the ground to the place. up_m : how far it lies above the lens (below: negative). visibility_m :
        at the ground. height_m : H. lens_m : the lens's height above the ground.

    References
    ----------
    The integral of the exponential along a straight ray: β₀ d · H (e^(−h₀/H) − e^(−h₁/H)) / (h₁ − h₀).
    """
    d, up = np.asarray(distance_m, float), np.asarray(up_m, float)
    up = np.maximum(up, -lens_m)  # the ground itself
    ratio = up / height_m
    small = np.abs(ratio) < 1e-6
    share = np.where(small, 1 - ratio / 2, -np.expm1(-np.clip(ratio, -60, 60)) / np.where(small, 1, ratio))
    return np.asarray(extinction(visibility_m) * np.hypot(d, up) * math.exp(-lens_m / height_m) * share)
