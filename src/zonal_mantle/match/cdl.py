"""Slope, offset, power, saturation: the ASC CDL, on scene-linear colour, as one stage of a tone."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..shot.zone import Match
from .tone import REC709_LUMA, Stage, Tone, toned

Array = NDArray[np.float32]


def cdl(pixels: Array, slope: NDArray, offset: NDArray, power: NDArray, saturation: float) -> NDArray:
    """The grade by formula, for scene-linear colour: nothing is clamped above, only below before the power.

    Parameters
    ----------
    pixels : (…, 3), not premultiplied.

    References
    ----------
    ASC Color Decision List Transfer Functions and Interchange Syntax 1.2: out = (in · slope + offset) ^ power, then
    out = luma + saturation · (out − luma), with Rec. 709's weights. The clamp at 1 is left out, as for scene-linear
    pictures.
    """
    base = np.asarray(pixels, np.float64) * slope + offset
    graded = np.where(np.asarray(power) == 1, base, np.maximum(base, 0) ** power)
    luma = graded @ np.array(REC709_LUMA)
    return np.asarray(luma[..., None] + saturation * (graded - luma[..., None]))


def cdl_stage(match: Match, frame: float) -> Stage:
    """A zone's ASC CDL on a frame."""
    s, o, p = (tuple(part.at(frame) for part in triple) for triple in (match.slope, match.offset, match.power))
    matrix = (s[0], 0.0, 0.0, o[0], 0.0, s[1], 0.0, o[1], 0.0, 0.0, s[2], o[2])
    return Stage(matrix=matrix, powers=None if p == (1, 1, 1) else p, saturation=match.saturation.at(frame))  # type: ignore[arg-type]


def tone_of(match: Match, frame: float) -> Tone:
    """All that a zone's match does to colour on a frame, but for the air."""
    return Tone((cdl_stage(match, frame),)) if match.on else Tone()


def grade(pixels: Array, match: Match, frame: float = 0) -> Array:
    """A picture graded, fast. (h, w, 3) float32 in and out, not premultiplied."""
    return toned(pixels, tone_of(match, frame))
