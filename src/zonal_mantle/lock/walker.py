"""Going one way through a shot with a field that stays: key frames, what is linked to them, and repeats decided."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray

from ..geometry import carry
from ..shot.lock import Lock
from ..words import mark, say
from .align import Area, Fit
from .blur import Blur, Course, Exposure, always
from .chain import Link
from .check import is_cut
from .fuller import against_fuller
from .level import pyramid
from .plane import confidence_of
from .repeats import Parts, Repeats, left_in_parts, repeats_of, shifted
from .rivalry import Doubts, Rivalry, Untold, decided, nearby, repeating

Array = NDArray[np.float32]
Matrix = NDArray[np.float64]
NEW_KEY = 0.65  # where less of the field is still in view a frame becomes the next key
NEW_KEY_REPEATS = 0.85  # the same for a texture that repeats: what tells repeats apart fades with the distance
LINKED = 0.35  # frames that share at least this much are measured against one another
WORST_LINK_PX = 1.5
GRID = (4, 3)
STARTS = 3  # from which a texture that repeats is looked for: one of them may slide along what does not change
CUT_WORDS = mark("there is a cut between frame {frame} and the next.")


@dataclass
class Key:
    """A frame that others are measured against: its area, how it moved, and the motion to the last frame."""

    frame: int
    area: Area
    step: NDArray[np.float64]
    motion: Matrix

    @property
    def repeats(self) -> Repeats:
        """By what its texture repeats."""
        return repeats_of(self.area)


class Walker:
    """Goes one way through the shot, frame by frame, and keeps the keys that are still in view."""

    def __init__(
        self,
        lock: Lock,
        feed_of: Callable[[int], Array],
        mask: Array,
        cover_of: Callable[[int], Array | None],
        start: int,
        codec_step: float = 0.0,
    ) -> None:
        self.codec_step = codec_step
        self.lock, self.feed_of, self.mask, self.cover_of = lock, feed_of, mask, cover_of
        self.links: list[Link] = []
        self.keys: list[Key] = []
        self.doubts, self.period_px = Doubts(), 0.0  # of the texture that repeats
        self.middle = np.array([mask.shape[1] / 2, mask.shape[0] / 2])
        self.exposure = Exposure.of(lock.shutter_deg)
        self.before: Matrix = np.eye(3)  # the step from the frame before the last to the last
        self.moves = False  # whether that is known
        self.last = start
        self._add_key(start, pyramid(feed_of(start), 5))

    def step(self, frame: int) -> str:
        """Links one more frame; says why where that cannot be done."""
        feed, cover = self.feed_of(frame), self.cover_of(frame)
        feeds = pyramid(feed, 5)
        apart = abs(frame - self.last)  # more than one frame after a flash
        if apart > 1 and is_cut(feed, self.feed_of(self.last)):
            return say(CUT_WORDS, frame=min(frame, self.last))
        for key in reversed(list(self.keys)):
            newest = key is self.keys[-1]
            fit = self._align(key, frame, feeds, cover, thorough=newest)
            if fit is None and newest and key.frame != self.last:
                key = self._add_key(self.last, pyramid(self.feed_of(self.last), 5)) or key
                fit = self._align(key, frame, feeds, cover, thorough=True)
            if fit is None and newest:
                if is_cut(feed, self.feed_of(self.last)):
                    return say(CUT_WORDS, frame=min(frame, self.last))
                return (
                    repeating(key.repeats.shortest_px)
                    if key.repeats.shifts
                    else say("what is seen through the field cannot be found again.")
                )
            if fit is None:
                self.keys.remove(key)
                continue
            self.exposure.learn(fit.left)
            points = _grid(key.area, fit.homography, feed.shape)
            fit = against_fuller(key.area, feeds, fit, self.lock.moves, cover, always(self._blur(key)))
            self.links.append(linked(key.area, key.frame, frame, fit, points))
            if newest and apart == 1:
                step = fit.homography @ np.linalg.inv(key.motion)
                self.before, self.moves = step / step[2, 2], True
            key.motion = fit.homography
        newest_key = self.keys[-1]
        least = NEW_KEY_REPEATS if newest_key.repeats.shifts else NEW_KEY
        if _shared(newest_key.area, newest_key.motion, feed.shape) < least:
            self._add_key(frame, feeds)
        self.last = frame
        return ""

    def untold(self) -> Untold:
        """What is not told of by how many periods of a texture the picture moved; single frames lose their links."""
        out = self.doubts.untold(self.lock.reference_frame, {link.key for link in self.links})
        self.links = [link for link in self.links if link.frame not in out.alone]
        return out

    def _align(self, key: Key, frame: int, feeds: list[Array], cover: Array | None, thorough: bool) -> Fit | None:
        """A key's field on a frame, from where the motion so far would bring it; both blurred alike."""
        blur, expected = self._blur(key), self.before @ key.motion

        def find(guess: Matrix, top: int | None = None) -> Fit | None:
            fit = key.area.find(feeds, guess, self.lock.moves, cover, lambda at: blur, top)
            return fit if fit is not None and self._is_good(fit) else None

        def left(motion: Matrix) -> Parts:
            return left_in_parts(key.area, feeds, motion, cover, repeats.shortest_px)

        repeats = key.repeats
        find_near = nearby(key.area, feeds, cover, repeats, find)
        still, anywhere = partial(find, key.motion), lambda: find(key.area.start(feeds, key.motion))
        tries: list[Callable[[], Fit | None]] = [partial(find, expected), still, anywhere]
        if repeats.shifts:
            between = [partial(find_near, expected @ shifted(x / 2, y / 2)) for x, y in repeats.shifts[:2]]
            tries = [partial(find_near, expected), *between, partial(find, expected), anywhere, still]
        wanted, found = STARTS if thorough and repeats.shifts else 1, list[Fit]()
        for attempt in tries if thorough else tries[: 3 if repeats.shifts else 1]:
            fit = attempt()
            if fit is None or not (thorough or _shared(key.area, fit.homography, feeds[0].shape) > LINKED):
                continue
            found.append(fit)
            if len(found) == wanted:
                break
        if not found or not repeats.shifts:
            return found[0] if found else None
        shifts = repeats.shifts if thorough else repeats.shifts[:2]
        rivalry = Rivalry(shifts, find_near, left, self.codec_step)
        for fit in found:
            rivalry.add(fit)
        found_so = decided(rivalry, expected if self.moves else None, self.middle)
        self.doubts.note(frame, found_so)
        self.period_px = repeats.shortest_px
        return found_so.fit

    def _blur(self, key: Key) -> Blur:
        """How a key and the next frame are blurred, by the motion so far."""
        return Blur(Course(key.step), Course(self._step_px(self.before)), self.exposure.share)

    def _is_good(self, fit: Fit) -> bool:
        sure = confidence_of(fit) >= self.lock.least_confidence
        return sure and fit.firm_residual_px < WORST_LINK_PX and fit.kept > 0.15

    def _step_px(self, motion: Matrix) -> NDArray[np.float64]:
        """How far a motion from frame to frame carries the middle of the field."""
        return np.asarray((carry(motion, self.middle[None]) - self.middle)[0])

    def _add_key(self, frame: int, feeds: list[Array]) -> Key | None:
        mask = self.mask_on(frame)
        if float(mask.sum()) < 400:
            return None
        key = Key(frame, Area(feeds, mask), self._step_px(self.before), np.eye(3))
        self.keys = [*self.keys[-3:], key]
        return key

    def mask_on(self, frame: int) -> Array:
        """What of a frame the field sees."""
        cover = self.cover_of(frame)
        return self.mask if cover is None else np.asarray(self.mask * cover, np.float32)


def linked(area: Area, key: int, frame: int, fit: Fit, points: NDArray[np.float64]) -> Link:
    """A link at (n, 2) points of an area, as a fit has it."""
    fuller = None if fit.fuller is None else linked(area, key, frame, fit.fuller, points)
    return Link(key, frame, fit, points, area.whitening(fit, points), fuller)


def _shared(area: Area, motion: Matrix, shape: tuple[int, ...]) -> float:
    """Share of a field that a motion leaves within the frame."""
    points = _points(area, (16, 9))
    at = carry(motion, points)
    return float(np.mean((at[:, 0] > 2) & (at[:, 1] > 2) & (at[:, 0] < shape[1] - 2) & (at[:, 1] < shape[0] - 2)))


def _points(area: Area, count: tuple[int, int]) -> NDArray[np.float64]:
    x0, y0, x1, y1 = area.box
    xs, ys = np.meshgrid(np.linspace(x0, x1, count[0]), np.linspace(y0, y1, count[1]))
    return np.stack([xs.reshape(-1), ys.reshape(-1)], axis=1)


def _grid(area: Area, motion: Matrix, shape: tuple[int, ...]) -> NDArray[np.float64]:
    """Points of the field that a frame still sees, spread over what both share."""
    points = _points(area, (24, 14))
    at = carry(motion, points)
    seen = (at[:, 0] > 0) & (at[:, 1] > 0) & (at[:, 0] < shape[1]) & (at[:, 1] < shape[0])
    shared = points[seen]
    if len(shared) < 4:
        return points[:4]
    low, high = shared.min(axis=0), shared.max(axis=0)
    xs, ys = np.meshgrid(np.linspace(low[0], high[0], GRID[0]), np.linspace(low[1], high[1], GRID[1]))
    return np.stack([xs.reshape(-1), ys.reshape(-1)], axis=1)
