"""Motion blur made alike: each of two frames is blurred by the other's motion, so that both carry both blurs."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import carry
from ..media.compiled import kernel

Array = NDArray[np.float32]
SHUTTER = 0.5  # of the time from frame to frame; 180 degrees, common practice
ALIKE_PX = 0.8  # blurs that differ by less need no matching
MOST_STEP_PX = 80.0  # a frame; blurs beyond are not made alike
SHARE_KNOWN = 0.08  # of a frame's time: shutters that differ by less need no second look
NONE = np.zeros(2)
USUAL = 10.0  # weight of the usual shutter, before any frame told it: a square of the share within ± 0.3
FADES = 0.8  # how much what was learnt of a shutter counts after one more frame, while motions are not well known


class Course(NamedTuple):
    """How a place of a frame moves, px a frame, and by how much that changes from frame to frame."""

    step: NDArray[np.float64]
    turns: NDArray[np.float64] = NONE

    @property
    def length(self) -> float:
        """Px a frame."""
        return float(np.hypot(*self.step))

    def over(self, share: float) -> NDArray[np.float64]:
        """What is gone while a shutter is open, see `streak`."""
        return np.stack([self.step * share, self.turns * share**2])

    def may_be_unlike(self, other: Course) -> bool:
        """Whether frames that move so can be blurred differently by any shutter, and not beyond help."""
        return max(self.length, other.length) < MOST_STEP_PX and Blur(self, other, 1.0).is_unlike()


def courses_of(motions: dict[int, NDArray], places: dict[int, NDArray[np.float64]]) -> dict[int, Course]:
    """How a place of each frame moves: by the parabola through where the frames before and after have it.

    Parameters
    ----------
    motions : (3, 3) by frame, from one frame to each. places : (2) by frame.
    """
    frames, out = sorted(motions), dict[int, Course]()
    for k, frame in enumerate(frames):
        near = frames[max(min(k - 1, len(frames) - 3), 0) :][:3]
        if len(near) < 2:
            out[frame] = Course(NONE)
            continue
        back = np.linalg.inv(motions[frame])
        at = np.array([carry(motions[other] @ back, places[frame][None])[0] for other in near])
        degree = len(near) - 1
        curve = np.polynomial.polynomial.polyfit(np.array(near, float) - frame, at, degree)
        out[frame] = Course(curve[1], 2 * curve[2] if degree > 1 else NONE)
    return out


class Blur(NamedTuple):
    """How two frames move, and the share of the time from frame to frame that the shutter is open."""

    own: Course
    other: Course
    share: float

    @property
    def streaks(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """By what each of them is blurred, see `streak`."""
        return self.own.over(self.share), self.other.over(self.share)

    def is_unlike(self, step: int = 1) -> bool:
        """Whether they must be made alike at a size that many times smaller."""
        own, other = self.streaks
        return unlike(own[0] / step, other[0] / step)

    def bend(self, mean: Array, step: int) -> Array:
        """What a longer shutter would leave over between the two frames, for one more of the share's square: the
        difference of second derivatives of their mean, (h, w) at a size `step` times smaller, along their motions."""
        a, b = self.other.step / step, self.own.step / step
        xx, xy, yy = ((a[i] * a[j] - b[i] * b[j]) / 24 for i, j in ((0, 0), (0, 1), (1, 1)))
        kernel = np.array([[xy / 2, yy, -xy / 2], [xx, -2 * (xx + yy), xx], [-xy / 2, yy, xy / 2]], np.float32)
        return np.asarray(cv2.filter2D(mean, -1, kernel, borderType=cv2.BORDER_REPLICATE), np.float32)


def always(blur: Blur) -> Callable[[NDArray], Blur]:
    """A blur that is known wherever an area lies."""
    return lambda matrix: blur


@dataclass
class Exposure:
    """How long a shutter is open, as given or as the frames told it so far.

    Where two frames are blurred unlike, what is left over between them looks like the difference of their second
    derivatives along their motions; how much of it there is tells by how much the square of the share is wrong (the
    second moment of a streak of length s is s² / 12).
    """

    share: float = SHUTTER
    given: bool = False
    fades: float = FADES
    _sums: tuple[float, float] = (USUAL * SHUTTER**2, USUAL)  # of squares of shares by weight, and of weights

    @classmethod
    def of(cls, shutter_deg: float | None, fades: float = FADES) -> Exposure:
        """One that is given by its angle (0…360), or that frames will tell."""
        return cls(fades=fades) if shutter_deg is None else cls(shutter_deg / 360, given=True)

    @classmethod
    def begun(cls, share: float) -> Exposure:
        """One that is taken for known until frames say otherwise."""
        return cls(share, fades=1.0, _sums=(USUAL * share**2, USUAL))

    def learn(self, left: tuple[float, float, float]) -> None:
        """Takes in what one fit has left over: the weighed product of that with `Blur.bend` and the square of the
        latter, both over the variance of its noise, and the share with which the fit was made."""
        over, weight, used = left
        if self.given or weight <= 0:
            return
        square = min(max(used**2 + over / weight, 0.0), 1.2)
        self._sums = self.fades * self._sums[0] + weight * square, self.fades * self._sums[1] + weight
        self.share = float(np.sqrt(self._sums[0] / self._sums[1]))

    @property
    def told(self) -> bool:
        """Whether any frame told it."""
        return self.given or self._sums[1] > 2 * USUAL


def streak(course_px: NDArray) -> NDArray[np.float32]:
    """The kernel of a motion: a line of that length and direction about its own centroid, anti-aliased.

    Parameters
    ----------
    course_px : (2), how far it moves; or (2, 2), and by how much that would change in as long again: then the line is
        bent, and denser where it is slower.
    """
    course = np.zeros((2, 2))
    course[: np.ndim(course_px)] = course_px
    length = float(np.hypot(*course[0]))
    half = int(np.ceil(length / 2 + float(np.hypot(*course[1])) / 6)) + 1
    out = np.zeros((2 * half + 1, 2 * half + 1), np.float32)
    _drawn(course, max(8 * int(np.ceil(length)), 8), out)
    rows, columns = (np.flatnonzero(out.any(axis=axis)) for axis in (1, 0))
    high, wide = (max(half - each[0], each[-1] - half) for each in (rows, columns))  # the middle stays in the middle
    out = out[half - high : half + high + 1, half - wide : half + wide + 1]
    return np.asarray(out / out.sum(), np.float32)


@kernel
def _drawn(course, count, out):  # type: ignore[no-untyped-def]
    """Adds a course about the middle of a square, by so many moments of it."""
    last = out.shape[0] - 1
    for k in range(count):
        t = (k + 0.5) / count - 0.5
        bent = (t * t - 1 / 12) / 2
        x = last // 2 + t * course[0, 0] + bent * course[1, 0]
        y = last // 2 + t * course[0, 1] + bent * course[1, 1]
        i, j = int(np.floor(x)), int(np.floor(y))
        a, b = x - i, y - j
        out[j, i] += (1 - a) * (1 - b)
        out[j, min(i + 1, last)] += a * (1 - b)
        out[min(j + 1, last), i] += (1 - a) * b
        out[min(j + 1, last), min(i + 1, last)] += a * b


def smeared(feed: Array, course_px: NDArray) -> Array:
    """A frame blurred as one is that moves so while its shutter is open, see `streak`."""
    if float(np.hypot(*np.reshape(course_px, (-1, 2))[0])) < 0.3:
        return feed
    turned = np.ascontiguousarray(streak(course_px)[::-1, ::-1])  # the filter below correlates
    return np.asarray(cv2.filter2D(feed, -1, turned, borderType=cv2.BORDER_REPLICATE), np.float32)


def unlike(a: NDArray, b: NDArray) -> bool:
    """Whether two frames, blurred by these motions, are so different that they must be made alike."""
    spread = np.outer(a, a) - np.outer(b, b)  # difference of the blurs' second moments, times 12
    return bool(np.sqrt(np.abs(np.linalg.eigvalsh(spread)).max()) > ALIKE_PX * 2)
