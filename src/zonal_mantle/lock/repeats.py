"""Texture that repeats: by what it looks alike once it is moved, and whether the picture tells such motions apart.

A fence or a row of windows can be found a period off as well as where it is. Such motions are tried as a start: where
what does not repeat (light, grain of the wall, a crack) makes them clearly less alike, the picture tells which is
right. Where one frame does not tell it, frames that a smooth motion ties together do if they are less alike on the
whole; and where these do not either, nothing does, and that is said.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from .align import Area, Fit

Matrix = NDArray[np.float64]
ALIKE = 0.5  # autocorrelation from which a texture counts as repeating
LEAST_PX, MOST_SHARE = 5, 0.3  # periods that are looked for: in pixels, and of the area's width and height
SMOOTH_PX = 16.0  # what is wider is no texture
MOST_SHIFTS = 6
TELLS = 1.5  # times: as much as is unlike in the first must be unlike in the others
HOPELESS = 4.0  # times: such a rival is none
LIKENESS_GIVE = 0.05  # by which chance changes how much less alike a rival is
FADED = 0.3  # of how much less alike rivals were: then they are as alike
SURE, LEAST_FRAMES = 4.0, 4  # deviations of the mean, and how many frames tell it
NEAREST = 6  # of the strongest shifts, that are tried
LARGE_PX = 500_000  # a larger area is looked at at half its size


def periods(area: Area) -> list[tuple[float, float]]:
    """Shifts (x, y, px) by which an area looks like itself, the strongest first; both ways of each.

    References
    ----------
    The autocorrelation by Wiener and Khinchin's theorem, over the pixels that both of a shifted pair have.
    """
    level = area.levels[0]
    pixels, mask, unit = level.pixels, level.mask, 1
    if pixels.size > LARGE_PX and len(area.levels) > 1:
        pixels, mask, unit = area.levels[1].pixels, area.levels[1].mask, 2
    seen = np.asarray(mask, np.float32)
    wide = cv2.GaussianBlur(seen, (0, 0), SMOOTH_PX / unit) + 1e-4
    fine = (pixels - cv2.GaussianBlur(pixels * seen, (0, 0), SMOOTH_PX / unit) / wide) * seen
    height, width = fine.shape
    size = (cv2.getOptimalDFTSize(2 * height), cv2.getOptimalDFTSize(2 * width))
    spectrum, cover = (np.abs(np.fft.rfft2(each, size)) ** 2 for each in (fine, seen))
    own, both = (np.fft.fftshift(np.fft.irfft2(each, size)) for each in (spectrum, cover))
    cy, cx = size[0] // 2, size[1] // 2
    reach_y, reach_x = int(height * MOST_SHARE), int(width * MOST_SHARE)
    if min(reach_y, reach_x) < 2 * LEAST_PX or own[cy, cx] <= 0:
        return []
    part = (slice(cy - reach_y, cy + reach_y + 1), slice(cx - reach_x, cx + reach_x + 1))
    alike = (own[part] / np.maximum(both[part], 0.05 * both[cy, cx])) / (own[cy, cx] / both[cy, cx])
    alike = alike.astype(np.float32)
    peaks = (alike >= cv2.dilate(alike, np.ones((7, 7)))) & (alike > ALIKE)
    ys, xs = np.nonzero(peaks)
    found = [
        (float(alike[y, x]), (x - reach_x) * unit, (y - reach_y) * unit)
        for y, x in zip(ys, xs)
        if np.hypot(x - reach_x, y - reach_y) * unit >= LEAST_PX
    ]
    found.sort(reverse=True)
    return [(float(x), float(y)) for _, x, y in found[:MOST_SHIFTS]]


class Rival(NamedTuple):
    """The same area found a period off, and how much less alike it is: the logarithm of the ratio of what is unlike;
    below 0 it is more alike."""

    fit: Fit
    worse: float


def rivals(fit: Fit, shifts: list[tuple[float, float]], find: Callable[[Matrix], Fit | None]) -> list[Rival]:
    """What else an area can be taken for.

    Parameters
    ----------
    shifts : see `periods`. find : finds the area from a start.
    """
    out = []
    for x, y in shifts[:NEAREST]:
        other = find(fit.homography @ np.array([[1, 0, x], [0, 1, y], [0, 0, 1.0]]))
        if other is None or apart_px(other.homography, fit.homography) < 0.4 * np.hypot(x, y):
            continue
        worse = float(np.log(max(1 - other.likeness, 1e-6) / max(1 - fit.likeness, 1e-6)))
        if worse < np.log(HOPELESS):
            out.append(Rival(other, worse))
    return out


def first_untold(worse: list[float]) -> int | None:
    """Of frames that a smooth motion ties together the first from which nothing tells them from rivals a period off;
    None where all are told.

    Where one frame's rivals are clearly less alike it is told by itself. Others are told together while their rivals
    are less alike on the whole (a one-sided t-test), and not while they become as alike or more so.

    Parameters
    ----------
    worse : by frame, away from the reference frame, of its best rival; see `Rival`.
    """
    wrong = next((k for k, value in enumerate(worse) if value <= -2 * LIKENESS_GIVE), len(worse))
    open_ones = [k for k in range(wrong) if worse[k] < np.log(TELLS)]
    values = np.array([worse[k] for k in open_ones])
    for n in range(2 * LEAST_FRAMES, len(values) + 1):
        if values[n - LEAST_FRAMES : n].mean() < FADED * values[: n - LEAST_FRAMES].mean():
            wrong = open_ones[n - LEAST_FRAMES]
            values = values[: n - LEAST_FRAMES]
            break
    if len(values) and not _stand_out(values):
        return open_ones[0]
    return wrong if wrong < len(worse) else None


def _stand_out(values: NDArray[np.float64]) -> bool:
    """Whether rivals are less alike on the whole."""
    if len(values) < LEAST_FRAMES:
        return False
    error = max(float(values.std(ddof=1)), 1e-4) / np.sqrt(len(values))
    return bool(values.mean() > SURE * error)


def apart_px(a: Matrix, b: Matrix) -> float:
    """How far apart two motions carry the frame's corner, px."""
    return float(np.hypot(*(a[:2, 2] / a[2, 2] - b[:2, 2] / b[2, 2])))
