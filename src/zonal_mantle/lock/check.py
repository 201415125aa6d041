"""What is wrong with a plate before anything is measured on it: cuts, duplicate frames, interlacing."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray

from ..words import say

Array = NDArray[np.float32]
SMALL = (64, 36)
COMBED = 1.6  # neighbouring lines differ by this much more than lines of one field
BLANK = 0.004  # coded, of a small copy
CUT = 0.45  # likeness of two small, levelled frames below which nothing links them


def is_duplicate(feed: Array, other: Array) -> bool:
    """Whether two frames are the same picture to the bit: a frame was doubled, not filmed."""
    return feed.shape == other.shape and bool(np.array_equal(feed[::7, ::5], other[::7, ::5]))


def is_cut(feed: Array, other: Array) -> bool:
    """Whether two neighbouring frames show different scenes: small, and shifted as they like best, they are unlike."""
    a, b = (cv2.resize(each, SMALL, interpolation=cv2.INTER_AREA) for each in (feed, other))
    wide = cv2.copyMakeBorder(b, 12, 12, 20, 20, cv2.BORDER_REFLECT)
    alike = cv2.matchTemplate(wide, a, cv2.TM_CCOEFF_NORMED)
    return bool(np.nan_to_num(alike, nan=1.0).max() < CUT and a.std() > 0.01)


def is_blank(feed: Array) -> bool:
    """Whether a frame shows nothing at all: it is black, white, or of one tone but for its grain."""
    return bool(cv2.resize(feed, SMALL, interpolation=cv2.INTER_AREA).std() < BLANK)


class WithoutBlanks:
    """Feeds frame after frame, with the one before in place of each that shows nothing; these are in `blank`."""

    def __init__(self, feed_of: Callable[[int], Array]) -> None:
        self.feed_of, self.blank = feed_of, set[int]()
        self._last: Array | None = None

    def __call__(self, frame: int) -> Array:
        feed = self.feed_of(frame)
        if self._last is not None and is_blank(feed):
            self.blank.add(frame)
            return self._last
        self._last = feed
        return feed


def is_interlaced(feed: Array) -> bool:
    """Whether a frame is combed: neighbouring lines differ far more than lines two apart, which no lens can make."""
    fine, coarse = np.abs(feed[1:-1] - feed[:-2]), np.abs(feed[2:] - feed[:-2])
    moving = np.maximum(fine, coarse) > 0.03  # of grain neither is the larger
    if np.count_nonzero(moving) < 0.01 * moving.size:
        return False
    return float(fine[moving].mean()) > COMBED * float(coarse[moving].mean())


def remarks_on(feeds: dict[int, Array]) -> tuple[str, ...]:
    """Sentences about neighbouring frames: each doubled frame, and interlacing."""
    found, frames = list[str](), sorted(feeds)
    if frames and is_interlaced(feeds[frames[0]]):
        found.append(
            say(
                "Frame {frames} is interlaced: its two fields were taken at different times. Deinterlace the "
                "plate, or what is locked will shake.",
                frames=frames[0],
            )
        )
    doubled = [b for a, b in zip(frames, frames[1:]) if b == a + 1 and is_duplicate(feeds[a], feeds[b])]
    if doubled:
        names = ", ".join(map(str, doubled[:6])) + (" …" if len(doubled) > 6 else "")
        found.append(say("The same picture as the frame before: {names}. The lock stands still there.", names=names))
    return tuple(found)
