"""Focus, softness, motion blur and sharpness of a premultiplied picture, in scene-linear light."""

from __future__ import annotations

import math
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import fast_kernel

Array = NDArray[np.float32]
FINE = 24  # sub-pixels a pixel that an aperture's rim is counted on
SMALL_PX = 1.0  # radius
SPACING_PX = 0.5  # between the samples of a motion: a thin line then shows no ripple
MOST_SAMPLES = 512
ALIKE_PX = 0.1  # by which ways over the shutter may differ across a frame and be taken as one


def blur_circle_px(
    distance_m: float | None, focal_mm: float, stop: float, focus_m: float, sensor_mm: float, width_px: int
) -> float:
    """Radius of the circle of confusion in plate pixels of a point at a distance (None is infinity).

    References
    ----------
    The thin lens, c = f² |d − s| / (N d (s − f)); for instance Ray, Applied Photographic Optics (2002), chapter 22.

    Examples
    --------
    >>> round(blur_circle_px(None, 50, 2, 5, 24.9, 1920), 2)
    9.74
    """
    f, s = focal_mm / 1000, max(focus_m, focal_mm / 1000 * 1.01)
    away = 1.0 if distance_m is None else abs(distance_m - s) / distance_m
    return f * f * away / (stop * (s - f)) / (sensor_mm / 1000) * width_px / 2


@lru_cache(maxsize=64)
def aperture(radius_px: float, blades: int = 0, turn_deg: float = 0.0) -> Array:
    """The image of a point out of focus: a disc, or a regular polygon of the disc's area, of sum 1. (n, n) float32.

    Examples
    --------
    >>> aperture(0.0).shape, bool(abs(aperture(3.3).sum() - 1) < 1e-5)
    ((1, 1), True)
    """
    if radius_px < 0.02:
        return np.ones((1, 1), np.float32)
    reach = (
        radius_px if blades < 3 else radius_px * math.sqrt(2 * math.pi / (blades * math.sin(2 * math.pi / blades)))
    )  # of a polygon's corners
    half = math.ceil(reach - 0.5 + 1e-9)
    fine = max(FINE, math.ceil(FINE * 2 / max(radius_px, 0.1)) if radius_px < 2 else FINE)
    n = 2 * half + 1
    at = (np.arange(n * fine) + 0.5) / fine - n / 2
    x, y = np.meshgrid(at, at)
    if blades < 3:
        inside = x * x + y * y <= radius_px * radius_px
    else:
        turn = math.radians(turn_deg)
        apothem = reach * math.cos(math.pi / blades)
        sides = [turn + (2 * k + 1) * math.pi / blades for k in range(blades)]
        inside = np.all([x * math.cos(side) + y * math.sin(side) <= apothem for side in sides], axis=0)
    kernel = inside.reshape(n, fine, n, fine).mean(axis=(1, 3))
    if radius_px < SMALL_PX:
        kernel = _small(x[inside], y[inside])
    return np.asarray(kernel / kernel.sum(), np.float32)


def _small(x: NDArray, y: NDArray) -> NDArray[np.float64]:
    """An aperture about as small as a pixel, over the picture between its pixels (Keys 1981) rather than over their
    areas, which would take it for a point."""

    def weights(at: NDArray) -> NDArray:
        d = np.abs(np.arange(-2, 3)[:, None] - at[None])
        near, far = 1.5 * d**3 - 2.5 * d**2 + 1, -0.5 * d**3 + 2.5 * d**2 - 4 * d + 2
        return np.where(d <= 1, near, np.where(d < 2, far, 0))

    return np.asarray(np.maximum(weights(y) @ weights(x).T, 0))


def defocused(rgba: Array, radius_px: float, blades: int = 0, turn_deg: float = 0.0) -> Array:
    """A picture out of focus. (h, w, 4) float32, premultiplied, in and out; what is beyond the frame is nothing."""
    kernel = aperture(float(radius_px), blades, float(turn_deg))
    if kernel.size == 1:
        return rgba
    return np.asarray(cv2.filter2D(rgba, -1, kernel[::-1, ::-1], borderType=cv2.BORDER_REPLICATE), np.float32)


def softened(rgba: Array, sigma_px: float) -> Array:
    """A picture with the blur of a lens or a scan, a Gaussian."""
    if sigma_px < 0.02:
        return rgba
    return np.asarray(cv2.sepFilter2D(rgba, -1, *(pixel_gaussian(sigma_px),) * 2, borderType=cv2.BORDER_REPLICATE))


@lru_cache(maxsize=64)
def pixel_gaussian(sigma_px: float) -> NDArray[np.float64]:
    """A Gaussian as a kernel of sum 1 whose variance is right also below a pixel: each tap is its integral over the
    pixel, less the pixel's own variance."""
    sigma = math.sqrt(max(sigma_px**2 - 1 / 12, 0.0))
    half = max(1, math.ceil(4 * sigma_px))
    at = np.arange(-half, half + 1, dtype=float)
    if sigma < 0.3:  # three taps of that variance
        kernel = np.zeros(2 * half + 1)
        part = min(sigma_px**2 / 2, 1 / 3)
        kernel[half - 1 : half + 2] = part, 1 - 2 * part, part
        return kernel
    edge = np.array(
        [math.erf((t + 0.5) / (sigma * math.sqrt(2))) - math.erf((t - 0.5) / (sigma * math.sqrt(2))) for t in at]
    )
    return np.asarray(edge / edge.sum())


def sharpened(rgba: Array, amount: float, radius_px: float, overshoot: float) -> Array:
    """A picture with what is finer than a radius made stronger, inside of things and not at their rims.

    Parameters
    ----------
    amount : of the detail that is added, 1 doubles it. radius_px : standard deviation of what it is taken against.
    overshoot : how far beyond what lies around it a pixel may go, as a share of the range there.
    """
    if amount == 0:
        return rgba
    alpha = np.clip(rgba[..., 3:], 0, 1)
    own = rgba[..., :3] / np.maximum(alpha, 1e-4)
    cover = cv2.GaussianBlur(alpha, (0, 0), max(radius_px, 0.1))[..., None]
    base = cv2.GaussianBlur(own * alpha, (0, 0), max(radius_px, 0.1)) / np.maximum(cover, 1e-4)
    box = np.ones((2 * max(1, round(radius_px * 1.5)) + 1,) * 2, np.uint8)
    high, low = cv2.dilate(own, box), cv2.erode(own, box)
    slack = overshoot * (high - low)
    sharp = np.clip(
        own + np.float32(amount) * (own - base), np.minimum(low - slack, own), np.maximum(high + slack, own)
    )
    return np.concatenate([np.where(alpha > 1e-3, sharp * alpha, rgba[..., :3]), rgba[..., 3:]], axis=2)


@fast_kernel
def _gather_rows(y0, y1, pixels, along, bend, step, opens, closes, out):  # type: ignore[no-untyped-def]
    height, width = pixels.shape[:2]
    span = closes - opens
    for y in range(y0, y1):
        gy = np.float32(y + 0.5) / step
        row = min(int(gy), along.shape[0] - 2)
        fy = gy - np.float32(row)
        for x in range(width):
            gx = np.float32(x + 0.5) / step
            column = min(int(gx), along.shape[1] - 2)
            fx = gx - np.float32(column)
            ax, ay, bx, by = np.float32(0), np.float32(0), np.float32(0), np.float32(0)
            for j in range(2):
                for i in range(2):
                    share = (fx if i else np.float32(1) - fx) * (fy if j else np.float32(1) - fy)
                    ax += share * along[row + j, column + i, 0]
                    ay += share * along[row + j, column + i, 1]
                    bx += share * bend[row + j, column + i, 0]
                    by += share * bend[row + j, column + i, 1]
            longest = max(
                abs(ax * span + bx * (closes * closes - opens * opens)),
                abs(ay * span + by * (closes * closes - opens * opens)),
            )
            count = min(int(np.ceil(longest / np.float32(SPACING_PX))), MOST_SAMPLES) + 1
            r, g, b, a = np.float32(0), np.float32(0), np.float32(0), np.float32(0)
            for k in range(count):
                t = opens + span * (np.float32(k) + np.float32(0.5)) / np.float32(count)
                px = np.float32(x) + t * (ax + t * bx)
                py = np.float32(y) + t * (ay + t * by)
                left, top = int(np.floor(px)), int(np.floor(py))
                u, v = px - np.float32(left), py - np.float32(top)
                left, right = min(max(left, 0), width - 1), min(max(left + 1, 0), width - 1)
                top, bottom = min(max(top, 0), height - 1), min(max(top + 1, 0), height - 1)
                w00, w01 = (np.float32(1) - u) * (np.float32(1) - v), u * (np.float32(1) - v)
                w10, w11 = (np.float32(1) - u) * v, u * v
                p, q, s, w = pixels[top, left], pixels[top, right], pixels[bottom, left], pixels[bottom, right]
                r += w00 * p[0] + w01 * q[0] + w10 * s[0] + w11 * w[0]
                g += w00 * p[1] + w01 * q[1] + w10 * s[1] + w11 * w[1]
                b += w00 * p[2] + w01 * q[2] + w10 * s[2] + w11 * w[2]
                a += w00 * p[3] + w01 * q[3] + w10 * s[3] + w11 * w[3]
            share = np.float32(1) / np.float32(count)
            out[y, x, 0], out[y, x, 1], out[y, x, 2], out[y, x, 3] = r * share, g * share, b * share, a * share


def streak(ax: float, ay: float, bx: float, by: float, opens: float, closes: float) -> Array:
    """The image of a point of a picture all of which moves alike: its samples, each shared between four pixels."""
    longest = max(abs(ax), abs(ay)) * (closes - opens) + max(abs(bx), abs(by)) * abs(closes**2 - opens**2)
    count = min(math.ceil(longest / SPACING_PX), MOST_SAMPLES) + 1
    t = opens + (closes - opens) * (np.arange(count) + 0.5) / count
    x, y = t * (ax + t * bx), t * (ay + t * by)
    half_x, half_y = math.ceil(float(np.abs(x).max())) + 1, math.ceil(float(np.abs(y).max())) + 1
    kernel = np.zeros((2 * half_y + 1, 2 * half_x + 1))
    left, top = np.floor(x).astype(int), np.floor(y).astype(int)
    u, v = x - left, y - top
    for dx, dy, share in ((0, 0, (1 - u) * (1 - v)), (1, 0, u * (1 - v)), (0, 1, (1 - u) * v), (1, 1, u * v)):
        np.add.at(kernel, (top + dy + half_y, left + dx + half_x), share / count)
    rows, columns = np.flatnonzero(kernel.sum(axis=1)), np.flatnonzero(kernel.sum(axis=0))
    tall = max(half_y - rows[0], rows[-1] - half_y)
    wide = max(half_x - columns[0], columns[-1] - half_x)
    kernel = kernel[half_y - tall : half_y + tall + 1, half_x - wide : half_x + wide + 1]
    return np.asarray(kernel, np.float32)


def moved_over_shutter(rgba: Array, along: Array, bend: Array, step: float, opens: float, closes: float) -> Array:
    """A picture as it is seen while it moves between the shutter's opening and closing.

    Parameters
    ----------
    rgba : (h, w, 4) float32, premultiplied: how it stands at the frame's own time.
    along, bend : (rows, columns, 2) float32: what is seen at a place at time t (in frames) is found in `rgba` at
        t · along + t² · bend from there, in its pixels. Nodes lie `step` pixels apart from the first pixel's corner on.
    opens, closes : in frames from the frame's own time.

    Returns
    -------
    (h, w, 4) float32: the mean over the shutter, by samples no more than half a pixel apart.
    """
    if closes <= opens:
        return rgba
    if (
        max(float(np.ptp(part[..., k])) for part in (along, bend) for k in (0, 1)) * max(abs(opens), abs(closes))
        < ALIKE_PX
    ):
        (ax, ay), (bx, by) = along.mean(axis=(0, 1)), bend.mean(axis=(0, 1))
        kernel = streak(float(ax), float(ay), float(bx), float(by), opens, closes)
        return np.asarray(cv2.filter2D(rgba, -1, kernel, borderType=cv2.BORDER_REPLICATE), np.float32)
    out = np.empty_like(rgba)
    run_bands(
        _gather_rows, rgba.shape[0], np.ascontiguousarray(rgba), along, bend, np.float32(step), np.float32(opens),
        np.float32(closes), out,
    )  # fmt: skip
    return out


def reach_px(along: Array, bend: Array, opens: float, closes: float) -> float:
    """The farthest that `moved_over_shutter` looks from a pixel."""
    ends = [np.abs(t * along + t * t * bend).max() for t in (opens, closes)]
    return float(max(ends)) if along.size else 0.0
