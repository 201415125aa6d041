"""Glow and halation: what is brighter than a level is spread over its surroundings, its light kept.

The spread is a sum of three Gaussians, wider and weaker, as the tails of a lens's and a film's point spread fall off
more slowly than one Gaussian (common practice; the shares are ours).
"""

from __future__ import annotations

from typing import NamedTuple

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.powers import FAST

Array = NDArray[np.float32]
WIDTHS, SHARES = (0.5, 1.0, 2.0), (0.5, 0.3, 0.2)
FINEST_PX = 8.0  # a wider Gaussian is made on a smaller picture, on which it is still as wide as this
BORDER = cv2.BORDER_REFLECT


class GlowNumbers(NamedTuple):
    """Level (scene-linear), then for glow and halation: shares of red, green and blue that are spread, and the standard
    deviation in pixels of the picture."""

    level: float
    glow: tuple[float, float, float]
    radius_px: float
    halation: tuple[float, float, float]
    halation_px: float


@numba.njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy")
def _bright_rows(y0, y1, picture, level, out):  # type: ignore[no-untyped-def]
    """What is over the level, in the colour that it has."""
    for y in range(y0, y1):
        for x in range(picture.shape[1]):
            r, g, b = picture[y, x, 0], picture[y, x, 1], picture[y, x, 2]
            peak = max(max(r, g), max(b, np.float32(1e-6)))
            share = max(peak - level, np.float32(0)) / peak
            out[y, x, 0] = max(r, np.float32(0)) * share
            out[y, x, 1] = max(g, np.float32(0)) * share
            out[y, x, 2] = max(b, np.float32(0)) * share


@numba.njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy")
def _spread_rows(y0, y1, picture, bright, spread, shares, out):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(picture.shape[1]):
            for c in range(3):
                out[y, x, c] += shares[c] * (spread[y, x, c] - bright[y, x, c])


def glowing(picture: Array, numbers: GlowNumbers) -> Array:
    """A picture with glow and halation. (h, w, 4) float32, scene-linear, premultiplied; a new one.

    The sum of each channel stays what it was: at the frame's rim light is thrown back.
    """
    bright = np.empty((*picture.shape[:2], 3), np.float32)
    run_bands(_bright_rows, bright.shape[0], picture, np.float32(numbers.level), bright)
    out = picture.copy()
    parts = ((numbers.glow, numbers.radius_px), (numbers.halation, numbers.halation_px))
    for shares, radius in parts:
        if max(shares) > 0 and radius > 0:
            spread = spread_light(bright, radius)
            run_bands(_spread_rows, out.shape[0], picture, bright, spread, np.array(shares, np.float32), out)
    return out


def spread_light(light: Array, radius_px: float) -> Array:
    """Light spread by three Gaussians about a radius. (h, w, 3) float32; the sum stays what it is."""
    out = np.zeros_like(light)
    for width, share in zip(WIDTHS, SHARES):
        cv2.scaleAdd(_gaussian(light, width * radius_px), share, out, out)
    return out


def _gaussian(light: Array, sigma: float) -> Array:
    """A Gaussian, of a wide one a smaller picture's; the half-pixel ends that are mirrored keep the sum."""
    factor = 1
    while sigma / (2 * factor) >= FINEST_PX and min(light.shape[:2]) >= 16 * factor:
        factor *= 2
    if factor == 1:
        return np.asarray(cv2.GaussianBlur(light, (0, 0), sigma, borderType=BORDER), np.float32)
    height, width = light.shape[:2]
    below, right = -height % factor, -width % factor
    whole = cv2.copyMakeBorder(light, 0, below, 0, right, BORDER) if below or right else light
    small = cv2.resize(whole, (whole.shape[1] // factor, whole.shape[0] // factor), interpolation=cv2.INTER_AREA)
    # shrinking and enlarging blur by themselves: a box of `factor`, and a triangle of twice that
    own = (factor * factor - 1) / 12 + (factor * factor - 1) / 6
    left = np.sqrt(max(sigma * sigma - own, 0.01)) / factor
    small = cv2.GaussianBlur(small, (0, 0), float(left), borderType=BORDER)
    large = cv2.resize(small, (whole.shape[1], whole.shape[0]), interpolation=cv2.INTER_LINEAR)
    return np.asarray(large[:height, :width], np.float32)
