"""What of a field does not go the way of a lock that speaks for all of it: its blocks, frame by frame.

A turning camera, or one before a plane, carries all that is seen by one homography. Where the camera moves past things
that stand nearer and farther, none does (Hartley & Zisserman 2004, sections 8.4.2 and 13.1); a lock then follows what
fills most of the frame, and its own residuals, which are taken where it holds, say nothing of the rest. So each frame
is laid onto one that shares most of what it sees, by the lock alone, and its blocks are looked for beside their places.
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
from .blocks import Blocks

Array = NDArray[np.float32]
Matrix = NDArray[np.float64]

WORKING_PX = 640  # the longer side of what is looked at
BLOCK_PX, ACROSS = (24, 54), 12  # working pixels of a block; and how many there should be, across
LEAST_SHARED = 0.6  # of what a frame shows that the other still sees
LEAST_BLOCKS, LEAST_SIDE = 12, 24  # that are found; and pixels of a field's shorter side
ASTRAY_PX, MANY = 0.7, 0.2  # working pixels beside its place; the share of blocks that is more than things that pass
TRIMMED = 95.0  # per cent of blocks that are believed
FIRM_PX, DEVIATIONS = 0.4, 4.0  # a block's own standard deviation at most; from how many of it on it lies beside
RIM = np.ones((9, 9), np.uint8)  # beside what a frame does not see


@dataclass(frozen=True)
class Astray:
    """By how much blocks lie beside where a lock has them, px, root mean square, by frame, where many do; and the frame
    where it is most, with the share of blocks that do there. stays : whether the field does; else it rides."""

    px: dict[int, float]
    share: float = 0.0
    frame: int = 0
    stays: bool = True

    def words(self) -> str:
        """What is seen, and what helps."""
        seen = say(
            "{share:.0%} of what frame {frame} shows does not move as the lock has it, by {by:.1f} px",
            share=self.share,
            frame=self.frame,
            by=self.px[self.frame],
        )
        if self.stays:
            return say(
                "{seen}: the camera moves past near and far things, or much of the frame moves by itself. Use a camera "
                "lock, draw the field over what is as far as what will ride on it, or exclude what moves.",
                seen=seen,
            )
        return say(
            "{seen}: the field holds more than one plane, or things that move by themselves. Draw it over one thing, "
            "or exclude what moves.",
            seen=seen,
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
    """Looks for the blocks of a field beside where a solved lock has them.

    Parameters
    ----------
    lock : solved, a plane or a turning camera.
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
    >>> found.frame, 0.3 < found.share < 0.6, bool(found.px[3] > 3)
    (3, True, True)
    """
    if min(cv2.boundingRect((field > 0.5).astype(np.uint8))[2:]) < LEAST_SIDE:
        return Astray({})
    stays = lock.kind != "plane" or lock.field_stays
    ways = {entry.frame: np.reshape(entry.homography, (3, 3)) for entry in lock.solved}
    looks = feed_of, field, cover_of, left
    start, px, shares = lock.reference_frame, dict[int, float](), dict[int, float]()
    for way in (sorted(f for f in ways if f > start), sorted((f for f in ways if f < start), reverse=True)):
        key, of_key, before = _Key(start, *looks), 0.0, start
        for frame in way if stays else [*way[:-1:2], *way[-1:]]:  # a plane goes on much as it did
            progress()
            share = key.shares(ways[frame] @ np.linalg.inv(ways[key.frame]))
            if stays and share < LEAST_SHARED and before != key.frame:
                key, of_key = _Key(before, *looks), px.get(before, 0.0)
            now = key.beside(feed_of(frame), cover_of(frame), ways[frame] @ np.linalg.inv(ways[key.frame]), bend)
            px[frame], before = of_key, frame
            if now.share > MANY:
                px[frame], shares[frame] = of_key + now.by, now.share
        for before, frame, after in zip(way, way[1:], way[2:]):
            if frame not in px:
                px[frame] = max(px[before], px[after])
    if not shares:
        return Astray({})
    worst = max(shares, key=lambda frame: px[frame])
    return Astray({frame: by for frame, by in px.items() if by > 0}, shares[worst], worst, stays)


@dataclass(frozen=True)
class _Seen:
    """The share of blocks that lie beside their places on a frame, and by how much all do, px."""

    share: float = 0.0
    by: float = 0.0


class _Key:
    """A frame that others are laid onto, cut into blocks."""

    def __init__(
        self, frame: int, feed_of: Callable[[int], Array], field: Array, cover_of: Callable[[int], Array | None],
        left: float,
    ) -> None:  # fmt: skip
        feed, cover = feed_of(frame), cover_of(frame)
        self.frame, self.full, self.left = frame, (feed.shape[1], feed.shape[0]), left
        x, y, wide, high = cv2.boundingRect((field > 0.5).astype(np.uint8))
        self.corners = np.array([[x, y], [x + wide, y], [x, y + high], [x + wide, y + high]], float)
        fit = min(1.0, WORKING_PX / max(wide, high, 1))
        self.scale = np.array([[fit, 0, -fit * x], [0, fit, -fit * y], [0, 0, 1]])
        self.fit, self.size = fit, (max(round(fit * wide), 1), max(round(fit * high), 1))
        low, high_code = np.percentile(feed[::4, ::4], [0.5, 99.5])
        self.stretch = np.float32(1 / max(float(high_code - low), 1e-3))
        where = self._small(field if cover is None else field * cover, np.eye(3))
        side = float(np.clip(max(self.size) / ACROSS, *BLOCK_PX))
        grid = max(round(self.size[1] / side), 1), max(round(self.size[0] / side), 1)
        self.blocks = Blocks(self._small(feed, np.eye(3)) * self.stretch, where, grid)

    def _small(self, picture: Array, motion: Matrix) -> Array:
        """A frame at the working size, laid onto this one; 0 beyond it."""
        few = cv2.resize(picture, None, fx=self.fit, fy=self.fit, interpolation=cv2.INTER_AREA)
        seen = np.array(few.shape[::-1]) / np.array(picture.shape[::-1])
        way = np.diag([*seen, 1.0]) @ motion @ np.linalg.inv(self.scale)
        flags = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
        return np.asarray(cv2.warpPerspective(few, between_centres(way), self.size, flags=flags), np.float32)

    def shares(self, motion: Matrix) -> float:
        """How much of what it shows a frame sees that it is carried to."""
        (left, top), (right, foot) = self.corners[0], self.corners[3]
        places = np.array([[x, y] for x in np.linspace(left, right, 9) for y in np.linspace(top, foot, 7)])
        there = carry(motion, places)
        return float(((there >= 0) & (there <= self.full)).all(axis=1).mean())

    def beside(self, feed: Array, cover: Array | None, motion: Matrix, bend: float) -> _Seen:
        """The share of blocks that lie beside where a motion has them on a frame, of which `cover` counts, and by how
        much all of them do, root mean square, px; nothing where too few are found."""
        if cover is None and self.shares(motion) == 1:  # all of it is seen
            seen = np.ones(self.size[::-1], np.float32)
        else:
            shown = self._small(np.ones_like(feed) if cover is None else cover, motion)
            seen = np.asarray(cv2.erode(shown, RIM), np.float32)
        found = self.blocks.beside(self._small(feed, motion) * self.stretch, seen)
        of_codec = self.left * self.stretch / np.maximum(found.slope, 1e-9)  # it moves all of a pattern alike
        deviation = np.hypot(found.deviation, of_codec)
        good = found.found & (deviation < FIRM_PX)
        if good.sum() < LEAST_BLOCKS:
            return _Seen()
        shift = found.px.astype(np.float64)
        if bend:
            rows, columns = self.blocks.grid
            x, y = np.meshgrid((np.arange(columns) + 0.5) / columns, (np.arange(rows) + 0.5) / rows)
            middles = carry(np.linalg.inv(self.scale), np.stack([x, y], axis=2).reshape(-1, 2) * self.size)
            there = bent(carry(motion, straightened(middles, bend, self.full)), bend, self.full)
            wanted = (carry(np.linalg.inv(motion), there) - middles) * self.fit
            shift = shift - wanted.reshape(shift.shape)
        off, loose = np.linalg.norm(shift, axis=2)[good], deviation[good]
        beside = off > np.maximum(ASTRAY_PX, DEVIATIONS * loose)
        near = off <= np.percentile(off, TRIMMED)
        by = np.sqrt(max(float((off[near] ** 2 - 2 * loose[near] ** 2).mean()), 0.0))
        return _Seen(float(beside.mean()), by / self.fit)
