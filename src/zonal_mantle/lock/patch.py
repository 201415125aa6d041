"""Finding one patch again: a coarse search, then a sub-pixel fit."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from ..shot.lock import Mark
from ..words import say
from .blur import Blur

Array = NDArray[np.float32]
Shape = tuple[float, float]  # size and turn of a patch, as (size · cos, size · sin)
UPRIGHT: Shape = (1.0, 0.0)
NOISE = 0.012  # coded values; a plate's usual grain
EDGE = 6.0  # times as exact across as along: a pattern that slides along an edge
PEAK_NEAR = 0.25  # of likeness below the best, within which a peak may turn out to be the better one
MOST_PLACES, SAME_PX = 6, 3.0  # peaks that are looked at, and how far apart they are to be two
BARTLETT = np.array([1, 2, 3, 4, 3, 2, 1]) / 4  # of lags -3…3
SHAPE_STEP = 0.004  # how much size or turn may change from frame to frame without much evidence


@dataclass(frozen=True)
class Found:
    """Where a patch was found, how alike it is (0…1), how far off the place may be (px), its size and turn, and what it
    is unlike as a share of what the likest other place is."""

    x: float
    y: float
    confidence: float
    uncertainty_px: float
    shape: Shape = (1.0, 0.0)
    unlike: float = 0.0


@numba.njit(cache=True, nogil=True)
def _sample(feed, x, y, size, turn, out):  # type: ignore[no-untyped-def]
    """Pixels on a grid about a continuous place, turned and sized with it, by cubic convolution (Keys 1981)."""
    h, w = feed.shape
    rows, columns = out.shape
    ry, rx = rows // 2, columns // 2
    wx, wy = np.empty(4), np.empty(4)
    for j in range(rows):
        for i in range(columns):
            dx, dy = i - rx, j - ry
            u = x + size * dx - turn * dy - 0.5
            v = y + turn * dx + size * dy - 0.5
            x0, y0 = int(np.floor(u)), int(np.floor(v))
            for weights, f in ((wx, u - x0), (wy, v - y0)):
                weights[0] = ((-0.5 * f + 1.0) * f - 0.5) * f
                weights[1] = (1.5 * f - 2.5) * f * f + 1.0
                weights[2] = ((-1.5 * f + 2.0) * f + 0.5) * f
                weights[3] = (0.5 * f - 0.5) * f * f
            total = 0.0
            for m in range(4):
                row = min(max(y0 - 1 + m, 0), h - 1)
                line = 0.0
                for n in range(4):
                    line += wx[n] * feed[row, min(max(x0 - 1 + n, 0), w - 1)]
                total += wy[m] * line
            out[j, i] = total


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
            raise ValueError(say("The patch reaches out of the picture."))
        wide = np.empty((2 * self.half[1] + 3, 2 * self.half[0] + 3))
        _sample(feed, mark.x, mark.y, 1.0, 0.0, wide)
        pattern = wide[1:-1, 1:-1]
        self.pattern = pattern.astype(np.float32)
        gx, gy = (wide[1:-1, 2:] - wide[1:-1, :-2]) / 2, (wide[2:, 1:-1] - wide[:-2, 1:-1]) / 2
        y, x = np.mgrid[-self.half[1] : self.half[1] + 1, -self.half[0] : self.half[0] + 1]
        window_y = np.cos(np.linspace(-0.45, 0.45, pattern.shape[0]) * np.pi)
        window_x = np.cos(np.linspace(-0.45, 0.45, pattern.shape[1]) * np.pi)
        self._window = (window_y[:, None] * window_x[None, :]).reshape(-1)
        columns = [gx, gy, gx * x + gy * y, gy * x - gx * y, pattern, np.ones_like(pattern)]
        self._slack = (0.12 * np.hypot(gx, gy)).reshape(-1)
        self._columns = np.stack(columns, axis=-1).reshape(-1, 6)
        # turn and size are held near those of the frame before unless the pattern says otherwise
        self._stiffness = np.array([0, 0, 1.0, 1.0, 0, 0]) * (NOISE / SHAPE_STEP) ** 2

    @property
    def contrast(self) -> float:
        """Standard deviation of the pattern, in coded values."""
        return float(self.pattern.std())

    def left(self, feed: Array, found: Found, blur: Blur) -> tuple[tuple[float, float, float], float]:
        """What a place where it was found, both frames blurred alike, says of the shutter, see `blur.Exposure.learn`;
        and by how much it would move for one more of the square of the shutter's share, px."""
        picture = np.empty(self.pattern.shape)
        _sample(feed, found.x, found.y, *found.shape, picture)
        values = picture.reshape(-1)
        weighted = self._columns * self._window[:, None]
        square = weighted.T @ self._columns + np.diag(self._stiffness + 1e-12)
        solution = np.linalg.solve(square, weighted.T @ values)
        model = self._columns @ solution
        rest = values - model
        mean = ((values + model) / 2).reshape(self.pattern.shape).astype(np.float32)
        bend = blur.bend(mean, 1).reshape(-1)
        weight = self._window * _tukey(rest, self._slack)
        weighed = weight * bend / max(float((weight * rest * rest).sum() / weight.sum()), 1e-12)
        pulled = np.linalg.solve(square, weighted.T @ bend)[:2] / max(abs(float(solution[4])), 0.05)
        return (float(weighed @ rest), float(weighed @ bend), blur.share), float(np.hypot(*pulled))

    @property
    def grain(self) -> float:
        """Standard deviation of the pattern's grain, coded values, by J. Immerkær's mask (Computer Vision and Image
        Understanding 64 (1996)); texture as fine as grain counts as grain."""
        fine = cv2.filter2D(self.pattern, -1, np.array([[1, -2, 1], [-2, 4, -2], [1, -2, 1]], np.float32))
        return 1.4826 * float(np.median(np.abs(fine))) / 6

    @property
    def is_edge(self) -> bool:
        """Whether the pattern tells its place across an edge alone, whatever its grain looks like."""
        slopes = self._columns[:, :2]
        of_grain = 0.5 * self.grain**2 * float(self._window.sum())
        low, high = np.linalg.eigvalsh((slopes * self._window[:, None]).T @ slopes) - of_grain
        return bool(high > EDGE**2 * max(low, 1e-12))

    def _inside(self, feed: Array, x: float, y: float) -> bool:
        h, w = feed.shape
        return bool(self.half[0] + 2 <= x <= w - self.half[0] - 2 and self.half[1] + 2 <= y <= h - self.half[1] - 2)

    def search(self, feed: Array, x: float, y: float, shape: Shape = UPRIGHT) -> Found | None:
        """Finds the patch within its reach about (x, y); None where that leaves the picture.

        `shape` is the patch's size and turn as (size · cos, size · sin), from the frame before.
        """
        likeness, corner = self._likeness_about(feed, x, y, self.reach)
        if likeness is None:
            return None
        found = self._refined(feed, corner, cv2.minMaxLoc(likeness)[3], shape)
        if found is None or abs(found.x - x) > self.reach[0] + 1 or abs(found.y - y) > self.reach[1] + 1:
            return None
        return found

    def places(self, feed: Array, x: float, y: float, shape: Shape = UPRIGHT, wider: int = 1) -> list[Found]:
        """Places about (x, y) that look like the patch within so many times its reach, likest first. Where what the
        first is unlike is nearly as much as what the second is, the pattern does not tell which of them it is (the
        ratio test of D. G. Lowe, International Journal of Computer Vision 60 (2004), section 7.1)."""
        likeness, corner = self._likeness_about(feed, x, y, (self.reach[0] * wider, self.reach[1] * wider))
        if likeness is None:
            return []
        peaks = (likeness >= cv2.dilate(likeness, np.ones((5, 5)))) & (likeness > likeness.max() - PEAK_NEAR)
        rows, columns = np.nonzero(peaks)
        out: list[Found] = []
        for k in np.argsort(-likeness[rows, columns])[:MOST_PLACES]:
            found = self._refined(feed, corner, (int(columns[k]), int(rows[k])), shape)
            if found is not None and all(np.hypot(found.x - old.x, found.y - old.y) > SAME_PX for old in out):
                picture = np.empty(self.pattern.shape)
                _sample(feed, found.x, found.y, *found.shape, picture)
                alike = _likeness(self.pattern.reshape(-1).astype(float), picture.reshape(-1), self._window)
                out.append(replace(found, unlike=1 - alike))
        return sorted(out, key=lambda each: each.unlike)

    def _likeness_about(
        self, feed: Array, x: float, y: float, reach: tuple[int, int]
    ) -> tuple[Array | None, tuple[int, int]]:
        """How like the pattern each place within reach is, −1…1, and the first one's corner; None outside."""
        h, w = feed.shape
        cx, cy = int(np.floor(x)), int(np.floor(y))
        x0, x1 = max(cx - self.half[0] - reach[0], 0), min(cx + self.half[0] + reach[0] + 1, w)
        y0, y1 = max(cy - self.half[1] - reach[1], 0), min(cy + self.half[1] + reach[1] + 1, h)
        if x1 - x0 < self.pattern.shape[1] or y1 - y0 < self.pattern.shape[0]:
            return None, (x0, y0)
        likeness = cv2.matchTemplate(feed[y0:y1, x0:x1], self.pattern, cv2.TM_CCOEFF_NORMED)
        return np.nan_to_num(likeness, nan=-1.0), (x0, y0)

    def _refined(self, feed: Array, corner: tuple[int, int], best: Sequence[int], shape: Shape) -> Found | None:
        x, y = (corner[k] + best[k] + self.half[k] + 0.5 for k in (0, 1))
        return self.refine(feed, x, y, shape)

    def refine(self, feed: Array, x: float, y: float, shape: Shape = UPRIGHT) -> Found | None:
        """Sub-pixel place near (x, y), free of gain and bias; None where the fit runs away.

        Gauss–Newton on position, size, turn, gain and bias (Baker & Matthews 2004), with Tukey weights so that
        what passes in front counts little (Huber 1981 for the method). The uncertainty is the fit's standard error.
        """
        start = (x, y)
        size, turn = shape
        picture = np.empty(self.pattern.shape)
        weight = self._window
        stiff = np.diag(np.broadcast_to(self._stiffness + 1e-12, 6))
        for step in range(25):
            if not self._inside(feed, x, y) or abs(x - start[0]) > 3 or abs(y - start[1]) > 3:
                return None
            _sample(feed, x, y, size, turn, picture)
            values = picture.reshape(-1)
            weighted = self._columns * weight[:, None]
            square = weighted.T @ self._columns + stiff
            solution = np.linalg.solve(square, weighted.T @ values)
            gain = solution[4]
            if not np.isfinite(gain) or gain < 0.05:
                return None
            dx, dy, dsize, dturn = -solution[:4] / gain
            dx, dy = min(max(float(dx), -1.0), 1.0), min(max(float(dy), -1.0), 1.0)
            x, y = x + size * dx - turn * dy, y + turn * dx + size * dy
            size, turn = size * (1 + dsize) - turn * dturn, turn * (1 + dsize) + size * dturn
            rest = values - self._columns @ solution
            if step >= 2:
                weight = self._window * _tukey(rest, self._slack)
            if step >= 4 and abs(dx) < 3e-4 and abs(dy) < 3e-4:
                break
        if not 0.5 < np.hypot(size, turn) < 2.0:
            return None
        used = max(float(weight.sum() / self._window.sum()) * rest.size - 6, 1)
        variance = float((weight * rest * rest).sum() / weight.sum()) * rest.size / used / gain**2
        back = np.linalg.inv(square)
        covariance = variance * back
        scores = (self._columns * (weight * rest)[:, None]).reshape(*self.pattern.shape, 6)
        near = _near_scores(scores)
        covariance = max(covariance, back @ near @ back / gain**2, key=lambda each: each[0, 0] + each[1, 1])
        uncertainty = float(np.sqrt(max(covariance[0, 0], 0) + max(covariance[1, 1], 0)))
        kept = float(weight.sum() / self._window.sum())
        confidence = _likeness(self.pattern.reshape(-1), values, weight) * min(1.0, kept / 0.55)
        return Found(float(x), float(y), confidence, uncertainty, (float(size), float(turn)))


def _near_scores(scores: NDArray) -> NDArray[np.float64]:
    """The sum of products of the scores (h, w, 6) of neighbouring pixels, which stands for their covariance where noise
    is not white (W. K. Newey & K. D. West, Econometrica 55 (1987), with Bartlett's weights; from memory). (6, 6)."""
    near = cv2.sepFilter2D(scores, -1, BARTLETT, BARTLETT, borderType=cv2.BORDER_CONSTANT)
    total = scores.reshape(-1, 6).T @ near.reshape(-1, 6)
    return np.asarray((total + total.T) / 2)


def _tukey(rest: NDArray, slack: NDArray) -> NDArray:
    """Weights 1…0 that leave out what does not belong: Tukey's biweight, 4.685 robust deviations wide.

    Steep places are given more slack, since there the least misplacement leaves a rest.
    """
    away = np.abs(rest)
    spread = np.hypot(1.4826 * _median(away) + 1e-4, slack)
    share = np.minimum(away / (4.685 * spread), 1.0)
    return np.asarray((1 - share * share) ** 2)


def _median(values: NDArray) -> float:
    """The middle of values, as np.median has it, which takes longer to begin than to find it."""
    half = values.size // 2
    if values.size % 2:
        return float(np.partition(values, half)[half])
    low, high = np.partition(values, (half - 1, half))[half - 1 : half + 1]
    return float(low + high) / 2


def _likeness(a: NDArray, b: NDArray, weight: NDArray) -> float:
    """Weighted zero-mean normalised correlation, 0 where it is negative."""
    total = weight.sum()
    a = a - (a * weight).sum() / total
    b = b - (b * weight).sum() / total
    below = np.sqrt((weight * a * a).sum() * (weight * b * b).sum())
    return max(0.0, float((weight * a * b).sum() / below)) if below > 1e-9 else 0.0
