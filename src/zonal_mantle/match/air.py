"""Air: the haze between lens and zone."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

CONTRAST_THRESHOLD = 0.05  # meteorological optical range, WMO-No. 8


def extinction(visibility_m: float) -> float:
    """β in 1/m for a meteorological visibility: β = −ln 0.05 / V (WMO-No. 8, Volume I, chapter 9)."""
    return -math.log(CONTRAST_THRESHOLD) / visibility_m


def transmittance(distance_m: float | None, visibility_m: float) -> float:
    """Share of a zone's own light that reaches the lens, T = exp(−βd) (Koschmieder 1924).

    A zone at infinity (None) is the sky itself: its painting already holds its air, so T is 1.
    """
    return 1.0 if distance_m is None else math.exp(-extinction(visibility_m) * distance_m)


def distance_for(share: float, visibility_m: float) -> float:
    """The distance at which a share of the light is left."""
    return -math.log(share) / extinction(visibility_m)


def visibility_for(share: float, distance_m: float) -> float:
    """The visibility at which a share of the light is left at a distance."""
    return math.log(CONTRAST_THRESHOLD) / math.log(share) * distance_m


def add_air(pixels: NDArray, alpha: NDArray, share: float, airlight: tuple[float, float, float]) -> NDArray:
    """C = J·T + A·(1 − T), on premultiplied colour. pixels (…, 3), alpha (…)."""
    return np.asarray(pixels * share + np.asarray(alpha)[..., None] * np.array(airlight) * (1 - share))
