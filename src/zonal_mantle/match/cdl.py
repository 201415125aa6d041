"""Slope, offset, power, saturation: the ASC CDL, on scene-linear colour."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.powers import FAST, power_of
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


def grade_numbers(match: Match, frame: float) -> tuple[tuple[np.float32, ...], bool, bool]:
    """A zone's grade on a frame: its ten numbers, whether it does anything, whether a power is among it."""
    numbers = tuple(part.at(frame) for triple in (match.slope, match.offset, match.power) for part in triple)
    saturation = match.saturation.at(frame)
    powered = numbers[6:] != (1, 1, 1)
    active = match.on and (powered or numbers[:6] != (1, 1, 1, 0, 0, 0) or saturation != 1)
    return tuple(np.float32(number) for number in (*numbers, saturation)), active, powered


@numba.njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy")
def grade_row(row, grade, powered):  # type: ignore[no-untyped-def]
    """Grades flat premultiplied RGBA in place."""
    slope_r, slope_g, slope_b, offset_r, offset_g, offset_b, power_r, power_g, power_b, saturation = grade
    least, at = np.float32(1e-6), np.uintp
    for x in range(at(row.shape[0] // 4)):
        k = at(4) * x
        a = max(row[k + at(3)], np.float32(0))
        r = row[k] * slope_r + a * offset_r
        g = row[k + at(1)] * slope_g + a * offset_g
        b = row[k + at(2)] * slope_b + a * offset_b
        if powered:
            whole = max(a, least)
            r = power_of(r / whole, power_r) * a
            g = power_of(g / whole, power_g) * a
            b = power_of(b / whole, power_b) * a
        luma = np.float32(0.2126) * r + np.float32(0.7152) * g + np.float32(0.0722) * b
        row[k] = luma + saturation * (r - luma)
        row[k + at(1)] = luma + saturation * (g - luma)
        row[k + at(2)] = luma + saturation * (b - luma)


def grade(pixels: Array, match: Match, frame: float = 0) -> Array:
    """A picture graded, fast. (h, w, 3) float32 in and out, not premultiplied."""
    numbers, _, powered = grade_numbers(match, frame)
    out = np.ones((*pixels.shape[:2], 4), np.float32)
    out[..., :3] = pixels
    run_bands(lambda y0, y1: grade_row(out[y0:y1].reshape(-1), numbers, powered), out.shape[0])
    return np.ascontiguousarray(out[..., :3])
