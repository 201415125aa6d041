"""What a feature seems to move by, because what is about it is stretched.

A feature is followed by its first pattern, which is only shifted (`features`). But a camera that turns by degrees draws
what is about a place wider or narrower, and one that nears draws it larger. Then the shift that fits best is not that
of the place itself: it is the mean of all shifts in the pattern, weighed by its slopes. Where the pattern's texture
lies to one side of the place it is off to that side; and the shifts of a picture that turns bend, by the square of the
distance, always the same way. Both last as long as the track does, and are hundredths to tenths of a pixel: more than
noise is, and no mean over features is free of the second.

Once a scene is known, it tells how each pattern is stretched in each view, and with the pattern's own slopes what that
shifts it by.

References
----------
The shift that fits a stretched pattern, by its normal equations: B. Lucas & T. Kanade 1981; that patterns are stretched
about as an affinity: J. Shi & C. Tomasi, Good features to track, 1994. What it does to the place is worked out here.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import kernel
from .bundle import Scene, Views
from .features import WINDOW, Pattern, Track

Array = NDArray[np.float32]
Matrix = NDArray[np.float64]
LEAST_DRAWN = 0.2  # of its area, below which a pattern is drawn too small to tell
SLOPE_OF_NOISE = 2 * (9 + 100 + 9) / 32**2  # variance of a slope by Scharr's weights, of white noise of variance 1
LEAST_OWN = 0.3  # of what a pattern's slopes are, that is not noise
TURNS, CLOSE_PX = 12, 0.003
MOST_PX = 1.5  # of a shift: by more the pattern is stretched beyond what it says of itself


class Stretches:
    """Shifts of features by the scene that they are part of; what their patterns say is worked out once."""

    def __init__(self) -> None:
        self._known: dict[int, tuple[Pattern, _Slopes]] = {}

    def taken_off(self, scene: Scene, tracks: list[Track], views: Views, order: list[int]) -> Views:
        """The views where the places themselves are seen.

        Parameters
        ----------
        tracks : of the scene's points, one each. order : the frame of each camera.
        """
        shifts = self.shifts_px(scene, tracks, views, order)
        return replace(views, seen=views.seen - shifts, taken=shifts) if shifts.any() else views

    def shifts_px(self, scene: Scene, tracks: list[Track], views: Views, order: list[int]) -> Matrix:
        """By how much each view is shifted, (n, 2) px; 0 for tracks of which no pattern is known."""
        index = {frame: camera for camera, frame in enumerate(order)}
        own = [
            track.pattern if track.pattern is not None and track.pattern.frame in index else None for track in tracks
        ]
        slot = np.cumsum([each is not None for each in own]) - 1
        out = np.zeros((len(views.point), 2))
        told = np.flatnonzero([own[point] is not None for point in views.point])
        if not told.size:
            return out
        patterns = [each for each in own if each is not None]
        first = np.array([index[pattern.frame] for pattern in patterns])
        point = views.point[told]
        which = slot[point]
        with np.errstate(divide="ignore", invalid="ignore"):  # of what lies beside a camera
            stretched, bent = drawn(scene, views.camera[told], first[which], scene.points[point])
        codes = np.stack([pattern.codes for pattern in patterns])
        at = np.array([pattern.at for pattern in patterns], np.float64)
        slopes = [self._slopes(pattern) for pattern in patterns]
        parts = [np.stack([getattr(each, name) for each in slopes]) for name in ("across", "down", "seen", "back")]
        shift = np.zeros((len(told), 2))
        run_bands(_shift_rows, len(told), codes, at, *parts, which, stretched, bent, shift)
        with np.errstate(invalid="ignore"):
            out[told] = _without_noise(shift, slopes, which, bent)
        return out

    def _slopes(self, pattern: Pattern) -> _Slopes:
        known = self._known.get(id(pattern))
        if known is None:  # the pattern is kept as well, so that no other takes its number
            known = self._known[id(pattern)] = (pattern, _slopes_of(pattern))
        return known[1]


@dataclass(frozen=True)
class _Slopes:
    """A pattern within its window: its slopes and what is seen, (side, side) float32; Σ g gᵀ and its inverse, (2, 2);
    and what noise adds to g gᵀ at each pixel, to both sides."""

    across: Array
    down: Array
    seen: Array
    whole: Matrix
    back: Matrix
    noise: float


def _slopes_of(pattern: Pattern) -> _Slopes:
    codes = pattern.codes.astype(np.float32)
    at = (float(pattern.at[0]), float(pattern.at[1]))
    ways = (cv2.Scharr(codes, cv2.CV_32F, *way) / np.float32(32) for way in ((1, 0), (0, 1)))
    across, down, seen = (np.asarray(cv2.getRectSubPix(each, WINDOW, at), np.float32) for each in (*ways, codes))
    g = np.stack([across.reshape(-1), down.reshape(-1)]).astype(np.float64)
    whole = g @ g.T
    back = np.asarray(np.linalg.pinv(whole, rcond=1e-6, hermitian=True), np.float64)
    return _Slopes(across, down, seen, whole, back, SLOPE_OF_NOISE * pattern.noise**2)


def _without_noise(shift: Matrix, slopes: list[_Slopes], which: NDArray[np.intp], bent: Matrix) -> Matrix:
    """The shifts that the pattern itself has, where its noise was drawn wider with it: of what is seen only the
    texture is, the noise of each frame is its own."""
    whole, noise = np.array([each.whole for each in slopes]), np.array([each.noise for each in slopes])
    count, square = WINDOW[0] * WINDOW[1], (WINDOW[0] ** 2 - 1) / 12  # pixels, and their mean squared distance one way
    size, ways = np.linalg.eigh(whole)
    own = np.maximum(size - count * noise[:, None], LEAST_OWN * size)
    back = np.einsum("nij,nj,nkj->nik", ways, 1 / np.maximum(own, 1e-12), ways)
    by_noise = 0.5 * count * square * (bent[:, :, 0, 0] + bent[:, :, 1, 1]) * noise[which, None]
    out = np.einsum("nij,nj->ni", back[which], np.einsum("nij,nj->ni", whole[which], shift) - by_noise)
    out[~np.isfinite(out).all(axis=1)] = 0  # of what lies behind the first camera, or beside it
    long = np.linalg.norm(out, axis=1, keepdims=True)
    return np.asarray(out * np.minimum(1, MOST_PX / np.maximum(long, 1e-9)))


@kernel
def _shift_rows(first, end, codes, at, across, down, seen, back, which, stretched, bent, out):  # type: ignore[no-untyped-def]
    """For each view the shift d at which Σ g (I(v) − I(u)) is 0 over the window, v being what is drawn at u + d."""
    side = across.shape[1]
    half = side // 2
    last = codes.shape[1] - 1.001
    for n in range(first, end):
        k = which[n]
        a, b, c, d = stretched[n, 0, 0], stretched[n, 0, 1], stretched[n, 1, 0], stretched[n, 1, 1]
        det = a * d - b * c
        if not abs(det) > LEAST_DRAWN:
            continue
        p, q, r, s = d / det, -b / det, -c / det, a / det
        bend = bent[n]
        u, v = 0.0, 0.0
        for _ in range(TURNS):
            gone_u, gone_v = 0.0, 0.0
            for j in range(side):
                for i in range(side):
                    x, y = i - half + u, j - half + v
                    x0, y0 = p * x + q * y, r * x + s * y  # and once more, for the bend
                    ex = x - 0.5 * (bend[0, 0, 0] * x0 * x0 + 2 * bend[0, 0, 1] * x0 * y0 + bend[0, 1, 1] * y0 * y0)
                    ey = y - 0.5 * (bend[1, 0, 0] * x0 * x0 + 2 * bend[1, 0, 1] * x0 * y0 + bend[1, 1, 1] * y0 * y0)
                    x0 = min(max(at[k, 0] + p * ex + q * ey, 0.0), last)
                    y0 = min(max(at[k, 1] + r * ex + s * ey, 0.0), last)
                    m, l = int(x0), int(y0)
                    fx, fy = x0 - m, y0 - l
                    top = codes[k, l, m] * (1 - fx) + codes[k, l, m + 1] * fx
                    low = codes[k, l + 1, m] * (1 - fx) + codes[k, l + 1, m + 1] * fx
                    off = top * (1 - fy) + low * fy - seen[k, j, i]
                    gone_u += across[k, j, i] * off
                    gone_v += down[k, j, i] * off
            step_u = back[k, 0, 0] * gone_u + back[k, 0, 1] * gone_v
            step_v = back[k, 1, 0] * gone_u + back[k, 1, 1] * gone_v
            u, v = u - step_u, v - step_v
            long = np.sqrt(u * u + v * v)
            if long > MOST_PX:
                u, v = u * MOST_PX / long, v * MOST_PX / long
            if step_u * step_u + step_v * step_v < CLOSE_PX**2:
                break
        out[n, 0], out[n, 1] = u, v


def drawn(scene: Scene, camera: NDArray[np.intp], first: NDArray[np.intp], points: Matrix) -> tuple[Matrix, Matrix]:
    """How what is about a point in the picture of its `first` camera is drawn in that of another, if it faces the
    first: the slopes of the one place by the other, (n, 2, 2), and their change by each px, (n, 2, 2, 2)."""
    turns, turns_first = scene.turns[camera], scene.turns[first]
    local = np.einsum("nij,nj->ni", turns_first, points[:, :3] - points[:, 3:] * scene.places[first])
    way = np.einsum("nij,nj->ni", turns, scene.places[first] - scene.places[camera])
    motion = turns @ turns_first.transpose(0, 2, 1)  # of places in focal lengths: a homography
    motion[:, :, 2] += way * (points[:, 3] / local[:, 2])[:, None]
    seen = np.einsum("nij,nj->ni", motion, local / local[:, 2:])
    last, flat = motion[:, 2, :2], seen[:, :2] / seen[:, 2:]
    slopes = (motion[:, :2, :2] - flat[:, :, None] * last[:, None]) / seen[:, 2, None, None]
    bent = slopes[:, :, None, :] * last[:, None, :, None] + slopes[:, :, :, None] * last[:, None, None, :]
    return slopes, -bent / (seen[:, 2, None, None, None] * scene.focal_px)
