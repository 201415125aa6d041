"""Glow and halation: what is brighter than a level is spread over its surroundings, its light kept.

The spread is a sum of three Gaussians, wider and weaker, as the tails of a lens's and a film's point spread fall off
more slowly than one Gaussian (common practice; the shares are ours). It is made on pictures of half the size and less,
by the binomial filter of four taps (P. J. Burt & E. H. Adelson, The Laplacian pyramid as a compact image code, IEEE
Transactions on Communications 31 (1983)); what these smooth by themselves is taken off each Gaussian's variance.
"""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import fast_kernel, fast_part

Array = NDArray[np.float32]
WIDTHS, SHARES = (0.5, 1.0, 2.0), (0.5, 0.3, 0.2)
FINEST_PX = 2.0  # a Gaussian is made on the smallest picture on which it is still as wide as this
HALVED = 0.75  # px²: the variance of the four taps
REACH = 3.2  # standard deviations of a Gaussian that are kept to each side: 99.86 % of it
BORDER = cv2.BORDER_REFLECT
_threads = ThreadPoolExecutor(2, thread_name_prefix="glow")


class GlowNumbers(NamedTuple):
    """Level (scene-linear), then for glow and halation: shares of red, green and blue that are spread, and the standard
    deviation in pixels of the picture. One below 1.2 px is taken for 1.2 px."""

    level: float
    glow: tuple[float, float, float]
    radius_px: float
    halation: tuple[float, float, float]
    halation_px: float


@fast_part
def _over(r, g, b, level):  # type: ignore[no-untyped-def]
    """The share of a colour that is over the level."""
    peak = max(max(r, g), max(b, np.float32(1e-6)))
    return max(peak - level, np.float32(0)) / peak


@fast_kernel
def _half_rows(y0, y1, picture, level, out):  # type: ignore[no-untyped-def]
    """What is over the level, at half the size; rows and columns beyond the rim are mirrored."""
    height, width = picture.shape[:2]
    rows, held = np.empty((4, 3 * width), np.float32), np.full(4, -1)
    row = np.empty(3 * width, np.float32)
    for y in range(y0, y1):
        for i in range(4):
            at = 2 * y + i - 1
            at = -at - 1 if at < 0 else at
            at = max(2 * height - 1 - at, 0) if at >= height else at
            if held[at % 4] == at:
                continue
            held[at % 4] = at
            line = rows[at % 4]
            for j in range(np.uintp(width)):
                r, g, b = picture[at, j, 0], picture[at, j, 1], picture[at, j, 2]
                share = _over(r, g, b, level)
                first = np.uintp(3) * j
                line[first] = share * max(r, np.float32(0))
                line[first + np.uintp(1)] = share * max(g, np.float32(0))
                line[first + np.uintp(2)] = share * max(b, np.float32(0))
        before = rows[(2 * y - 1 if y > 0 else 0) % 4]
        one, two = rows[(2 * y) % 4], rows[min(2 * y + 1, height - 1) % 4]
        last = 2 * y + 2
        after = rows[(last if last < height else max(2 * height - 1 - last, 0)) % 4]
        for k in range(np.uintp(3 * width)):
            row[k] = np.float32(0.125) * (before[k] + after[k]) + np.float32(0.375) * (one[k] + two[k])
        for x in range(out.shape[1]):
            for c in range(3):
                total = np.float32(0)
                for i in range(-1, 3):
                    weight = np.float32(0.375) if i == 0 or i == 1 else np.float32(0.125)
                    at = 2 * x + i
                    at = -at - 1 if at < 0 else at
                    at = max(2 * width - 1 - at, 0) if at >= width else at
                    total += weight * row[3 * at + c]
                out[y, x, c] = total


@fast_kernel
def _spread_rows(y0, y1, picture, level, spread, shares, out):  # type: ignore[no-untyped-def]
    """Takes what is spread away where it was, and adds it where it goes: straight between the small pixels."""
    width, small = np.uintp(picture.shape[1]), spread.shape[1]
    two = np.uintp(2)
    line, wide = np.empty((3, small + 2), np.float32), np.empty(6 * small, np.float32)
    s0, s1, s2 = shares[0], shares[1], shares[2]
    near, far = np.float32(0.75), np.float32(0.25)
    for y in range(y0, y1):
        first = y // 2
        other = min(max(first + (1 if y % 2 else -1), 0), spread.shape[0] - 1)
        for c in range(3):
            between = line[c]
            for x in range(np.uintp(small)):
                between[x + np.uintp(1)] = near * spread[first, x, c] + far * spread[other, x, c]
            between[0], between[small + 1] = between[1], between[small]
            row = wide[c * 2 * small : (c + 1) * 2 * small]
            for x in range(np.uintp(small)):
                middle = near * between[x + np.uintp(1)]
                row[two * x] = middle + far * between[x]
                row[two * x + np.uintp(1)] = middle + far * between[x + two]
        red, green, blue = wide[: 2 * small], wide[2 * small : 4 * small], wide[4 * small :]
        for x in range(width):
            r, g, v = picture[y, x, 0], picture[y, x, 1], picture[y, x, 2]
            over = _over(r, g, v, level)
            out[y, x, 0] = r + red[x] - s0 * over * max(r, np.float32(0))
            out[y, x, 1] = g + green[x] - s1 * over * max(g, np.float32(0))
            out[y, x, 2] = v + blue[x] - s2 * over * max(v, np.float32(0))
            out[y, x, 3] = picture[y, x, 3]


def glowing(picture: Array, numbers: GlowNumbers, out: Array | None = None) -> Array:
    """A picture with glow and halation. (h, w, 4) float32, scene-linear, premultiplied; a new one, or in `out`, which
    may be the picture itself.

    The sum of each channel stays what it was: at the frame's rim light is thrown back.
    """
    height, width = picture.shape[:2]
    parts = [
        (radius, np.array(shares, np.float32))
        for radius, shares in ((numbers.radius_px, numbers.glow), (numbers.halation_px, numbers.halation))
        if max(shares) > 0 and radius > 0
    ]
    level = np.float32(numbers.level)
    half = np.empty(((height + 1) // 2, (width + 1) // 2, 3), np.float32)
    run_bands(_half_rows, half.shape[0], picture, level, half)
    light = _sum(half, picture.shape)
    if not parts or light.max() <= 0:
        return picture.copy() if out is None else out
    spread = spread_light(half, parts)
    shares = np.sum([share for _, share in parts], axis=0, dtype=np.float32)
    given = _sum(spread, picture.shape)
    kept = np.where(given > 0, light * shares / np.maximum(given, 1e-12), 0).astype(np.float32)
    spread = np.asarray(cv2.transform(spread, np.diag(kept)), np.float32)
    out = np.empty_like(picture) if out is None else out
    run_bands(_spread_rows, height, picture, level, spread, shares, out)
    return out


def _sum(half: Array, whole: tuple[int, ...]) -> NDArray[np.float64]:
    """The light of each channel of a picture of half the size: at an odd end a pixel stands for half as much."""
    total = 4 * np.array(cv2.sumElems(half)[:3])
    if whole[0] % 2:
        total -= 2 * half[-1].sum(axis=0, dtype=float)
    if whole[1] % 2:
        total -= 2 * half[:, -1].sum(axis=0, dtype=float)
    return total + (half[-1, -1] if whole[0] % 2 and whole[1] % 2 else 0.0)


def spread_light(half: Array, parts: Sequence[tuple[float, Array]]) -> Array:
    """Light spread about radii, each of them by three Gaussians, with a share for red, green and blue.

    Parameters
    ----------
    half : (h, w, 3) float32, a picture of half the size made by four taps. parts : of each a radius, in pixels of the
        whole picture, and (3) shares.

    Returns
    -------
    (h, w, 3) float32: to be enlarged by straight lines.
    """
    height, width = half.shape[:2]
    spreads = [(times * radius, part * share) for radius, share in parts for times, part in zip(WIDTHS, SHARES)]
    deepest = min(max(_level_of(sigma) for sigma, _ in spreads), max(int(np.log2(min(height, width))) - 2, 1))
    whole = 2 ** (deepest - 1)
    below, right = -height % whole, -width % whole
    level = cv2.copyMakeBorder(half, 0, below, 0, right, BORDER) if below or right else half
    waiting: list[list[Future[Array]]] = []
    variance = HALVED  # that a level has by itself, in pixels of the picture
    for k in range(1, deepest + 1):
        if k > 1:
            level = cv2.sepFilter2D(level, -1, _TAPS, _TAPS, anchor=(1, 1), borderType=BORDER)[::2, ::2]
            level = np.ascontiguousarray(level)
            variance += HALVED * 4 ** (k - 1)
        enlarging = (4**k - 1) / 6  # of straight lines between the small pixels
        here = [(sigma, share) for sigma, share in spreads if min(_level_of(sigma), deepest) == k]
        owns = [(np.sqrt(max(sigma**2 - variance - enlarging, 0.0)) / 2**k, share) for sigma, share in here]
        here_as = np.asarray(level, np.float32)
        waiting.append([_threads.submit(_blurred, here_as, float(own), share) for own, share in owns])
    out: Array | None = None
    for k in range(deepest, 0, -1):
        if out is not None:
            size = ((width + right) // 2 ** (k - 1), (height + below) // 2 ** (k - 1))
            out = np.asarray(cv2.resize(out, size, interpolation=cv2.INTER_LINEAR), np.float32)
        for future in waiting[k - 1]:
            part = future.result()
            out = part if out is None else np.asarray(cv2.add(out, part, dst=out), np.float32)
    assert out is not None
    return np.ascontiguousarray(out[:height, :width], np.float32)


def _blurred(level: Array, sigma: float, share: Array) -> Array:
    """A picture blurred, each channel by its share."""
    if sigma >= 0.1:
        taps = 2 * int(np.ceil(REACH * sigma)) + 1
        level = np.asarray(cv2.GaussianBlur(level, (taps, taps), sigma, borderType=BORDER), np.float32)
    return np.asarray(cv2.transform(level, np.diag(share)), np.float32)


_TAPS = np.array([1, 3, 3, 1], np.float32) / 8


def _level_of(sigma: float) -> int:
    """How often a picture is halved for a Gaussian, once at least."""
    return max(int(np.floor(np.log2(max(sigma / FINEST_PX, 1.0)))), 1)
