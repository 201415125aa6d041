"""A field that stays in the frame: motion measured through it against a chain of key frames, then adjusted as a
whole."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import carry
from ..shot.lock import Lock, LockFrame
from ..words import say
from .align import Area, Fit
from .blur import Blur, Course, Exposure, always, courses_of
from .chain import Adjusted, Chain, Link, adjusted
from .check import is_cut
from .errors import LockError
from .level import pyramid
from .plane import LEAST_CONTRAST, check_start, confidence_of
from .repeats import LIKENESS_GIVE, TELLS, Rival, apart_px, first_untold, periods, rivals
from .residual import likely
from .runs import Direction, flat

Array = NDArray[np.float32]
Matrix = NDArray[np.float64]
NEW_KEY = 0.65  # where less of the field is still in view a frame becomes the next key
LINKED = 0.35  # frames that share at least this much are measured against one another
WORST_LINK_PX = 1.5
GRID = (4, 3)
JUMP = 0.7  # of a period, from where the motion so far has a frame, by which it may be one off
SMOOTH = 0.5  # of a period, by which a motion changes from frame to frame


def measure_chain(
    lock: Lock,
    feed_of: Callable[[int], Array],
    field_mask: Array,
    cover_of: Callable[[int], Array | None],
    frames: range,
    direction: Direction,
    progress: Callable[[float, str], None],
) -> Chain:
    """Measures motion through a field that does not move, from the reference frame both ways.

    Each frame is aligned with the key frame before it, and with the key before that while they still share enough.

    Raises
    ------
    LockError : as `solve_plane`.
    """
    check_start(lock, frames)
    start = lock.reference_frame
    reference = feed_of(start)
    if float(field_mask.sum()) < 400 or not _textured(reference, field_mask):
        raise LockError(
            say(
                "The field of {name} has nothing to hold on frame {start}. Draw it larger, over something with "
                "some texture, however soft.",
                name=lock.name,
                start=start,
            )
        )
    chain = Chain()
    ways = [range(start + 1, frames[-1] + 1)] if direction in ("forward", "both") else []
    ways += [range(start - 1, frames[0] - 1, -1)] if direction in ("backward", "both") else []
    total, done = max(1, sum(len(way) for way in ways)), 0
    for way in ways:
        walker = _Walker(lock, feed_of, field_mask, cover_of, start)
        for frame in way:
            progress(0.9 * done / total, say("{name}: frame {frame}", name=lock.name, frame=frame))
            done += 1
            problem = walker.step(frame)
            if problem:
                chain.lost.append(
                    say(
                        "{how}: lost on frame {frame}: {problem}",
                        how=say("Forward") if frame > start else say("Backward"),
                        frame=frame,
                        problem=problem,
                    )
                )
                break
        found, links = walker.untold(), walker.links
        if found is not None:
            first, key = found
            links = [link for link in links if abs(link.frame - start) < abs(first - start)]
            side = say("Forward") if first > start else say("Backward")
            chain.lost = [words for words in chain.lost if not words.startswith(side)]
            chain.lost.append(
                say("{side}: lost on frame {first}: {repeating}", side=side, first=first, repeating=repeating(key))
            )
        chain.links += links
    return chain


@dataclass
class Key:
    """A frame that others are measured against: its area, how it moved, and the motion to the last frame; of frames
    found on it that could be a period off, how much less alike their rivals are."""

    frame: int
    area: Area
    step: NDArray[np.float64]
    motion: Matrix
    doubts: dict[int, list[float]] = field(default_factory=dict)

    @cached_property
    def periods(self) -> list[tuple[float, float]]:
        """By what its texture repeats."""
        return periods(self.area)


class _Walker:
    """Goes one way through the shot, frame by frame, and keeps the keys that are still in view."""

    def __init__(
        self,
        lock: Lock,
        feed_of: Callable[[int], Array],
        mask: Array,
        cover_of: Callable[[int], Array | None],
        start: int,
    ) -> None:
        self.lock, self.feed_of, self.mask, self.cover_of = lock, feed_of, mask, cover_of
        self.links: list[Link] = []
        self.keys: list[Key] = []
        self.doubtful: list[Key] = []
        self.exposure = Exposure()
        self.before: Matrix = np.eye(3)  # the step from the frame before the last to the last
        self.moves = False  # whether that is known
        self.last = start
        self._add_key(start, pyramid(feed_of(start), 5))

    def step(self, frame: int) -> str:
        """Links one more frame; says why where that cannot be done."""
        feed, cover = self.feed_of(frame), self.cover_of(frame)
        feeds = pyramid(feed, 5)
        for key in reversed(list(self.keys)):
            newest = key is self.keys[-1]
            fit = self._align(key, frame, feeds, cover, thorough=newest)
            if fit is None and newest and key.frame != self.last:
                key = self._add_key(self.last, pyramid(self.feed_of(self.last), 5)) or key
                fit = self._align(key, frame, feeds, cover, thorough=True)
            if fit is None and newest:
                if is_cut(feed, self.feed_of(self.last)):
                    return say("there is a cut between frame {frame} and the next.", frame=min(frame, self.last))
                return repeating(key) if key.periods else say("what is seen through the field cannot be found again.")
            if fit is None:
                self.keys.remove(key)
                continue
            self.exposure.learn(fit.left)
            points = _grid(key.area, fit.homography, feed.shape)
            self.links.append(Link(key.frame, frame, fit, points, key.area.whitening(fit, points)))
            if newest:
                step = fit.homography @ np.linalg.inv(key.motion)
                self.before, self.moves = step / step[2, 2], True
            key.motion = fit.homography
        newest_key = self.keys[-1]
        if _shared(newest_key.area, newest_key.motion, feed.shape) < NEW_KEY:
            self._add_key(frame, feeds)
        self.last = frame
        return ""

    def untold(self) -> tuple[int, Key] | None:
        """The first frame from which it is not told by how many periods of a texture the picture moved."""
        start, worst = self.lock.reference_frame, dict[int, tuple[float, Key]]()
        for key in self.doubtful:
            for frame, worse in key.doubts.items():
                if frame not in worst or min(worse) < worst[frame][0]:
                    worst[frame] = min(worse), key
        frames = sorted(worst, key=lambda frame: abs(frame - start))
        first = first_untold([worst[frame][0] for frame in frames])
        return None if first is None else (frames[first], worst[frames[first]][1])

    def _align(self, key: Key, frame: int, feeds: list[Array], cover: Array | None, thorough: bool) -> Fit | None:
        """A key's field on a frame, from where the motion so far would bring it; both blurred alike."""
        blur, expected = (
            Blur(Course(key.step), Course(self._step_px(self.before)), self.exposure.share),
            (self.before @ key.motion),
        )

        def find(guess: Matrix) -> Fit | None:
            return key.area.find(feeds, guess, self.lock.moves, cover, lambda at: blur)

        guesses = [expected]
        if thorough:
            guesses += [key.motion, key.area.start(feeds, key.motion)]
        found = list[Fit]()
        for guess in guesses:
            fit = find(guess)
            if fit is None or not self._is_good(fit):
                continue
            if thorough or _shared(key.area, fit.homography, feeds[0].shape) > LINKED:
                found.append(fit)
                if not (thorough and key.periods):
                    break
        return self._told(key, frame, found, expected, find) if found else None

    def _is_good(self, fit: Fit) -> bool:
        sure = confidence_of(fit) >= self.lock.least_confidence
        return sure and fit.residual_px < WORST_LINK_PX and fit.kept > 0.15

    def _told(
        self, key: Key, frame: int, fits: list[Fit], expected: Matrix, find: Callable[[Matrix], Fit | None]
    ) -> Fit | None:
        """Of fits and their rivals a period off the one that is the most alike and that the motion so far expects,
        weighed against one another. Doubts are kept with the key."""
        fit = max(fits, key=lambda each: each.likeness)
        others = [rival for rival in rivals(fit, key.periods, find) if self._is_good(rival.fit)]
        period = min((float(np.hypot(x, y)) for x, y in key.periods), default=np.inf)
        jumps = self._jumps(fit, expected, period)
        if not jumps and not any(rival.worse < np.log(TELLS) for rival in others):
            return fit
        all_of_them = [Rival(fit, 0.0), *others]
        best = min(each.worse for each in all_of_them)
        close = [each for each in all_of_them if each.worse < best + np.log(TELLS)]

        def cost(rival: Rival) -> float:
            far = apart_px(rival.fit.homography, expected) / period if self.moves else 0.0
            return rival.worse / LIKENESS_GIVE + (far / SMOOTH) ** 2

        chosen = min(close, key=cost)
        if key not in self.doubtful:
            self.doubtful.append(key)
        worse = [each.worse - chosen.worse for each in all_of_them if each is not chosen]
        untold = not worse or min(worse) < 2 * LIKENESS_GIVE
        key.doubts[frame] = [*worse, -1.0] if untold and self._jumps(chosen.fit, expected, period) else worse
        return chosen.fit

    def _jumps(self, fit: Fit, expected: Matrix, period: float) -> bool:
        """Whether a frame is most of a period of the texture from where the motion so far has it."""
        return self.moves and apart_px(fit.homography, expected) > JUMP * period

    def _step_px(self, motion: Matrix) -> NDArray[np.float64]:
        """How far a motion from frame to frame carries the middle of the field."""
        middle = np.array([[self.mask.shape[1] / 2, self.mask.shape[0] / 2]])
        return np.asarray((carry(motion, middle) - middle)[0])

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


def repeating(key: Key) -> str:
    """What is said where nothing tells by how many periods of its texture a field moved."""
    period = min(float(np.hypot(x, y)) for x, y in key.periods)
    return say(
        "what is seen through the field repeats every {period:.0f} px, and nothing in it tells by how "
        "many of these it moved. Draw the field over something that does not repeat.",
        period=period,
    )


def _textured(feed: Array, mask: Array) -> bool:
    """Whether the field differs from a flat tone by more than its grain, once that is averaged out."""
    soft = cv2.GaussianBlur(feed, (0, 0), 3.0)
    inside = soft[mask > 0.5]
    return bool(inside.size and inside.std() > LEAST_CONTRAST)


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


def solve_staying(
    lock: Lock,
    feed_of: Callable[[int], Array],
    field_mask: Array,
    cover_of: Callable[[int], Array | None],
    frames: range,
    direction: Direction = "both",
    progress: Callable[[float, str], None] = lambda share, words: None,
) -> Lock:
    """Solves a plane lock whose field stays in the frame.

    Parameters and errors are those of `solve_plane`. The residual of a frame is what its links and the whole
    disagree by, with what the links themselves do not know.
    """
    chain = measure_chain(lock, feed_of, field_mask, cover_of, frames, direction, progress)
    start, size = lock.reference_frame, (field_mask.shape[1], field_mask.shape[0])
    corners = corners_of(field_mask)
    found = adjusted(chain, start, size, corners)
    chain = settled_chain(lock, chain, found.motions, feed_of, field_mask, cover_of, progress)
    found = adjusted(chain, start, size, corners)
    return lock.but(solved=entries_of(chain, found), lost=tuple(chain.lost))


def settled_chain(
    lock: Lock, chain: Chain, motions: dict[int, Matrix], feed_of: Callable[[int], Array], mask: Array,
    cover_of: Callable[[int], Array | None], progress: Callable[[float, str], None],
) -> Chain:  # fmt: skip
    """The links between frames whose blur is unlike measured once more: now it is known how both move, and how long the
    shutter is open."""
    middle = np.array([mask.shape[1] / 2, mask.shape[0] / 2])
    courses, exposure = courses_of(motions, dict.fromkeys(motions, middle)), Exposure(fades=1.0)
    for link in chain.links:
        exposure.learn(link.fit.left)
    links, unlike = [], [link for link in chain.links if courses[link.key].may_be_unlike(courses[link.frame])]
    area, key = None, None
    for k, link in enumerate(sorted(chain.links, key=lambda each: each.key)):
        if link not in unlike:
            links.append(link)
            continue
        progress(
            0.9 + 0.08 * k / len(chain.links), say("{name}: blur of frame {frame}", name=lock.name, frame=link.frame)
        )
        if area is None or key != link.key:
            cover = cover_of(link.key)
            key, area = link.key, Area(pyramid(feed_of(link.key), 5), mask if cover is None else mask * cover)
        blur = Blur(courses[link.key], courses[link.frame], exposure.share)
        top = area.sizes_for(blur)
        feeds = pyramid(feed_of(link.frame), top)
        fit = area.find(feeds, link.fit.homography, lock.moves, cover_of(link.frame), always(blur), top=top)
        if fit is None or fit.residual_px > WORST_LINK_PX:
            links.append(link)
            continue
        exposure.learn(fit.left)
        links.append(Link(link.key, link.frame, fit, link.points, area.whitening(fit, link.points)))
    return Chain(links, chain.lost)


def corners_of(mask: Array) -> NDArray[np.float64]:
    """The corners of the box about a field. (4, 2)."""
    rows, columns = np.flatnonzero(mask.max(axis=1) > 0.01), np.flatnonzero(mask.max(axis=0) > 0.01)
    x0, x1, y0, y1 = columns[0], columns[-1] + 1, rows[0], rows[-1] + 1
    return np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]], float)


def sureness(chain: Chain) -> dict[int, float]:
    """How sure the surest link of each frame is."""
    out: dict[int, float] = {}
    for link in chain.links:
        out[link.frame] = max(out.get(link.frame, 0.0), min(link.fit.likeness, 1.0))
    return out


def entries_of(chain: Chain, found: Adjusted) -> tuple[LockFrame, ...]:
    """A lock's frames from adjusted motions."""
    sure = sureness(chain)
    return tuple(
        LockFrame(
            frame=frame,
            homography=flat(motion),
            residual_px=found.give_px[frame],
            confidence=likely(sure.get(frame, 1.0)),
        )
        for frame, motion in sorted(found.motions.items())
    )
