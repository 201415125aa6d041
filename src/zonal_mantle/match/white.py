"""The white of a light, in kelvin and Duv, and how colours look under another."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..shot.match import DAYLIGHT_DUV, DAYLIGHT_K

Matrix = NDArray[np.float64]
LOWEST_K, HIGHEST_K = 1000.0, 15000.0  # that Krystek's formula holds for
MOST_DUV = 0.05  # farther from the locus a light is no white any more (ANSI C78.377 ends far below)
TO_XYZ = np.array(
    [[0.4124564, 0.3575761, 0.1804375], [0.2126729, 0.7151522, 0.0721750], [0.0193339, 0.1191920, 0.9503041]]
)  # of Rec. 709 primaries and D65 (IEC 61966-2-1)
BRADFORD = np.array([[0.8951, 0.2664, -0.1614], [-0.7502, 1.7135, 0.0367], [0.0389, -0.0685, 1.0296]])  # Lam 1985


def planckian_uv(kelvin: float) -> NDArray[np.float64]:
    """Where a black body lies on the CIE 1960 chart.

    References
    ----------
    M. Krystek, An algorithm to calculate correlated colour temperature, Color Research & Application 10 (1985): within
    8e-5 from 1000 K to 15000 K.
    """
    t = float(np.clip(kelvin, LOWEST_K, HIGHEST_K))
    u = (0.860117757 + 1.54118254e-4 * t + 1.28641212e-7 * t * t) / (1 + 8.42420235e-4 * t + 7.08145163e-7 * t * t)
    v = (0.317398726 + 4.22806245e-5 * t + 4.20481691e-8 * t * t) / (1 - 2.89741816e-5 * t + 1.61456053e-7 * t * t)
    return np.array([u, v])


def white_xyz(kelvin: float, duv: float) -> NDArray[np.float64]:
    """CIE XYZ, Y = 1, of a white by its temperature and how far it lies above (greener) the Planckian locus.

    References
    ----------
    ANSI C78.377: Duv is the distance from the locus on the CIE 1960 (u, v) chart, positive above it.
    """
    kelvin, duv = float(np.clip(kelvin, LOWEST_K * 1.002, HIGHEST_K)), float(np.clip(duv, -MOST_DUV, MOST_DUV))
    along = planckian_uv(min(kelvin * 1.001, HIGHEST_K)) - planckian_uv(min(kelvin, HIGHEST_K / 1.001) * 0.999)
    along /= np.linalg.norm(along)
    u, v = planckian_uv(kelvin) + duv * np.array([along[1], -along[0]])  # toward more v, across the locus
    x, y = 3 * u / (2 * u - 8 * v + 4), 2 * v / (2 * u - 8 * v + 4)
    return np.array([x / y, 1.0, (1 - x - y) / y])


def adaptation(kelvin: float, duv: float) -> Matrix:
    """(3, 3) for scene-linear Rec. 709 that turns daylight (D65) into light of another white: greys take its colour
    and keep their luminance.

    References
    ----------
    K. M. Lam, Metamerism and colour constancy (Bradford, 1985), linear, as in the ICC's profile specification
    (ICC.1:2022, annex E).

    Examples
    --------
    >>> bool(adaptation(3200, 0.0)[0].sum() > adaptation(3200, 0.0)[2].sum())  # warm
    True
    """
    cones_from = BRADFORD @ white_xyz(DAYLIGHT_K, DAYLIGHT_DUV)
    cones_to = BRADFORD @ white_xyz(kelvin, duv)
    change = np.linalg.inv(BRADFORD) @ np.diag(cones_to / cones_from) @ BRADFORD
    return np.asarray(np.linalg.inv(TO_XYZ) @ change @ TO_XYZ)
