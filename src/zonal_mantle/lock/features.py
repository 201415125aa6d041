"""Features found and followed over the whole shot."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import cv2
import numpy as np
from numpy.typing import NDArray

from ..words import say

Array = NDArray[np.float32]
Codes = NDArray[np.uint8]
WANTED = 420  # features that live on a frame
CELLS = (8, 5)  # the frame is filled evenly
WINDOW = (21, 21)
BACK_PX = 0.35  # a feature must come back to within this
AGREE_PX = 1.5  # its first pattern and that of the frame before must lead to the same place
HALF_PX = 32  # of a pattern's side
ROUGH = np.array([[1, -2, 1], [-2, 4, -2], [1, -2, 1]], np.float32)
BLOCK_PX = 16  # sides of blocks whose noise is judged
QUIETER, LEANS = 5.0, 1.1  # per cent of them that are quieter than the one that is taken, and what it is short by
LEAST_LIFE = 6  # frames; a shorter track says nothing
SAME, STAYS_PX = 0.5, 0.5  # of a pattern's power, that is the same; by which what stays seems to move at most
MOVES_PX, MOVING = 1.0, 0.2  # by how much others move, in the middle, and how many
MOST_BEHIND = 0.25  # of a track's steps on which the others moved


@dataclass(frozen=True)
class Pattern:
    """What a feature looks like: eight bits about it, where in them it lies, in whole and parts of their pixels, and
    the standard deviation of their noise."""

    frame: int
    codes: Codes
    at: tuple[float, float]
    noise: float = 0.0


@dataclass
class Track:
    """One feature: where it was seen, by frame, in plate pixels, what it looked like first, and on which frames it was
    found again."""

    places: dict[int, tuple[float, float]] = field(default_factory=dict)
    pattern: Pattern | None = None
    again: frozenset[int] = frozenset()

    @property
    def life(self) -> int:
        return len(self.places)


@dataclass
class _Living:
    track: Track
    born: int
    place: NDArray[np.float32]
    behind: int = 0  # steps on which it stayed while the others moved, of so many
    steps: int = 0

    @property
    def left_behind(self) -> bool:
        return self.behind > MOST_BEHIND * self.steps

    @property
    def first(self) -> tuple[float, float]:
        return self.track.places[self.born]


def follow_features(
    feed_of: Callable[[int], Array],
    cover_of: Callable[[int], Array | None],
    frames: range,
    progress: Callable[[float, str], None] = lambda share, words: None,
    words: str = "Features",
    window: tuple[int, int] = WINDOW,
) -> list[Track]:
    """Finds corners and follows each from its first frame on, by its first pattern, so that it does not drift.

    What is the same from frame to frame to the last code while the others move does not go with the picture: a codec
    that predicts frames leaves soft blocks where they were, and a burn-in stands. Such tracks are none.

    Returns
    -------
    Tracks that live for LEAST_LIFE frames at least (or the whole shot, where that is shorter).

    References
    ----------
    Corners: Shi & Tomasi 1994. Following: Lucas & Kanade 1981 in pyramids (Bouguet 2001), as OpenCV has them; there and
    back (Kalal et al. 2010).
    """
    first_codes: dict[int, Codes] = {}
    living: list[_Living] = []
    done: list[_Living] = []
    last: Codes | None = None
    before: Array | None = None
    for count, frame in enumerate(frames):
        progress(count / len(frames), say("{words}: frame {frame}", words=words, frame=frame))
        feed = feed_of(frame)
        codes = codes_of(feed)
        cover = cover_of(frame)
        if last is not None and before is not None and living:
            living, ended = _carried(living, last, codes, first_codes, cover, frame, window)
            done += ended
            _count_behind(living, codes, feed == before, frame, window)
        living += _born(codes, cover, living, frame)
        first_codes[frame] = codes
        needed = {each.born for each in living}
        first_codes = {key: value for key, value in first_codes.items() if key in needed}
        last, before = codes, feed
    least = min(LEAST_LIFE, len(frames))
    return [each.track for each in done + living if each.track.life >= least and not each.left_behind]


def codes_of(feed: Array) -> Codes:
    """Eight bits, with the contrast stretched so that little is lost in rounding."""
    low, high = np.percentile(feed[::4, ::4], [0.5, 99.5])
    return np.asarray(np.clip((feed - low) / max(float(high - low), 1e-3) * 235 + 10, 0, 255), np.uint8)


def padded(codes: Codes) -> Codes:
    """Eight bits of a frame with its rim repeated, by half a pattern."""
    return np.pad(codes, HALF_PX, mode="edge")


def noise_of(codes: Codes) -> float:
    """Standard deviation of a frame's noise, of its quietest blocks, where there is least texture.

    References
    ----------
    J. Immerkær, Fast noise variance estimation, Computer Vision and Image Understanding 64 (1996).
    """
    rough = np.abs(cv2.filter2D(codes.astype(np.float32), -1, ROUGH))[1:-1, 1:-1]
    rows, columns = (each // BLOCK_PX for each in rough.shape)
    if min(rows, columns) == 0:
        return 0.0
    blocks = rough[: rows * BLOCK_PX, : columns * BLOCK_PX].reshape(rows, BLOCK_PX, columns, BLOCK_PX)
    return LEANS * float(np.percentile(blocks.mean(axis=(1, 3)), QUIETER)) * float(np.sqrt(np.pi / 2)) / 6


def pattern_at(
    rimmed: Codes, place: Sequence[float] | NDArray[np.float64], frame: int = 0, noise: float = 0.0
) -> Pattern:
    """What is seen about a place, px, of a frame that `padded` gave its rim."""
    x, y = float(place[0]) - 0.5, float(place[1]) - 0.5
    left, top, side = round(x), round(y), 2 * HALF_PX + 1
    part = np.ascontiguousarray(rimmed[top : top + side, left : left + side])
    return Pattern(frame, part, (x - left + HALF_PX, y - top + HALF_PX), noise)


def _carried(
    living: list[_Living],
    last: Codes,
    codes: Codes,
    firsts: dict[int, Codes],
    cover: Array | None,
    frame: int,
    window: tuple[int, int],
) -> tuple[list[_Living], list[_Living]]:
    at = np.array([each.place for each in living], np.float32).reshape(-1, 1, 2)
    stop = (cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 30, 0.003)
    on, ok, _ = cv2.calcOpticalFlowPyrLK(last, codes, at, None, winSize=window, maxLevel=3, criteria=stop)  # type: ignore[call-overload]
    fine = on.copy()
    good = ok.reshape(-1) > 0
    for born in {each.born for each in living}:
        mine = np.array([k for k, each in enumerate(living) if each.born == born and good[k]])
        if len(mine) == 0:
            continue
        start = np.array([living[k].first for k in mine], np.float32).reshape(-1, 1, 2) - 0.5
        guess = on[mine].copy()
        flags = cv2.OPTFLOW_USE_INITIAL_FLOW
        hit, ok2, _ = cv2.calcOpticalFlowPyrLK(
            firsts[born], codes, start, guess, winSize=window, maxLevel=0, criteria=stop, flags=flags
        )
        back, ok3, _ = cv2.calcOpticalFlowPyrLK(
            codes, firsts[born], hit, start.copy(), winSize=window, maxLevel=0, criteria=stop, flags=flags
        )
        apart = np.linalg.norm((back - start).reshape(-1, 2), axis=1)
        away = np.linalg.norm((hit - on[mine]).reshape(-1, 2), axis=1)
        fine[mine] = hit
        good[mine] &= (ok2.reshape(-1) > 0) & (ok3.reshape(-1) > 0) & (apart < BACK_PX) & (away < AGREE_PX)
    stay, ended = list[_Living](), list[_Living]()
    height, width = codes.shape
    rim = window[0] / 2
    for k, each in enumerate(living):
        x, y = (float(v) for v in fine[k, 0])
        inside = rim < x < width - rim and rim < y < height - rim
        if good[k] and inside and (cover is None or cover[int(y), int(x)] > 0.5):
            each.place = fine[k, 0]
            each.track.places[frame] = (x + 0.5, y + 0.5)
            stay.append(each)
        else:
            ended.append(each)
    return stay, ended


def _count_behind(
    living: list[_Living], codes: Codes, same: NDArray[np.bool_], frame: int, window: tuple[int, int]
) -> None:
    """Counts which of the features that were followed to a frame have edges that are the `same` there as on the frame
    before, where the others moved."""
    across, down = (side // 2 for side in window)
    across_by, down_by = (each.astype(np.float32) for each in cv2.spatialGradient(codes))
    power = np.hypot(across_by, down_by) ** 2
    stays, moved = np.zeros(len(living), bool), np.zeros(len(living))
    for k, each in enumerate(living):
        (x, y), (a, b) = each.place, each.track.places[frame - 1]
        top, left = max(round(float(y)) - down, 0), max(round(float(x)) - across, 0)
        part = slice(top, top + 2 * down + 1), slice(left, left + 2 * across + 1)
        moved[k] = np.hypot(x + 0.5 - a, y + 0.5 - b)
        stays[k] = moved[k] < STAYS_PX and (power[part] * same[part]).sum() > SAME * power[part].sum()
    others = moved[~stays]
    if len(others) <= MOVING * len(living) or np.median(others) < MOVES_PX:
        return
    for each, behind in zip(living, stays):
        each.steps += 1
        each.behind += int(behind)


def _born(codes: Codes, cover: Array | None, living: list[_Living], frame: int) -> list[_Living]:
    """New corners where the frame has few; weak ones only where it has hardly any."""
    height, width = codes.shape
    free = np.full((height, width), 255, np.uint8)
    if cover is not None:
        free[cv2.erode(cover, np.ones((21, 21))) < 0.5] = 0
    for each in living:
        cv2.circle(free, (int(each.place[0]), int(each.place[1])), 12, 0, -1)
    out, weak = list[_Living](), list[tuple[float, _Living]]()
    rimmed, noise = padded(codes), noise_of(codes)
    per = -(-WANTED // (CELLS[0] * CELLS[1]))
    columns, rows = ([size * k // count for k in range(count + 1)] for size, count in zip((width, height), CELLS))
    places = np.array([each.place for each in living]).reshape(-1, 2)
    living_in = np.histogram2d(places[:, 0], places[:, 1], [columns, rows])[0]
    for j in range(CELLS[1]):
        for i in range(CELLS[0]):
            (x0, x1), (y0, y1), here = columns[i : i + 2], rows[j : j + 2], int(living_in[i, j])
            if here >= max(per * 2 // 3, 1):
                continue
            part = np.ascontiguousarray(codes[y0:y1, x0:x1])
            found = cv2.goodFeaturesToTrack(part, per - here, 0.03, 12, mask=free[y0:y1, x0:x1], blockSize=5)
            if found is None:
                continue
            strength = cv2.cornerMinEigenVal(part, 5, ksize=3)
            for x, y in found.reshape(-1, 2):
                if strength[int(y), int(x)] < LEAST_CORNER:
                    continue
                place = np.array([x + x0, y + y0], np.float32)
                if not (12 < place[0] < width - 12 and 12 < place[1] < height - 12):
                    continue
                at = (float(place[0]) + 0.5, float(place[1]) + 0.5)
                new = _Living(Track({frame: at}, pattern_at(rimmed, at, frame, noise)), frame, place)
                if strength[int(y), int(x)] < SURE_CORNER:
                    weak.append((float(strength[int(y), int(x)]), new))
                else:
                    out.append(new)
    weak.sort(key=lambda each: -each[0])
    return out + [new for _, new in weak[: max(FEW - len(living) - len(out), 0)]]


LEAST_CORNER = 6e-4  # of OpenCV's smaller eigenvalue on eight bits; flatter places follow the grain
SURE_CORNER, FEW = 1.2e-3, 100  # what is weaker is followed only where a frame has so few
