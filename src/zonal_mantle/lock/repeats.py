"""Texture that repeats: by what it looks alike once it is moved, and whether the picture tells such motions apart.

A fence or a row of windows can be found a period off as well as where it is, and weights that are robust take all that
does not repeat for something in front. So such motions are tried as a start, and weighed against one another by
everything in view: what does not repeat (light, clouds, grain of the wall, a crack) is unlike in most parts of the
area for all of them but one. Where one frame does not tell it, frames that a smooth motion ties together do if they do
so on the whole; and where these do not either, nothing does, and that is said.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from typing import NamedTuple
from weakref import WeakKeyDictionary

import cv2
import numpy as np
from numpy.typing import NDArray

from .align import Area
from .level import shrunk_to, to_arrays

Array = NDArray[np.float32]
Matrix = NDArray[np.float64]
ALIKE = 0.5  # autocorrelation from which a texture counts as repeating
LEAST_PX, MOST_SHARE = 5, 0.3  # periods that are looked for: in pixels, and of the area's width and height
SMOOTH_PX = 16.0  # what is wider is no texture
ALONG = 1.5  # periods, within which nothing may change along a way
VALLEY = 0.4  # before a peak it looks less alike than that
NEARLY, ELSEWHERE = 0.8, 0.3  # of the best likeness; sine of the angle between two ways to repeat
LEAST_PARTS, WANTED_PARTS = 12, 30  # of an area, that vote
SCALES = (0.0, 0.5, 1.0)  # in periods, over which what is left is averaged before it is weighed
CODEC_LEAVES = (0.25, 0.07, 0.045)  # of a quantiser's step, that a codec's own errors leave at these scales
PART_PERIODS, PART_SCALES, LEAST_PART_PX = 2.0, 4.0, 12  # sides of parts: in periods, in averages, and at least
MOST_VOTE, VOTES_GIVE = 2.0, 0.06  # of a part; by which the mean of all may be off, a motion being never quite right
OPPOSED = 3.0  # deviations by which scales may not contradict one another
LEAST_SHOWN_PX = 6.0  # of a period, at a size
LARGE_PX = 500_000  # a larger area is looked at at half its size


class Repeats(NamedTuple):
    """Shifts (x, y, px) by which an area looks like itself, both ways of each, and a way (x, y, of length 1) along
    which hardly anything in it changes, as along posts; None where there is none."""

    shifts: list[tuple[float, float]]
    along: tuple[float, float] | None = None

    @property
    def shortest_px(self) -> float:
        """The shortest of the shifts."""
        return min((float(np.hypot(x, y)) for x, y in self.shifts), default=np.inf)


_known: WeakKeyDictionary[Area, Repeats] = WeakKeyDictionary()  # it takes as long as to find an area twice


def repeats_of(area: Area) -> Repeats:
    """By what an area looks like itself; no shifts where it does not. An area that was looked at is known.

    References
    ----------
    The autocorrelation by Wiener and Khinchin's theorem, over the pixels that both of a shifted pair have.
    """
    if area not in _known:
        _known[area] = _looked_over(area)
    return _known[area]


def _looked_over(area: Area) -> Repeats:
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
        return Repeats([])
    part = (slice(cy - reach_y, cy + reach_y + 1), slice(cx - reach_x, cx + reach_x + 1))
    alike = (own[part] / np.maximum(both[part], 0.05 * both[cy, cx])) / (own[cy, cx] / both[cy, cx])
    alike = alike.astype(np.float32)
    peaks = (alike >= cv2.dilate(alike, np.ones((7, 7)))) & (alike > ALIKE)
    ys, xs = np.nonzero(peaks)
    found = [
        (float(alike[y, x]), float(x - reach_x) * unit, float(y - reach_y) * unit)
        for y, x in zip(ys, xs)
        if np.hypot(x - reach_x, y - reach_y) * unit >= LEAST_PX
    ]

    def changes(x: float, y: float) -> bool:
        """Whether it looks less alike on the straight way to a shift: along posts nothing changes, which is no
        period."""
        xs, ys = (
            (np.linspace(0, end / unit, 33) + reach).round().astype(int) for end, reach in ((x, reach_x), (y, reach_y))
        )
        if min(xs.min(), ys.min()) < 0 or xs.max() > 2 * reach_x or ys.max() > 2 * reach_y:
            return False
        return bool(alike[ys, xs].min() < VALLEY)

    out = Repeats(_shortest([each for each in found if changes(*each[1:])], changes))
    far = ALONG * out.shortest_px
    angles = np.radians(np.arange(0, 180, 5))
    ways = [(float(np.cos(angle)), float(np.sin(angle))) for angle in angles] if out.shifts else []
    along = next(
        (way for way in ways if far < min(reach_y, reach_x) * unit and not changes(far * way[0], far * way[1])), None
    )
    return out._replace(along=along)


def _shortest(
    found: list[tuple[float, float, float]], changes: Callable[[float, float], bool]
) -> list[tuple[float, float]]:
    """Of shifts, with how alike each is, the shortest that are nearly as alike as the best, and the shortest that lead
    elsewhere; both ways of each."""
    best = max((alike for alike, _, _ in found), default=0.0)
    good = sorted((float(np.hypot(x, y)), x, y) for alike, x, y in found if alike > NEARLY * best)
    if not good:
        return []
    length, a, b = good[0]
    out = [(a, b), (-a, -b)]
    for far, x, y in good[1:]:
        times = round((x * a + y * b) / length**2)
        elsewhere = abs(x * b - y * a) > ELSEWHERE * length * far
        if elsewhere and changes(x - times * a, y - times * b):
            return [*out, (x, y), (-x, -y)]
    return out


def near_sizes(period: float) -> int:
    """How many sizes of a pyramid show a period (px) as such; smaller ones show something else in its place."""
    return 1 + max(int(np.log2(max(period / LEAST_SHOWN_PX, 1.0))), 0)


class Parts(NamedTuple):
    """What a motion leaves over in parts of an area: its power at each of `SCALES`, by part, and how much of each part
    is seen."""

    power: list[NDArray[np.float64]]
    seen: list[NDArray[np.float64]]


def left_in_parts(area: Area, feeds: list[Array], motion: Matrix, cover: Array | None, period: float) -> Parts:
    """What is left over between an area and another frame, everything in view counted alike.

    Light that changes slowly over the frame (exposure, vignetting) stays with the frame and not with what is filmed: it
    is taken out first, as surfaces of the third degree, with a gain that changes over the frame too.

    Parameters
    ----------
    feeds : the other frame's `pyramid`. cover : (h, w), what of it counts. period: px, of what repeats.
    """
    k = int(area.levels[0].pixels.size > LARGE_PX and len(area.levels) > 1 and near_sizes(period) > 1)
    level, feed = area.levels[k], feeds[k]
    way, flags = to_arrays(motion, level.origin, 2**k), cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
    rows, columns = level.pixels.shape
    counts = np.ones_like(feed) if cover is None else shrunk_to(cover, feed.shape)
    view, seen = (
        np.asarray(cv2.warpPerspective(each, way, (columns, rows), flags=flags), np.float32) for each in (feed, counts)
    )
    seen *= level.mask
    rest = _without_light(view, level.pixels, seen)
    out, period = Parts([], []), period / 2**k
    for scale in SCALES:
        wide, sums, counted = scale * period, np.asarray(rest * seen, np.float32), seen
        if wide:
            shrink = max(int(wide / 2), 1)
            size = columns // shrink, rows // shrink
            sums, counted = (_averaged(each, size, wide / shrink) for each in (sums, seen))
        some = np.sqrt(rows * columns / WANTED_PARTS)
        side = max(min(PART_PERIODS * period, some), PART_SCALES * wide, LEAST_PART_PX)
        count = max(int(columns / side), 1), max(int(rows / side), 1)
        share = cv2.resize(counted, count, interpolation=cv2.INTER_AREA)
        power = cv2.resize(sums**2 / (counted + 1e-3), count, interpolation=cv2.INTER_AREA)
        out.power.append(np.asarray(power / np.maximum(share, 1e-6), float).reshape(-1))
        out.seen.append(np.asarray(share, float).reshape(-1))
    return out


def _averaged(picture: Array, size: tuple[int, int], wide: float) -> Array:
    small = cv2.resize(picture, size, interpolation=cv2.INTER_AREA)
    return np.asarray(cv2.GaussianBlur(small, (0, 0), wide), np.float32)


def _without_light(view: Array, own: Array, seen: Array) -> Array:
    """A view less the area's own pixels, with what differs in light over the frame taken out (robust least squares on
    every third pixel)."""
    shape = _slow(*own.shape)
    tone = own - float(own.mean())
    some = (slice(None, None, 3), slice(None, None, 3))
    slow, gains = shape[some].reshape(-1, 10), tone[some].reshape(-1, 1) * shape[some].reshape(-1, 10)[:, :6]
    table, target = np.concatenate([slow, gains], axis=1), (view - own)[some].reshape(-1)
    counts = seen[some].reshape(-1) > 0.5
    weight, numbers = counts.astype(np.float32), np.zeros(16, np.float32)
    for _ in range(3):
        square = table.T @ (table * weight[:, None]) + 1e-6 * np.eye(16, dtype=np.float32)
        numbers = np.linalg.solve(square, table.T @ (target * weight))
        off = np.abs(target - table @ numbers)
        usual = float(np.median(off[counts])) if counts.any() else 1.0
        weight = np.where(counts, 1 / np.maximum(off / max(3 * usual, 1e-6), 1), 0).astype(np.float32)
    return np.asarray(view - own - shape @ numbers[:10] - tone * (shape[..., :6] @ numbers[10:]), np.float32)


@lru_cache(maxsize=8)
def _slow(rows: int, columns: int) -> Array:
    """What changes slowly over an area: the products of its two coordinates up to the third degree. (h, w, 10)."""
    v, u = np.mgrid[-1 : 1 : rows * 1j, -1 : 1 : columns * 1j].astype(np.float32)
    return np.stack([np.ones_like(u), u, v, u * u, u * v, v * v, u**3, u * u * v, u * v * v, v**3], axis=-1)


def slid(area: Area, feeds: list[Array], motion: Matrix, cover: Array | None, repeats: Repeats) -> Matrix:
    """A motion with the slide along what hardly changes by which all in view is the most alike: few things there tell
    it, which robust weights take for something in front."""
    if repeats.along is None:
        return motion
    k = min(near_sizes(repeats.shortest_px), len(area.levels)) - 1
    level, feed, flags = area.levels[k], feeds[k], cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
    counts = np.ones_like(feed) if cover is None else shrunk_to(cover, feed.shape)
    best, least = motion, np.inf
    for far in np.arange(-repeats.shortest_px, repeats.shortest_px + 1, 2.0**k):
        there = motion @ shifted(far * repeats.along[0], far * repeats.along[1])
        way, size = to_arrays(there, level.origin, 2**k), level.pixels.shape[::-1]
        view, seen = (np.asarray(cv2.warpPerspective(each, way, size, flags=flags)) for each in (feed, counts))
        weight = seen * level.mask
        total = float(weight.sum())
        if total < 0.3 * level.total:
            continue
        rest = (view - level.pixels).ravel()
        mean = float(rest @ weight.ravel()) / total
        unlike = float((rest * rest) @ weight.ravel()) / total - mean**2
        if unlike < least:
            best, least = there, unlike
    return best


def more_alike(a: Parts, b: Parts, codec_step: float = 0.0) -> float:
    """By how many standard deviations one motion is more alike than another (b), by the votes of parts; 0 where the
    scales contradict one another.

    Each part votes with the logarithm of the ratio of what is left over in it: what passes in front, and is large in
    both, votes for neither. A codec that predicts frames carries its own errors along by the motion that it found
    cheapest to write down, which may be a period off: what differs by no more than these does not vote.

    Parameters
    ----------
    codec_step : of its quantiser, of a range of 1; 0 where there is none.
    """
    found = []
    for power_a, power_b, seen_a, seen_b, share in zip(a.power, b.power, a.seen, b.seen, CODEC_LEAVES):
        both = (seen_a > 0.5) & (seen_b > 0.5)
        if both.sum() < LEAST_PARTS:
            continue
        if abs(float((power_b[both] - power_a[both]).mean())) < (share * codec_step) ** 2:
            found.append(0.0)
            continue
        votes = np.log(np.maximum(power_b[both], 1e-12) / np.maximum(power_a[both], 1e-12))
        votes = np.clip(votes, -MOST_VOTE, MOST_VOTE)
        usual = 1.4826 * float(np.median(np.abs(votes - np.median(votes))))
        found.append(float(votes.mean()) / float(np.hypot(usual / np.sqrt(both.sum()), VOTES_GIVE)))
    if not found or (max(found) > OPPOSED and min(found) < -OPPOSED):
        return 0.0
    return max(found, key=abs)


def shifted(x: float, y: float) -> Matrix:
    """The motion (3, 3) by a shift, px."""
    return np.array([[1, 0, x], [0, 1, y], [0, 0, 1.0]])


def apart_px(a: Matrix, b: Matrix) -> float:
    """How far apart two motions carry the frame's corner, px."""
    return float(np.hypot(*(a[:2, 2] / a[2, 2] - b[:2, 2] / b[2, 2])))
