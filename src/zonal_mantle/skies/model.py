"""A sky by formula: how bright and of what colour it is in every direction.

Luminance: the CIE Standard General Sky (ISO 15469:2004 / CIE S 011/E:2003): fifteen kinds by gradation and scattering.
Colour: the chromaticity of Preetham, Shirley & Smits 1999, *A Practical Analytic Model for Daylight*, appendix A.2,
whose coefficients are given here from memory.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Values = NDArray[np.float64]

# a, b: gradation; c, d, e: scattering. Kinds 1 to 15 of ISO 15469:2004, table 1
KINDS: dict[int, tuple[float, float, float, float, float]] = {
    1: (4.0, -0.70, 0, -1.0, 0.0), 2: (4.0, -0.70, 2, -1.5, 0.15), 3: (1.1, -0.8, 0, -1.0, 0.0),
    4: (1.1, -0.8, 2, -1.5, 0.15), 5: (0.0, -1.0, 0, -1.0, 0.0), 6: (0.0, -1.0, 2, -1.5, 0.15),
    7: (0.0, -1.0, 5, -2.5, 0.30), 8: (0.0, -1.0, 10, -3.0, 0.45), 9: (-1.0, -0.55, 2, -1.5, 0.15),
    10: (-1.0, -0.55, 5, -2.5, 0.30), 11: (-1.0, -0.55, 10, -3.0, 0.45), 12: (-1.0, -0.32, 10, -3.0, 0.45),
    13: (-1.0, -0.32, 16, -3.0, 0.30), 14: (-1.0, -0.15, 16, -3.0, 0.30), 15: (-1.0, -0.15, 24, -2.8, 0.15),
}  # fmt: skip
OVERCAST, CLEAR = 1, 12
_XYZ_TO_RGB = np.array(
    [[3.2404542, -1.5371385, -0.4985314], [-0.9692660, 1.8760108, 0.0415560], [0.0556434, -0.2040259, 1.0572252]]
)  # IEC 61966-2-1


def luminance(rays: NDArray, sun: NDArray, kind: int) -> Values:
    """Luminance against that of the zenith.

    Parameters
    ----------
    rays : (..., 3) unit directions, y down. Below the horizon they are taken to lie on it.
    sun : (3,) unit direction toward the sun, above the horizon.
    kind : 1…15.

    References
    ----------
    ISO 15469:2004, equations 1 to 6.
    """
    a, b, c, d, e = KINDS[kind]

    def gradation(high: NDArray) -> Values:
        return np.asarray(1 + a * np.exp(b / np.maximum(high, 1e-3)))

    def scattering(angle: NDArray) -> Values:
        return np.asarray(1 + c * (np.exp(d * angle) - np.exp(d * np.pi / 2)) + e * np.cos(angle) ** 2)

    high = np.maximum(-rays[..., 1], 0.0)
    angle = np.arccos(np.clip(rays @ sun, -1, 1))
    zenith_angle = np.arccos(np.clip(-sun[1], -1, 1))
    return np.asarray(gradation(high) * scattering(angle) / (gradation(np.array(1.0)) * scattering(zenith_angle)))


def chromaticity(rays: NDArray, sun: NDArray, turbidity: float) -> tuple[Values, Values]:
    """CIE x and y of a clear sky in directions, see `luminance`. turbidity : 2 clear … 6 hazy."""
    t = turbidity
    across = (-0.0193 * t - 0.2592, -0.0665 * t + 0.0008, -0.0004 * t + 0.2125, -0.0641 * t - 0.8989,
              -0.0033 * t + 0.0452)  # fmt: skip
    up = (-0.0167 * t - 0.2608, -0.0950 * t + 0.0092, -0.0079 * t + 0.2102, -0.0441 * t - 1.6537,
          -0.0109 * t + 0.0529)  # fmt: skip
    s = float(np.arccos(np.clip(-sun[1], -1, 1)))
    powers, ts = np.array([s**3, s**2, s, 1.0]), np.array([t * t, t, 1.0])
    zenith_x = ts @ np.array(
        [[0.00166, -0.00375, 0.00209, 0], [-0.02903, 0.06377, -0.03202, 0.00394], [0.11693, -0.21196, 0.06052, 0.25886]]
    ) @ powers  # fmt: skip
    zenith_y = ts @ np.array(
        [[0.00275, -0.00610, 0.00317, 0], [-0.04214, 0.08970, -0.04153, 0.00516], [0.15346, -0.26756, 0.06670, 0.26688]]
    ) @ powers  # fmt: skip
    high = np.maximum(-rays[..., 1], 0.01)
    angle = np.arccos(np.clip(rays @ sun, -1, 1))

    def perez(k: tuple[float, ...], cosine: NDArray, g: NDArray) -> Values:
        a, b, c, d, e = k
        return np.asarray((1 + a * np.exp(b / cosine)) * (1 + c * np.exp(d * g) + e * np.cos(g) ** 2))

    one, zenith_angle = np.array(1.0), np.array(s)
    return (
        np.asarray(zenith_x * perez(across, high, angle) / perez(across, one, zenith_angle)),
        np.asarray(zenith_y * perez(up, high, angle) / perez(up, one, zenith_angle)),
    )


def rgb(x: NDArray, y: NDArray, light: NDArray) -> Values:
    """Chromaticity and luminance as scene-linear Rec. 709. (..., 3), no light below 0."""
    y = np.maximum(y, 1e-3)
    xyz = np.stack([x / y * light, light, (1 - x - y) / y * light], axis=-1)
    return np.asarray(np.maximum(xyz @ _XYZ_TO_RGB.T, 0))


def sun_colour(height_deg: float) -> Values:
    """The sun's light through the air, of luminance 1: redder the lower it stands.

    Air mass: Kasten & Young 1989; optical depths of clean air by Rayleigh scattering at 610, 550 and 465 nm and of
    haze by Ångström's formula with β = 0.06, α = 1.3.
    """
    height = max(height_deg, 0.0)
    mass = 1 / (np.sin(np.radians(height)) + 0.50572 * (height + 6.07995) ** -1.6364)
    wave = np.array([0.61, 0.55, 0.465])
    depth = 0.008735 * wave**-4.08 + 0.06 * wave**-1.3
    light = np.exp(-depth * mass)
    return np.asarray(light / (light @ [0.2126, 0.7152, 0.0722]))


def toward(bearing_deg: float, height_deg: float) -> Values:
    """Unit direction of a bearing to the right of forward and a height above the horizon (x right, y down, z
    forward)."""
    a, h = np.radians(bearing_deg), np.radians(height_deg)
    return np.array([np.cos(h) * np.sin(a), -np.sin(h), np.cos(h) * np.cos(a)])
