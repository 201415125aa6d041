"""Finding one patch again: a coarse search, then a sub-pixel fit."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ..shot.zone import Mark

Array = NDArray[np.float32]


@dataclass(frozen=True)
class Found:
    """Where a patch was found, how alike it is (0…1) and how far off the place may be (px)."""

    x: float
    y: float
    confidence: float
    uncertainty_px: float


class Patch:
    """The pattern around a mark, ready to be found again.

    Parameters
    ----------
    feed : (h, w) float32, the frame on which the mark was set.
    mark : its place and the half size of its patch, in pixels of the feed.

    Raises
    ------
    ValueError : the patch reaches out of the picture.
    """

    def __init__(self, feed: Array, mark: Mark) -> None:
        self.half = (max(3, round(mark.patch[0])), max(3, round(mark.patch[1])))
        self.reach = (max(2, round(mark.reach[0])), max(2, round(mark.reach[1])))
        self.place = (mark.x, mark.y)
        if not self._inside(feed, mark.x, mark.y):
            raise ValueError("The patch reaches out of the picture.")
        wide = _sample(feed, mark.x, mark.y, self.half, border=1)
        self.pattern = wide[1:-1, 1:-1]
        gx, gy = (wide[1:-1, 2:] - wide[1:-1, :-2]) / 2, (wide[2:, 1:-1] - wide[:-2, 1:-1]) / 2
        ramp_y = np.cos(np.linspace(-0.45, 0.45, self.pattern.shape[0]) * np.pi)
        ramp_x = np.cos(np.linspace(-0.45, 0.45, self.pattern.shape[1]) * np.pi)
        self.weight = np.sqrt(ramp_y[:, None] * ramp_x[None, :])
        ones = np.ones_like(self.pattern)
        columns = np.stack([gx, gy, self.pattern, ones], axis=-1).reshape(-1, 4).astype(np.float64)
        self._columns = columns * self.weight.reshape(-1, 1)
        self._square = self._columns.T @ self._columns
        self._solve = np.linalg.pinv(self._columns)

    @property
    def contrast(self) -> float:
        """Standard deviation of the pattern, in coded values."""
        return float(self.pattern.std())

    def _inside(self, feed: Array, x: float, y: float) -> bool:
        h, w = feed.shape
        return bool(self.half[0] + 2 <= x <= w - self.half[0] - 2 and self.half[1] + 2 <= y <= h - self.half[1] - 2)

    def search(self, feed: Array, x: float, y: float) -> Found | None:
        """Finds the patch within its reach about (x, y); None where that leaves the picture."""
        h, w = feed.shape
        cx, cy = int(np.floor(x)), int(np.floor(y))
        x0, x1 = max(cx - self.half[0] - self.reach[0], 0), min(cx + self.half[0] + self.reach[0] + 1, w)
        y0, y1 = max(cy - self.half[1] - self.reach[1], 0), min(cy + self.half[1] + self.reach[1] + 1, h)
        if x1 - x0 < self.pattern.shape[1] or y1 - y0 < self.pattern.shape[0]:
            return None
        likeness = cv2.matchTemplate(feed[y0:y1, x0:x1], self.pattern, cv2.TM_CCOEFF_NORMED)
        _, _, _, best = cv2.minMaxLoc(np.nan_to_num(likeness, nan=-1.0))
        found = self.refine(feed, x0 + best[0] + self.half[0] + 0.5, y0 + best[1] + self.half[1] + 0.5)
        if found is None or abs(found.x - x) > self.reach[0] + 1 or abs(found.y - y) > self.reach[1] + 1:
            return None
        return found

    def refine(self, feed: Array, x: float, y: float) -> Found | None:
        """Sub-pixel place near (x, y), free of gain and bias.

        Inverse-compositional Gauss–Newton on a shift (Baker & Matthews 2004), with gain and bias as two more
        unknowns; the uncertainty is the standard error of the fit.
        """
        start = (x, y)
        picture = self.pattern
        for _ in range(20):
            if not self._inside(feed, x, y) or abs(x - start[0]) > 3 or abs(y - start[1]) > 3:
                return None
            picture = _sample(feed, x, y, self.half)
            dx, dy, gain, _bias = self._solve @ (picture * self.weight).reshape(-1).astype(np.float64)
            if not np.isfinite(gain) or gain < 0.05:
                return None
            step_x, step_y = -dx / gain, -dy / gain
            x, y = x + float(np.clip(step_x, -1, 1)), y + float(np.clip(step_y, -1, 1))
            if abs(step_x) < 2e-4 and abs(step_y) < 2e-4:
                break
        values = (picture * self.weight).reshape(-1).astype(np.float64)
        solution = self._solve @ values
        rest = values - self._columns @ solution
        variance = float(rest @ rest) / max(values.size - 4, 1) / max(float(solution[2]) ** 2, 1e-6)
        covariance = variance * np.linalg.pinv(self._square)
        uncertainty = float(np.sqrt(max(covariance[0, 0], 0) + max(covariance[1, 1], 0)))
        return Found(x, y, _likeness(self.pattern, picture, self.weight), uncertainty)


def _sample(feed: Array, x: float, y: float, half: tuple[int, int], border: int = 0) -> Array:
    """Pixels on a whole-pixel grid about a continuous place, by cubic interpolation."""
    rx, ry = half[0] + border, half[1] + border
    x0, y0 = int(np.floor(x - 0.5)), int(np.floor(y - 0.5))
    fx, fy = x - 0.5 - x0, y - 0.5 - y0
    h, w = feed.shape
    ys, xs = (
        np.arange(y0 - ry - 1, y0 + ry + 3).clip(0, h - 1),
        np.arange(x0 - rx - 1, x0 + rx + 3).clip(0, w - 1),
    )
    block = feed[ys[0] : ys[-1] + 1, xs[0] : xs[-1] + 1]
    if block.shape != (2 * ry + 4, 2 * rx + 4):
        block = feed[np.ix_(ys, xs)]
    wx, wy = _cubic(fx), _cubic(fy)
    n = 2 * rx + 1
    across = (
        wx[0] * block[:, :n] + wx[1] * block[:, 1 : n + 1] + wx[2] * block[:, 2 : n + 2] + wx[3] * block[:, 3 : n + 3]
    )
    m = 2 * ry + 1
    both = wy[0] * across[:m] + wy[1] * across[1 : m + 1] + wy[2] * across[2 : m + 2] + wy[3] * across[3 : m + 3]
    return np.asarray(both, np.float32)


def _cubic(f: float) -> tuple[float, float, float, float]:
    """Weights of the four neighbours at a share f, cubic convolution with a = −1/2 (Keys 1981)."""
    return (
        ((-0.5 * f + 1.0) * f - 0.5) * f,
        (1.5 * f - 2.5) * f * f + 1.0,
        ((-1.5 * f + 2.0) * f + 0.5) * f,
        (0.5 * f - 0.5) * f * f,
    )


def _likeness(a: Array, b: Array, weight: NDArray) -> float:
    """Weighted zero-mean normalised correlation, 0 where it is negative."""
    total = weight.sum()
    a = a - (a * weight).sum() / total
    b = b - (b * weight).sum() / total
    below = np.sqrt((weight * a * a).sum() * (weight * b * b).sum())
    return max(0.0, float((weight * a * b).sum() / below)) if below > 1e-9 else 0.0
