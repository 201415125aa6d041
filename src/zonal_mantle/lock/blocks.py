"""By how much the blocks of one picture lie beside those of another, and how sure that is.

Each block of a picture is moved onto the other by Gauss-Newton steps (Lucas & Kanade 1981; Baker & Matthews, IJCV
2004), from coarse to fine, with its own light and contrast. A block tells more than a feature does: all of its pixels
count, so grain, blur and compression leave far more of them.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_halves
from ..media.compiled import fast_kernel

Array = NDArray[np.float32]
Mask = NDArray[np.bool_]

LEVELS = ((4, 5), (2, 4), (1, 3))  # how many times smaller, and steps there
SOFT_PX = 1.0  # pixels of a level that it is smoothed over
MOST_PX, STEP_PX = 16.0, 2.0  # that a block is moved by; and pixels of a level in one step
LEAST_GAIN, MOST_GAIN = 0.3, 3.0  # of contrast
FULL, ALIKE = 0.5, 0.7  # share of a block that must be seen, and the correlation at which it has been found
TOLD = 6  # numbers told of a block: right, down, correlation, deviation, slope, share


@dataclass(frozen=True)
class Shifts:
    """px (rows, columns, 2) : right and down, from where a block was looked for to where it was found. deviation : of
    that, standard, px, by what the block leaves unexplained. slope : of the picture, a pixel, where it is least.
    found : whether it was; (rows, columns)."""

    px: Array
    deviation: Array
    slope: Array
    found: Mask


class Blocks:
    """A picture, cut into blocks that are looked for in others."""

    def __init__(self, picture: Array, part: Array, grid: tuple[int, int]) -> None:
        """picture (h, w), of a range of about 1. part (h, w): what of it counts, 0…1. grid: rows and columns."""
        self.grid, self.part = grid, np.asarray(part, np.float32)
        self.levels = [_with_slopes(picture, fit) for fit, _ in LEVELS]

    def beside(self, other: Array, part: Array) -> Shifts:
        """Where the blocks lie in a picture of the same size, of which `part` is seen.

        Example
        -------
        >>> rough = cv2.GaussianBlur(np.random.default_rng(1).random((240, 340), np.float32), (0, 0), 2)
        >>> whole = np.ones((240, 320), np.float32)
        >>> found = Blocks(rough[:, :320], whole, (4, 6)).beside(rough[:, 3:323], whole)
        >>> bool(found.found.all()), bool(abs(np.median(found.px, axis=(0, 1)) - (-3, 0)).max() < 0.05)
        (True, True)
        """
        seen = np.minimum(self.part, part)
        told = np.zeros((*self.grid, TOLD), np.float32)
        for here, (fit, steps) in zip(self.levels, LEVELS):
            told[..., :2] /= fit
            share = np.asarray(cv2.resize(seen, here.shape[:0:-1], interpolation=cv2.INTER_AREA), np.float32)
            beyond = _beyond(fit, steps)
            there = _with_slopes(other, fit, beyond)
            run_halves(_moved_rows, self.grid[0], here, there, share, beyond, steps, told)
            told[..., :2] *= fit
            length = np.linalg.norm(told[..., :2], axis=2, keepdims=True)
            told[..., :2] *= np.minimum(1, MOST_PX / np.maximum(length, 1e-9))
        return Shifts(told[..., :2], told[..., 3], told[..., 4], (told[..., 5] > FULL) & (told[..., 2] > ALIKE))


def _with_slopes(picture: Array, fit: int, beyond: int = 0) -> Array:
    """A picture some times smaller, smoothed, and its slopes to the right and down; its edge goes on beyond it. (3, h,
    w)."""
    small = picture if fit == 1 else cv2.resize(picture, None, fx=1 / fit, fy=1 / fit, interpolation=cv2.INTER_AREA)
    soft = cv2.GaussianBlur(small, (0, 0), SOFT_PX)
    if beyond:
        soft = cv2.copyMakeBorder(soft, beyond, beyond, beyond, beyond, cv2.BORDER_REPLICATE)
    out = np.empty((3, *soft.shape), np.float32)
    out[0] = soft
    cv2.Sobel(soft, cv2.CV_32F, 1, 0, dst=out[1], scale=1 / 8)
    cv2.Sobel(soft, cv2.CV_32F, 0, 1, dst=out[2], scale=1 / 8)
    return out


def _beyond(fit: int, steps: int) -> int:
    """Pixels of a level that a block may be looked for beyond the picture: as far as it is moved, and one more."""
    return int(np.ceil(MOST_PX / fit) + steps * STEP_PX) + 2


@fast_kernel
def _moved_rows(first, end, here, there, share, beyond, steps, told):  # type: ignore[no-untyped-def]
    """Moves blocks on from what is told of them. here (3, h, w): level and slopes; there: the same of the other
    picture, which goes on `beyond` its edges; share (h, w): what counts. All of a block lies as far between pixels."""
    height, width = share.shape
    rows, columns = told.shape[:2]
    zero, one = np.float32(0), np.float32(1)
    most = np.float32(beyond - 1)
    for j in range(first, end):
        y0, y1 = height * j // rows, height * (j + 1) // rows
        for i in range(columns):
            x0, x1 = width * i // columns, width * (i + 1) // columns
            out = told[j, i]
            count, level, mean_r, mean_d = np.float32(1e-6), zero, zero, zero
            wide = np.uintp(x1 - x0)
            for y in range(y0, y1):
                part, own, own_r, own_d = share[y, x0:x1], here[0, y, x0:x1], here[1, y, x0:x1], here[2, y, x0:x1]
                for x in range(wide):
                    w = part[x]
                    count += w
                    level, mean_r, mean_d = level + w * own[x], mean_r + w * own_r[x], mean_d + w * own_d[x]
            level, mean_r, mean_d = level / count, mean_r / count, mean_d / count
            out[5] = count / np.float32(max((y1 - y0) * (x1 - x0), 1))
            if out[5] <= np.float32(FULL):
                out[2] = zero
                continue
            spread, rr, rd, dd, with_r, with_d = zero, zero, zero, zero, zero, zero
            each = one / count
            for y in range(y0, y1):
                part, own, own_r, own_d = share[y, x0:x1], here[0, y, x0:x1], here[1, y, x0:x1], here[2, y, x0:x1]
                for x in range(wide):
                    w = part[x] * each
                    h, r, d = own[x] - level, own_r[x] - mean_r, own_d[x] - mean_d
                    spread, with_r, with_d = spread + w * h * h, with_r + w * h * r, with_d + w * h * d
                    rr, rd, dd = rr + w * r * r, rd + w * r * d, dd + w * d * d
            sharp = max(rr * dd - rd * rd, np.float32(1e-14))
            both, theirs, gain = zero, one, one
            a = b = c = e = zero
            down = right = 0
            for step in range(steps + 1):
                out[0], out[1] = min(max(out[0], -most), most), min(max(out[1], -most), most)
                down, right = int(np.floor(out[1])), int(np.floor(out[0]))
                v, u = out[1] - np.float32(down), out[0] - np.float32(right)
                a, b, c, e = (one - v) * (one - u), (one - v) * u, v * (one - u), v * u
                bright, square, both, now_r, now_d = zero, zero, zero, zero, zero
                left = x0 + right + beyond
                for y in range(y0, y1):
                    part, own, own_r, own_d = share[y, x0:x1], here[0, y, x0:x1], here[1, y, x0:x1], here[2, y, x0:x1]
                    top = there[0, y + down + beyond, left : left + x1 - x0 + 1]
                    foot = there[0, y + down + beyond + 1, left : left + x1 - x0 + 1]
                    for x in range(wide):
                        w, k = part[x] * each, x + np.uintp(1)
                        n = a * top[x] + b * top[k] + c * foot[x] + e * foot[k] - level
                        h, r, d = own[x] - level, own_r[x] - mean_r, own_d[x] - mean_d
                        bright, square, both = bright + w * n, square + w * n * n, both + w * n * h
                        now_r, now_d = now_r + w * n * r, now_d + w * n * d
                theirs = max(square - bright * bright, np.float32(1e-9))
                gain = min(max(both / theirs, np.float32(LEAST_GAIN)), np.float32(MOST_GAIN))
                if step == steps:
                    break
                p, q = with_r - gain * now_r, with_d - gain * now_d
                by_right, by_down = (dd * p - rd * q) / sharp, (rr * q - rd * p) / sharp
                length = np.sqrt(by_right * by_right + by_down * by_down)
                if not length < np.float32(1e9):  # no number: nothing is told
                    both = zero
                    break
                fit = min(one, np.float32(STEP_PX) / max(length, np.float32(1e-9)))
                out[0], out[1] = out[0] + fit * by_right, out[1] + fit * by_down
            slopes = zero  # of what is unexplained, squared
            left = x0 + right + beyond
            for way in (1, 2):
                for y in range(y0, y1):
                    part, own = share[y, x0:x1], here[way, y, x0:x1]
                    top = there[way, y + down + beyond, left : left + x1 - x0 + 1]
                    foot = there[way, y + down + beyond + 1, left : left + x1 - x0 + 1]
                    for x in range(wide):
                        beside = x + np.uintp(1)
                        off = own[x] - gain * (a * top[x] + b * top[beside] + c * foot[x] + e * foot[beside])
                        slopes += part[x] * each * off * off
            slopes = max(slopes / np.float32(2), np.float32(1e-12))
            rest = max(spread - both * both / theirs, zero)  # what no light and contrast explain
            half = (rr - dd) / np.float32(2)
            least = (rr + dd) / np.float32(2) - np.sqrt(half * half + rd * rd)
            out[2] = both / np.sqrt(max(spread * theirs, np.float32(1e-12)))
            out[4] = np.sqrt(max(least, zero))
            least = max(least - slopes / np.float32(2), np.float32(1e-12))  # half of them are the block's own grain
            together = np.float32(2 * np.pi) * rest / slopes  # pixels whose grain goes together
            out[3] = np.sqrt(together * rest / (least * count))
