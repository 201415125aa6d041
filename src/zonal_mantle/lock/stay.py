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
from .align import Area, Fit
from .blur import SHUTTER, smeared, unlike
from .check import is_cut
from .errors import LockError
from .level import pyramid
from .plane import LEAST_CONTRAST, check_start, confidence_of
from .repeats import is_told, periods
from .runs import Direction, flat

Array = NDArray[np.float32]
Matrix = NDArray[np.float64]
NEW_KEY = 0.65  # where less of the field is still in view a frame becomes the next key
LINKED = 0.35  # frames that share at least this much are measured against one another
WORST_LINK_PX = 1.5
GRID = (4, 3)


@dataclass(frozen=True)
class Link:
    """One measured motion: from a key frame to another frame, at points of the field that both see."""

    key: int
    frame: int
    fit: Fit
    points: NDArray[np.float64]

    @property
    def weight(self) -> float:
        """Of its points in the adjustment, 1 / px."""
        return 1.0 / max(self.fit.residual_px, 0.01)


@dataclass
class Chain:
    """All that was measured through a field that stays."""

    links: list[Link] = field(default_factory=list)
    lost: list[str] = field(default_factory=list)

    def frames(self, start: int) -> list[int]:
        """Frames that are linked to the reference frame."""
        return sorted({start} | {link.frame for link in self.links} | {link.key for link in self.links})


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
            f"The field of {lock.name} has nothing to hold on frame {start}. Draw it larger, over something with "
            "some texture, however soft."
        )
    chain = Chain()
    ways = [range(start + 1, frames[-1] + 1)] if direction in ("forward", "both") else []
    ways += [range(start - 1, frames[0] - 1, -1)] if direction in ("backward", "both") else []
    total, done = max(1, sum(len(way) for way in ways)), 0
    for way in ways:
        walker = _Walker(lock, feed_of, field_mask, cover_of, start)
        for frame in way:
            progress(0.9 * done / total, f"{lock.name}: frame {frame}")
            done += 1
            problem = walker.step(frame)
            if problem:
                chain.lost.append(f"{'Forward' if frame > start else 'Backward'}: lost on frame {frame}: {problem}")
                break
        chain.links += walker.links
    return chain


@dataclass
class Key:
    """A frame that others are measured against: its feed, its field, how it moved, and the motion to the last frame."""

    frame: int
    feed: Array
    mask: Array
    area: Area
    step: NDArray[np.float64]
    motion: Matrix

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
        self.before: Matrix = np.eye(3)  # the step from the frame before the last to the last
        self.last = start
        reference = feed_of(start)
        self._add_key(start, reference, pyramid(reference, 5))

    def step(self, frame: int) -> str:
        """Links one more frame; says why where that cannot be done."""
        feed, cover = self.feed_of(frame), self.cover_of(frame)
        feeds = pyramid(feed, 5)
        problem = ""
        for key in reversed(list(self.keys)):
            newest = key is self.keys[-1]
            fit = self._align(key, feed, feeds, cover, thorough=newest)
            if fit is None and newest and key.frame != self.last:
                last = self.feed_of(self.last)
                key = self._add_key(self.last, last, pyramid(last, 5)) or key
                fit = self._align(key, feed, feeds, cover, thorough=True)
            if fit is None:
                if newest:
                    problem = "what is seen through the field cannot be found again."
                    if key.periods:
                        period = min(float(np.hypot(x, y)) for x, y in key.periods)
                        problem = (
                            f"what is seen through the field repeats every {period:.0f} px, and nothing in it tells by "
                            "how many of these it moved. Draw the field over something that does not repeat."
                        )
                    if is_cut(feed, self.feed_of(self.last)):
                        problem = f"there is a cut between frame {min(frame, self.last)} and the next."
                    break
                self.keys.remove(key)
                continue
            self.links.append(Link(key.frame, frame, fit, _grid(key.area, fit.homography, feed.shape)))
            if newest:
                step = fit.homography @ np.linalg.inv(key.motion)
                self.before = step / step[2, 2]
            key.motion = fit.homography
        if problem:
            return problem
        newest_key = self.keys[-1]
        if _shared(newest_key.area, newest_key.motion, feed.shape) < NEW_KEY:
            self._add_key(frame, feed, feeds)
        self.last = frame
        return ""

    def _align(self, key: Key, feed: Array, feeds: list[Array], cover: Array | None, thorough: bool) -> Fit | None:
        """A key's field on a frame, from where the motion so far would bring it; both blurred alike."""
        step, area = self._step_px(self.before), key.area
        if unlike(SHUTTER * step, SHUTTER * key.step):
            area = Area(pyramid(smeared(key.feed, SHUTTER * step), 5), key.mask)
            feeds = pyramid(smeared(feed, SHUTTER * key.step), 5)
        guesses = [self.before @ key.motion, key.motion] if thorough else [self.before @ key.motion]
        if thorough:
            guesses.append(area.start(feeds, key.motion))
        for guess in guesses:
            fit = area.find(feeds, guess, self.lock.moves, cover)
            if fit is None:
                continue
            shared = _shared(area, fit.homography, feed.shape)
            good = (
                confidence_of(fit) >= self.lock.least_confidence and fit.residual_px < WORST_LINK_PX and fit.kept > 0.15
            )
            if good and (thorough or shared > LINKED):
                return fit if self._is_told(key, area, fit, feeds, cover) else None
        return None

    def _is_told(self, key: Key, area: Area, fit: Fit, feeds: list[Array], cover: Array | None) -> bool:
        """Whether a texture that repeats does not leave open by how many of its periods the frame has moved."""
        return is_told(fit, key.periods, lambda guess: area.find(feeds, guess, self.lock.moves, cover))

    def _step_px(self, motion: Matrix) -> NDArray[np.float64]:
        """How far a motion from frame to frame carries the middle of the field."""
        middle = np.array([[self.mask.shape[1] / 2, self.mask.shape[0] / 2]])
        return np.asarray((carry(motion, middle) - middle)[0])

    def _add_key(self, frame: int, feed: Array, feeds: list[Array]) -> Key | None:
        cover = self.cover_of(frame)
        mask = self.mask if cover is None else self.mask * cover
        if float(mask.sum()) < 400:
            return None
        key = Key(frame, feed, mask, Area(feeds, mask), self._step_px(self.before), np.eye(3))
        self.keys = [*self.keys[-3:], key]
        return key


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


def chained(chain: Chain, start: int) -> dict[int, Matrix]:
    """Reference frame to each linked frame, by the first chain of links that leads there."""
    out = {start: np.eye(3)}
    waiting = list(chain.links)
    while True:
        rest = []
        for link in waiting:
            if link.key in out and link.frame not in out:
                out[link.frame] = link.fit.homography @ out[link.key]
            elif link.key not in out:
                rest.append(link)
        if len(rest) == len(waiting) or not rest:
            return {frame: motion / motion[2, 2] for frame, motion in out.items()}
        waiting = rest


def adjusted(chain: Chain, start: int, size: tuple[int, int]) -> dict[int, Matrix]:
    """The motions that agree best with all links at once, so that drift does not add up.

    Each frame's motion is D · (the chain's), with eight small numbers for D on the frame scaled to 1; the error of
    a link is the distance, in px over its own uncertainty, between where the two motions and where the link bring
    its points.

    References
    ----------
    Global alignment of image mosaics: Szeliski 2006, section 5.1 (bundle adjustment of homographies).
    """
    rough = chained(chain, start)
    frames = [frame for frame in sorted(rough) if frame != start]
    place = {frame: 8 * k for k, frame in enumerate(frames)}
    links = [link for link in chain.links if link.key in rough and link.frame in rough]
    if not frames or not links:
        return rough
    unit = size[0] / 2
    norm = np.array([[1 / unit, 0, -size[0] / 2 / unit], [0, 1 / unit, -size[1] / 2 / unit], [0, 0, 1]])
    back = np.linalg.inv(norm)

    def motions(values: NDArray) -> dict[int, Matrix]:
        out = {start: np.eye(3)}
        for frame in frames:
            k = place[frame]
            out[frame] = back @ (np.eye(3) + np.append(values[k : k + 8], 0).reshape(3, 3)) @ norm @ rough[frame]
        return out

    def errors(values: NDArray) -> NDArray:
        now = motions(values)
        return np.concatenate([
            (
                (carry(now[link.frame] @ np.linalg.inv(now[link.key]), link.points)
                 - carry(link.fit.homography, link.points)) * link.weight
            ).reshape(-1)
            for link in links
        ])  # fmt: skip

    rows = [2 * len(link.points) for link in links]
    from scipy.optimize import least_squares  # slow to import
    from scipy.sparse import lil_matrix

    pattern = lil_matrix((sum(rows), 8 * len(frames)), dtype=np.int8)
    row = 0
    for link, count in zip(links, rows):
        for frame in (link.key, link.frame):
            if frame != start:
                pattern[row : row + count, place[frame] : place[frame] + 8] = 1
        row += count
    found = least_squares(
        errors, np.zeros(8 * len(frames)), jac_sparsity=pattern, loss="soft_l1", f_scale=3.0, max_nfev=30, x_scale=1e-3
    )
    return {frame: motion / motion[2, 2] for frame, motion in motions(found.x).items()}


def link_errors(chain: Chain, motions: dict[int, Matrix]) -> dict[int, float]:
    """For each frame the root mean square of what its links and the adjusted motions disagree by, px."""
    squares: dict[int, list[float]] = {}
    for link in chain.links:
        if link.key in motions and link.frame in motions:
            way = motions[link.frame] @ np.linalg.inv(motions[link.key])
            apart = carry(way, link.points) - carry(link.fit.homography, link.points)
            square = float((apart**2).sum(axis=1).mean()) + link.fit.residual_px**2
            squares.setdefault(link.frame, []).append(square)
    return {frame: float(np.sqrt(np.mean(each))) for frame, each in squares.items()}


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
    motions = adjusted(chain, lock.reference_frame, (field_mask.shape[1], field_mask.shape[0]))
    return lock.but(solved=entries_of(lock, chain, motions), lost=tuple(chain.lost))


def entries_of(lock: Lock, chain: Chain, motions: dict[int, Matrix]) -> tuple[LockFrame, ...]:
    """A lock's frames from adjusted motions."""
    errors = link_errors(chain, motions)
    sure: dict[int, float] = {}
    for link in chain.links:
        sure[link.frame] = max(sure.get(link.frame, 0.0), min(link.fit.likeness, 1.0))
    return tuple(
        LockFrame(
            frame=frame,
            homography=flat(motions[frame]),
            residual_px=errors.get(frame, 0.0),
            confidence=sure.get(frame, 1.0),
        )
        for frame in sorted(motions)
    )
