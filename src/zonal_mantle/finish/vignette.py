"""Light that falls off toward the corners: how it is laid on, and how much of it a plate has by itself.

References
----------
D. B. Goldman & J.-H. Chen, Vignette and exposure calibration and compensation, ICCV 2005: one scene point seen at
several distances from the middle tells the falloff without knowing the scene (the model here is an even polynomial in
the logarithm, and the points come from a lock). From memory.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import fast_kernel, fast_part
from ..media.powers import exp2_of

Array = NDArray[np.float32]
TOGETHER, BEYOND = 5.0, 0.03  # of neighbouring points, and of the falloff itself at a corner that is not seen
LEAST_GIVE = 0.02  # stops: no plate is told better
LEAST_SPREAD = 0.04  # of r², by which places must move about the middle for the falloff to be told


class VignetteNumbers(NamedTuple):
    """Centre in shares of the frame; width against height of the frame as it is seen; by the frame or round; stops at
    the corner; where it starts and where it is whole, 1 is the corner."""

    centre: tuple[float, float]
    aspect: float
    by_frame: bool
    stops: float
    start: float
    end: float


@fast_part
def _gain(x, y, by_frame, stops, start, per_span):  # type: ignore[no-untyped-def]
    far = max(abs(x), abs(y)) if by_frame else np.sqrt(x * x + y * y)
    t = min(max((far - start) * per_span, np.float32(0)), np.float32(1))
    return exp2_of(stops * (t * t * (np.float32(3) - np.float32(2) * t)))


@fast_kernel
def _vignette_rows(y0, y1, picture, ax, bx, ay, by, by_frame, stops, start, per_span, out):  # type: ignore[no-untyped-def]
    width = picture.shape[1]
    gains = np.empty(width, np.float32)
    for j in range(y0, y1):
        y = ay * np.float32(j) + by
        for i in range(np.uintp(width)):
            gains[i] = _gain(ax * np.float32(i) + bx, y, by_frame, stops, start, per_span)
        for i in range(width):
            for c in range(3):
                out[j, i, c] = picture[j, i, c] * gains[i]
            out[j, i, 3] = picture[j, i, 3]


def vignetted(picture: Array, numbers: VignetteNumbers, out: Array | None = None) -> Array:
    """A picture darker (or brighter) toward its corners. (h, w, 4) float32, scene-linear; a new one, or in `out`, which
    may be the picture itself."""
    height, width = picture.shape[:2]
    cx, cy = numbers.centre
    # distances in units of the half frame (by the frame), or of the half diagonal as it is seen (round)
    half_x, half_y = (0.5, 0.5) if numbers.by_frame else _half_diagonal(numbers.aspect)
    span = max(numbers.end - numbers.start, 1e-3)
    places = (1 / (width * half_x), (0.5 / width - cx) / half_x, 1 / (height * half_y), (0.5 / height - cy) / half_y)
    out = np.empty_like(picture) if out is None else out
    one = np.float32
    run_bands(
        _vignette_rows, height, picture, *(one(v) for v in places), numbers.by_frame,
        one(numbers.stops), one(numbers.start), one(1 / span), out,
    )  # fmt: skip
    return out


def _half_diagonal(aspect: float) -> tuple[float, float]:
    """The half diagonal in shares of the width and of the height."""
    half = 0.5 * np.hypot(aspect, 1.0)
    return half / aspect, half


class Falloff(NamedTuple):
    """stops : of the corner against the middle, below 0 darker. give : its standard deviation. pairs : places it was
    told from."""

    stops: float
    give: float
    pairs: int


def falloff_of(here: NDArray, there: NDArray, change: NDArray, group: NDArray) -> Falloff | None:
    """How much a plate's own corners fall off, from points that are seen in several places.

    Parameters
    ----------
    here, there : (n) squared distance from the middle in half diagonals, on one frame and on another. change : (n) log₂
        of the light here against there. group : (n) whole numbers; of which pair of frames, whose exposures may differ.

    Returns
    -------
    None where the points do not move enough about the middle.
    """
    if len(change) < 200 or float(np.std(here - there)) < LEAST_SPREAD:
        return None
    groups, which = np.unique(group, return_inverse=True)
    basis = np.zeros((len(change), 2 + len(groups)))
    basis[:, 0], basis[:, 1] = here - there, here**2 - there**2
    basis[np.arange(len(change)), 2 + which] = 1
    weight = np.ones(len(change))
    for _ in range(12):  # reweighted by Tukey's biweight about the median spread
        scaled = basis * np.sqrt(weight)[:, None]
        # the fourth power is held back a little: over a narrow range of places the two cannot be told apart
        normal = scaled.T @ scaled + np.diag([0.0, 0.0003 * len(change), *([1e-9] * len(groups))])
        found = np.linalg.solve(normal, scaled.T @ (np.sqrt(weight) * change))
        rest = change - basis @ found
        spread = max(1.4826 * float(np.median(np.abs(rest))), 1e-4)
        weight = np.clip(1 - (rest / (4.7 * spread)) ** 2, 0, 1) ** 2
    corner = np.zeros(2 + len(groups))
    corner[:2] = 1
    stops = float(found[0] + found[1])
    # points of one neighbourhood err together, as many as lie within the smoothing; and the corner itself is mostly
    # not seen: the polynomial goes on to there
    give = TOGETHER * spread * float(np.sqrt(corner @ np.linalg.inv(normal) @ corner))
    return Falloff(stops, float(np.hypot(np.hypot(give, BEYOND * stops), LEAST_GIVE)), len(change))
