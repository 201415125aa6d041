"""The luma pull: a matte from weighted brightness of the coded feed."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import fast_kernel, fast_part
from ..media.powers import coded_row
from ..shot.matte import LumaPull
from ..words import mark, say

Array = NDArray[np.float32]

_NONE = np.zeros((1, 1), np.float32)

PRESETS: dict[str, tuple[float, float, float]] = {
    "Luma": (0.2126, 0.7152, 0.0722),  # ITU-R BT.709-6, item 3.2
    "Red": (1.0, 0.0, 0.0),
    "Green": (0.0, 1.0, 0.0),
    "Blue": (0.0, 0.0, 1.0),
    mark("Red + blue"): (0.5, 0.0, 0.5),
}


@fast_part
def _undecided(keep, drop):  # type: ignore[no-untyped-def]
    """First and end column of a row that shapes leave to the pull."""
    one = np.float32(1)
    first, end = 0, keep.shape[0]
    while first < end and (drop[first] >= one or keep[first] >= one):
        first += 1
    while end > first and (drop[end - 1] >= one or keep[end - 1] >= one):
        end -= 1
    return first, end


@fast_part
def _pull_row(row, feed, weights, levels, invert, clamp, curve, out):  # type: ignore[no-untyped-def]
    low, low_soft, high, high_soft, gain = levels
    red, green, blue = weights
    zero, one, hard = np.float32(0), np.float32(1), np.float32(1e-7)
    coded_row(row, feed)
    low_slope, high_slope = one / max(low_soft, hard), one / max(high_soft, hard)
    if curve.shape[0] > 1:
        last = np.float32(curve.shape[0] - 1)
        for x in range(out.shape[0]):
            value = red * feed[3 * x] + green * feed[3 * x + 1] + blue * feed[3 * x + 2]
            place = min(max((value + np.float32(0.25)) * last / np.float32(1.75), zero), last)
            k = min(int(place), curve.shape[0] - 2)
            alpha = curve[k] + (curve[k + 1] - curve[k]) * (place - np.float32(k))
            alpha = (one - alpha if invert else alpha) * gain
            out[x] = min(max(alpha, zero), one) if clamp else alpha
        return
    for x in range(out.shape[0]):
        k = np.uintp(3 * x)
        value = red * feed[k] + green * feed[k + np.uintp(1)] + blue * feed[k + np.uintp(2)]
        rise = min(one - (low - value) * low_slope, one)
        fall = min(one - (value - high) * high_slope, one)
        alpha = max(min(rise, fall), zero)
        alpha = (one - alpha if invert else alpha) * gain
        out[x] = min(max(alpha, zero), one) if clamp else alpha


@fast_kernel
def _rows(y0, y1, pixels, weights, levels, invert, clamp, curve, keep, drop, shaped, out):  # type: ignore[no-untyped-def]
    one, width = np.float32(1), pixels.shape[1]
    feed = np.empty(3 * width, np.float32)
    for y in range(y0, y1):
        first, end = _undecided(keep[y], drop[y]) if shaped else (0, width)
        row = pixels[y].reshape(-1)
        _pull_row(
            row[3 * first : 3 * end],
            feed[3 * first : 3 * end],
            weights,
            levels,
            invert,
            clamp,
            curve,
            out[y, first:end],
        )
        if shaped:
            for x in range(first):
                out[y, x] = keep[y, x] * (one - drop[y, x])
            for x in range(first, end):
                out[y, x] = (out[y, x] + (one - out[y, x]) * keep[y, x]) * (one - drop[y, x])
            for x in range(end, width):
                out[y, x] = keep[y, x] * (one - drop[y, x])


def luma(
    pixels: Array,
    pull: LumaPull,
    frame: float = 0,
    shapes: tuple[Array, Array] | None = None,
    clamp: bool = True,
) -> Array:
    """Pulls a matte from brightness.

    Parameters
    ----------
    pixels : (h, w, 3) float32, scene-linear.
    pull : thresholds in coded values (0 black, 1 white) or a free curve, weights, invert, gain.
    frame : where keyed thresholds are read.
    shapes : coverage of all keep shapes and of all drop shapes, each (h, w) float32, laid over the pull.
    clamp : whether alpha is kept within 0…1.

    Returns
    -------
    (h, w) float32 alpha.
    """
    levels: tuple[np.float32, ...] = tuple(
        np.float32(part.at(frame)) for part in (pull.low, pull.low_softness, pull.high, pull.high_softness, pull.gain)
    )
    out = np.empty(pixels.shape[:2], np.float32)
    covers = (_NONE, _NONE, False) if shapes is None else (*shapes, True)
    weights = tuple(np.float32(weight) for weight in pull.weights)
    run_bands(_rows, pixels.shape[0], pixels, weights, levels, pull.invert, clamp, _bent(pull), *covers, out)
    return out


def free_curve(points: Sequence[tuple[float, float]], at: NDArray) -> Array:
    """A curve through points of (coded value, alpha), read at coded values; it holds beyond its ends.

    Raises
    ------
    ValueError : fewer than two points that differ in coded value.

    References
    ----------
    Monotone piecewise cubic interpolation: Fritsch & Carlson 1980 (SciPy's PchipInterpolator).
    """
    x, y = np.array(sorted(dict(points).items())).reshape(-1, 2).T
    if len(x) < 2:
        raise ValueError(say("A curve needs two points."))
    from scipy.interpolate import PchipInterpolator  # slow to import

    return np.asarray(PchipInterpolator(x, y)(np.clip(at, x[0], x[-1])), np.float32)


def _bent(pull: LumaPull) -> Array:
    """The free curve at 1024 coded values from −0.25 to 1.5; one value if there is none."""
    if len(dict(pull.curve)) < 2:
        return np.zeros(1, np.float32)
    return free_curve(pull.curve, np.linspace(-0.25, 1.5, 1024))
