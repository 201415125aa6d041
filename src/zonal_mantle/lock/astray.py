"""What of a frame does not go the way of a lock that speaks for all of it: features, frame by frame.

A turning camera, or one before a plane, carries all that is seen by one homography. Where the camera moves past things
that stand nearer and farther, none does (Hartley & Zisserman 2004, sections 8.4.2 and 13.1); a lock then follows what
fills most of the frame, and its own residuals, which are taken where it holds, say nothing of the rest. So each frame
is laid onto one that shares most of what it sees, by the lock alone, and features are looked for beside their places.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import between_centres, carry
from ..shot.lock import Lock
from ..words import say
from .bend import bent, straightened
from .features import BACK_PX, WINDOW, codes_of

Array = NDArray[np.float32]
Codes = NDArray[np.uint8]
Matrix = NDArray[np.float64]

WORKING_PX = 640  # the longer side of what is looked at
LEAST_SHARED = 0.6  # of a frame that the other still sees
WANTED, LEAST_FEATURES, APART_PX = 300, 50, 8
ASTRAY_PX, MANY = 1.0, 0.25  # working pixels beside its place; the share of features that is more than things that pass
TRIMMED = 95.0  # per cent of features that are believed
SOFT_PX, ALIKE = 1.2, 18.0  # working pixels that grain is smoothed over, and how many of them then go together
FIRM_PX, DEVIATIONS = 0.25, 4.0  # a feature's own standard deviation at most; from how many of it on it lies beside
SLOPES = 8 / (4 * WINDOW[0] * 255)  # by which OpenCV scales slopes in windows of that size


@dataclass(frozen=True)
class Astray:
    """By how much features lie beside where a lock has them, px, root mean square, by frame, where many do; and the
    frame where it is most, with the share of features that do there."""

    px: dict[int, float]
    share: float = 0.0
    frame: int = 0

    def words(self) -> str:
        """What is seen, and what helps."""
        return say(
            "{share:.0%} of what frame {frame} shows does not move as the lock has it, by {by:.1f} px: the camera "
            "moves past near and far things, or much of the frame moves by itself. Use a camera lock, draw the field "
            "over what is as far as what will ride on it, or exclude what moves.",
            share=self.share,
            frame=self.frame,
            by=self.px[self.frame],
        )


def astray(
    lock: Lock,
    feed_of: Callable[[int], Array],
    field: Array,
    cover_of: Callable[[int], Array | None],
    bend: float = 0.0,
    left: float = 0.0,
    progress: Callable[[], None] = lambda: None,
) -> Astray:
    """Looks for features beside where a solved lock has them.

    Parameters
    ----------
    lock : solved, of a field that stays or a turning camera.
    field : (h, w), 1 where the lock looks. cover_of : what of a frame counts. bend : of the lens, see `bend_of`.
    left : what a codec leaves out about a pattern, of a range of 1, see `codec.left_out`.

    Example
    -------
    >>> from zonal_mantle.shot import LockFrame
    >>> rough = cv2.GaussianBlur(np.random.default_rng(1).random((240, 700), np.float32), (0, 0), 2)
    >>> def feed(frame):  # the upper half moves by 3 px a frame, the lower by 6
    ...     return np.vstack([rough[:120, 3 * frame :][:, :320], rough[120:, 6 * frame :][:, :320]])
    >>> ways = [(1.0, 0.0, -3.0 * k, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0) for k in range(4)]
    >>> solved = tuple(LockFrame(frame=k, homography=way) for k, way in enumerate(ways))
    >>> pan = Lock(id="l", name="L", kind="pan", reference_frame=0, solved=solved)
    >>> found = astray(pan, feed, np.ones((240, 320), np.float32), lambda frame: None)
    >>> found.frame, 0.3 < found.share < 0.6, found.px[3] > 3
    (3, True, True)
    """
    ways = {entry.frame: np.reshape(entry.homography, (3, 3)) for entry in lock.solved}
    looks = feed_of, field, cover_of, left
    start, px, shares = lock.reference_frame, dict[int, float](), dict[int, float]()
    for way in (sorted(f for f in ways if f > start), sorted((f for f in ways if f < start), reverse=True)):
        key, of_key, of_before, before, seen = _Key(start, *looks), 0.0, 0.0, start, _Seen()
        for frame in way:
            progress()
            if key.shares(ways[frame] @ np.linalg.inv(ways[key.frame])) < LEAST_SHARED and before != key.frame:
                key, of_key = _Key(before, *looks), px.get(before, 0.0)
            now = key.beside(feed_of(frame), ways[frame] @ np.linalg.inv(ways[key.frame]), bend)
            again = now.share > MANY and seen.share > MANY  # what a blur that differs does is gone on the next frame
            if again:
                px[before] = max(px.get(before, 0.0), of_before + seen.by)
                shares[frame] = now.share
            px[frame] = of_key + now.by if again else of_key
            before, of_before, seen = frame, of_key, now
    if not shares:
        return Astray({})
    worst = max(shares, key=lambda frame: px[frame])
    return Astray({frame: by for frame, by in px.items() if by > 0}, shares[worst], worst)


@dataclass(frozen=True)
class _Seen:
    """The share of features that lie beside their places on a frame, and by how much all do, px."""

    share: float = 0.0
    by: float = 0.0


class _Key:
    """A frame that others are laid onto, with its features."""

    def __init__(
        self, frame: int, feed_of: Callable[[int], Array], field: Array, cover_of: Callable[[int], Array | None],
        left: float,
    ) -> None:  # fmt: skip
        feed, cover = feed_of(frame), cover_of(frame)
        self.frame, self.full = frame, (feed.shape[1], feed.shape[0])
        self.fit = min(1.0, WORKING_PX / max(feed.shape))
        low, high = np.percentile(feed[::4, ::4], [0.5, 99.5])
        self.left, self.stretch = left, 255 / max(float(high - low), 1e-3)
        self.codes = self._small(feed)
        where = field if cover is None else field * cover
        mask = cv2.resize((where > 0.5).astype(np.uint8), self.codes.shape[::-1], interpolation=cv2.INTER_NEAREST)
        found = cv2.goodFeaturesToTrack(self.codes, WANTED, 0.01, APART_PX, mask=mask, blockSize=5)
        self.places, self.strength = np.zeros((0, 1, 2), np.float32), np.zeros(0)
        if found is not None:
            strength = cv2.cornerMinEigenVal(self.codes, WINDOW[0], ksize=3).astype(np.float64)
            self.places = np.asarray(found, np.float32)
            self.strength = strength[found[:, 0, 1].astype(int), found[:, 0, 0].astype(int)] / SLOPES**2

    def _small(self, feed: Array) -> Codes:
        small = cv2.resize(feed, None, fx=self.fit, fy=self.fit, interpolation=cv2.INTER_AREA)
        return codes_of(np.asarray(cv2.GaussianBlur(small, (0, 0), SOFT_PX), np.float32))

    def shares(self, motion: Matrix) -> float:
        """How much of it a frame sees that it is carried to."""
        width, height = self.full
        places = np.array([[x, y] for x in np.linspace(0, width, 9) for y in np.linspace(0, height, 7)])
        there = carry(motion, places)
        return float(((there >= 0) & (there <= (width, height))).all(axis=1).mean())

    def beside(self, feed: Array, motion: Matrix, bend: float) -> _Seen:
        """The share of features that lie beside where a motion has them on a frame, and by how much all of them do,
        root mean square, px; nothing where too few are found."""
        codes, scale = self._small(feed), np.diag([self.fit, self.fit, 1.0])
        way = scale @ motion @ np.linalg.inv(scale)
        flags = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
        laid = cv2.warpPerspective(codes, between_centres(way), codes.shape[::-1], flags=flags)
        rim, half = WINDOW[0] // 2, np.array(codes.shape[::-1])
        at = self.places
        there = carry(way, at.reshape(-1, 2).astype(float))
        inside = ((there > rim) & (there < half - rim)).all(axis=1)
        at, strength = at[inside], self.strength[inside]
        if len(at) < LEAST_FEATURES:
            return _Seen()
        found, held, unlike = cv2.calcOpticalFlowPyrLK(self.codes, laid, at, at.copy(), winSize=WINDOW, maxLevel=3)  # type: ignore[call-overload]
        back, again, _ = cv2.calcOpticalFlowPyrLK(laid, self.codes, found, at.copy(), winSize=WINDOW, maxLevel=3)  # type: ignore[call-overload]
        good = (held.ravel() > 0) & (again.ravel() > 0) & (np.linalg.norm(back - at, axis=2).ravel() < BACK_PX)
        mean = np.where(held > 0, unlike, 0).ravel().astype(np.float64)  # where it is not held it is no number
        of_grain = ALIKE * (1.2533 * mean) ** 2
        of_codec = WINDOW[0] * WINDOW[1] * (self.left * self.stretch) ** 2  # it moves all of a pattern alike
        deviation = np.sqrt((of_grain + of_codec) / np.maximum(strength, 1e-9))
        good &= deviation < FIRM_PX
        if good.sum() < LEAST_FEATURES:
            return _Seen()
        a, b = (each[good].reshape(-1, 2).astype(float) + 0.5 for each in (at, found))
        wanted = a
        if bend:
            full = self.full
            seen = bent(carry(motion, straightened(a / self.fit, bend, full)), bend, full)
            wanted = carry(np.linalg.inv(motion), seen) * self.fit
        off = np.linalg.norm(b - wanted - np.median(b - wanted, axis=0), axis=1)  # blurs that differ shift all of them
        near = off[off <= np.percentile(off, TRIMMED)]
        beside = off > np.maximum(ASTRAY_PX, DEVIATIONS * deviation[good])
        return _Seen(float(beside.mean()), float(np.sqrt((near**2).mean())) / self.fit)
