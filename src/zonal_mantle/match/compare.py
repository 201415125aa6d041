"""How far apart two sets of colours are: in stops and in ΔE, in their shadows, middle and lights."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..media.curves import srgb_encode
from .tone import REC709_LUMA
from .white import TO_XYZ

PERCENTILES = (2.0, 25.0, 50.0, 75.0, 98.0)
WHITE = np.array([0.95047, 1.0, 1.08883])  # D65 (IEC 61966-2-1)
DARKEST = 1e-3  # scene-linear: below it a stop says nothing


class Comparison(NamedTuple):
    """A zone against its aim. stops : how much brighter the zone is at each of `PERCENTILES`, in stops. delta_e :
    CIEDE2000 at the display between shadows (up to the first quartile), middle and lights (from the third on) of both.
    zone, aim : mean colours of these three, scene-linear. zone_light, aim_light : luma at the percentiles."""

    stops: tuple[float, ...]
    delta_e: tuple[float, float, float]
    zone: tuple[tuple[float, ...], ...]
    aim: tuple[tuple[float, ...], ...]
    zone_light: tuple[float, ...]
    aim_light: tuple[float, ...]

    @property
    def worst(self) -> float:
        """The largest difference."""
        return max(self.delta_e)


def lab(colours: NDArray) -> NDArray[np.float64]:
    """CIE 1976 L*a*b* (CIE 15:2018) of scene-linear Rec. 709 as an sRGB display shows it: held to 0…1. (…, 3)."""
    t = np.clip(colours, 0, 1) @ TO_XYZ.T / WHITE
    f = np.where(t > (6 / 29) ** 3, np.cbrt(t), t / (3 * (6 / 29) ** 2) + 4 / 29)
    return np.stack([116 * f[..., 1] - 16, 500 * (f[..., 0] - f[..., 1]), 200 * (f[..., 1] - f[..., 2])], axis=-1)


def delta_e_2000(one: NDArray, two: NDArray) -> NDArray[np.float64]:
    """CIEDE2000 between L*a*b* colours, (…, 3).

    References
    ----------
    G. Sharma, W. Wu & E. N. Dalal, The CIEDE2000 color-difference formula: implementation notes, supplementary test
    data, and mathematical observations, Color Research & Application 30 (2005).

    Examples
    --------
    >>> round(float(delta_e_2000(np.array([50.0, 2.6772, -79.7751]), np.array([50.0, 0.0, -82.7485]))), 4)
    2.0425
    """
    l1, a1, b1 = np.moveaxis(np.asarray(one, float), -1, 0)
    l2, a2, b2 = np.moveaxis(np.asarray(two, float), -1, 0)
    chroma = (np.hypot(a1, b1) + np.hypot(a2, b2)) / 2
    g = 0.5 * (1 - np.sqrt(chroma**7 / (chroma**7 + 25.0**7)))
    a1, a2 = (1 + g) * a1, (1 + g) * a2
    c1, c2 = np.hypot(a1, b1), np.hypot(a2, b2)
    h1, h2 = np.degrees(np.arctan2(b1, a1)) % 360, np.degrees(np.arctan2(b2, a2)) % 360
    grey = c1 * c2 == 0
    turn = np.where(grey, 0, (h2 - h1 + 180) % 360 - 180)
    turn = np.where(np.isclose(np.abs(h2 - h1), 180) & ~grey, h2 - h1, turn)
    d_l, d_c, d_h = l2 - l1, c2 - c1, 2 * np.sqrt(c1 * c2) * np.sin(np.radians(turn) / 2)
    l_mean, c_mean = (l1 + l2) / 2, (c1 + c2) / 2
    apart = np.abs(h1 - h2)
    h_mean = np.where(apart <= 180, (h1 + h2) / 2, np.where(h1 + h2 < 360, (h1 + h2 + 360) / 2, (h1 + h2 - 360) / 2))
    h_mean = np.where(grey, h1 + h2, h_mean)
    t = (
        1 - 0.17 * np.cos(np.radians(h_mean - 30)) + 0.24 * np.cos(np.radians(2 * h_mean))
        + 0.32 * np.cos(np.radians(3 * h_mean + 6)) - 0.20 * np.cos(np.radians(4 * h_mean - 63))
    )  # fmt: skip
    s_l = 1 + 0.015 * (l_mean - 50) ** 2 / np.sqrt(20 + (l_mean - 50) ** 2)
    s_c, s_h = 1 + 0.045 * c_mean, 1 + 0.015 * c_mean * t
    r_c = 2 * np.sqrt(c_mean**7 / (c_mean**7 + 25.0**7))
    r_t = -np.sin(np.radians(60 * np.exp(-(((h_mean - 275) / 25) ** 2)))) * r_c
    squares = (d_l / s_l) ** 2 + (d_c / s_c) ** 2 + (d_h / s_h) ** 2
    return np.asarray(np.sqrt(squares + r_t * (d_c / s_c) * (d_h / s_h)))


def compare(zone: NDArray, aim: NDArray) -> Comparison:
    """A zone's colours against its aim's, scene-linear (n, 3) each."""
    luma = np.array(REC709_LUMA)
    by = [np.percentile(np.asarray(pixels @ luma), PERCENTILES) for pixels in (zone, aim)]
    stops = np.log2(np.maximum(by[0], DARKEST) / np.maximum(by[1], DARKEST))
    parts = [_thirds(pixels) for pixels in (zone, aim)]
    away = delta_e_2000(lab(parts[0]), lab(parts[1]))
    zone_colours, aim_colours = (tuple(tuple(float(v) for v in row) for row in part) for part in parts)
    lights = (tuple(float(v) for v in part) for part in by)
    worst = (float(away[0]), float(away[1]), float(away[2]))
    return Comparison(tuple(float(s) for s in stops), worst, zone_colours, aim_colours, *lights)


def _thirds(pixels: NDArray) -> NDArray[np.float64]:
    """Mean colours of shadows, middle and lights, at the display. (3, 3) scene-linear."""
    luma = pixels @ np.array(REC709_LUMA)
    low, high = np.percentile(luma, [25, 75])
    masks = (luma <= low, (luma >= low) & (luma <= high), luma >= high)
    codes = [srgb_encode(np.clip(pixels[mask], 0, 1)).mean(axis=0) for mask in masks]
    mean = np.array(codes)
    return np.where(mean <= 0.04045, mean / 12.92, ((mean + 0.055) / 1.055) ** 2.4)
