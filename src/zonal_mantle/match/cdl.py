"""Slope, offset, power, saturation: the ASC CDL, on scene-linear colour."""

from __future__ import annotations

from functools import lru_cache

import numba
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.curves import bake, lookup_row
from ..shot.zone import Match

Array = NDArray[np.float32]
LUMA = (0.2126, 0.7152, 0.0722)  # the CDL's own weights, those of Rec. 709


def cdl(pixels: Array, slope: NDArray, offset: NDArray, power: NDArray, saturation: float) -> NDArray:
    """The grade by formula, for scene-linear colour: nothing is clamped above, only below before the power.

    Parameters
    ----------
    pixels : (…, 3), not premultiplied.

    References
    ----------
    ASC Color Decision List Transfer Functions and Interchange Syntax 1.2: out = (in · slope + offset) ^ power, then
    out = luma + saturation · (out − luma). The clamp at 1 is left out, as for scene-linear pictures.
    """
    base = np.asarray(pixels, np.float64) * slope + offset
    graded = np.where(np.asarray(power) == 1, base, np.maximum(base, 0) ** power)
    luma = graded @ np.array(LUMA)
    return np.asarray(luma[..., None] + saturation * (graded - luma[..., None]))


@lru_cache(maxsize=64)
def _tables(numbers: tuple[float, ...]) -> Array:
    rows = []
    for c in range(3):
        slope, offset, power = numbers[c], numbers[3 + c], numbers[6 + c]

        def function(x: NDArray, slope: float = slope, offset: float = offset, power: float = power) -> NDArray:
            base = x * slope + offset
            return base if power == 1 else np.maximum(base, 0) ** power

        rows.append(bake(function))
    return np.stack(rows)


def grade_tables(match: Match, frame: float) -> tuple[Array, float, bool]:
    """A zone's grade on a frame as (3, n) baked curves, its saturation, and whether it does anything."""
    numbers = tuple(part.at(frame) for triple in (match.slope, match.offset, match.power) for part in triple)
    saturation = match.saturation.at(frame)
    active = match.on and (numbers != (1, 1, 1, 0, 0, 0, 1, 1, 1) or saturation != 1)
    return _tables(numbers), float(saturation), active


@numba.njit(inline="always")
def grade_colour(tables, saturation, r, g, b):  # type: ignore[no-untyped-def]
    """Grades one unpremultiplied colour."""
    r, g, b = lookup_row(tables, 0, r), lookup_row(tables, 1, g), lookup_row(tables, 2, b)
    luma = np.float32(0.2126) * r + np.float32(0.7152) * g + np.float32(0.0722) * b
    return luma + saturation * (r - luma), luma + saturation * (g - luma), luma + saturation * (b - luma)


@numba.njit(cache=True, nogil=True)
def _rows(y0, y1, pixels, tables, saturation, out):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(pixels.shape[1]):
            r, g, b = grade_colour(tables, saturation, pixels[y, x, 0], pixels[y, x, 1], pixels[y, x, 2])
            out[y, x, 0], out[y, x, 1], out[y, x, 2] = r, g, b


def grade(pixels: Array, match: Match, frame: float = 0) -> Array:
    """A picture graded, fast. (h, w, 3) float32 in and out, not premultiplied."""
    tables, saturation, _ = grade_tables(match, frame)
    out = np.empty_like(pixels)
    run_bands(_rows, pixels.shape[0], pixels, tables, np.float32(saturation), out)
    return out
