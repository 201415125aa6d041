"""Features that were lost, or came back into view, found again where the scene says that they are: loops are closed."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray

from .bundle import Scene, Views, pictured
from .features import BACK_PX, HALF_PX, WINDOW, Codes, Pattern, Track, codes_of, padded, pattern_at

Array = NDArray[np.float32]

GONE_FRAMES = 4  # after the last on which it was seen; what was lost just now was lost for a reason
LEAST_ALIKE = 0.85  # correlation with the first pattern
REACH_PX = 8.0  # from where the scene has it, by drift and by error
MOST_A_FRAME = 200
FAR_LARGER = 1.25  # times; a pattern that is seen so much larger or smaller is not the same to a window


def found_again(
    scene: Scene,
    tracks: list[Track],
    order: list[int],
    feed_of: Callable[[int], Array],
    cover_of: Callable[[int], Array | None],
    report: Callable[[float], None] = lambda share: None,
) -> list[Track]:
    """The tracks with every later frame that sees their points and on which they look as they did first.

    Parameters
    ----------
    tracks : those of the scene's points, one each. order: the frame of each camera.
    feed_of, cover_of : as `follow_features` had them.
    """
    out = [dict(track.places) for track in tracks]
    for number, frame in enumerate(order):
        report(number / len(order))
        missing = _in_view(scene, tracks, order, number)
        if not missing:
            continue
        feed, cover = feed_of(frame), cover_of(frame)
        middle, rimmed = np.array([feed.shape[1], feed.shape[0]]) / 2, padded(codes_of(feed))
        for n, at in missing[:MOST_A_FRAME]:
            pattern = tracks[n].pattern
            assert pattern is not None
            found = _matched(pattern, rimmed, at + middle)
            if found is not None and (cover is None or cover[int(found[1]), int(found[0])] > 0.5):
                out[n][frame] = found
    return [
        Track(places, track.pattern, frozenset(places.keys() - track.places.keys()))
        for track, places in zip(tracks, out)
    ]


def _in_view(scene: Scene, tracks: list[Track], order: list[int], camera: int) -> list[tuple[int, NDArray]]:
    """Points that a camera must see, but whose tracks have ended before, and where, from the frame's middle; those that
    were seen longest first."""
    frame, count = order[camera], len(tracks)
    away = scene.points[:, :3] - scene.points[:, 3:] * scene.places[camera]
    depth = away @ scene.turns[camera][2]
    at = pictured(scene, Views(np.full(count, camera), np.arange(count), np.zeros((count, 2))))
    index = {each: k for k, each in enumerate(order)}
    some = []
    for n, track in enumerate(tracks):
        if depth[n] <= 0 or track.pattern is None or frame < max(track.places) + GONE_FRAMES:
            continue
        first = index.get(track.pattern.frame)
        if first is None:
            continue
        before = scene.points[n, :3] - scene.points[n, 3] * scene.places[first]
        grown = float(before @ scene.turns[first][2]) / float(depth[n])
        if 1 / FAR_LARGER < grown < FAR_LARGER:
            some.append((n, at[n]))
    some.sort(key=lambda each: -tracks[each[0]].life)
    return some


def _matched(pattern: Pattern, rimmed: Codes, at: NDArray[np.float64]) -> tuple[float, float] | None:
    """Where a track's first pattern is found near a place of a frame, px; None where it is not, there and back."""
    (height, width), rim = (each - 2 * HALF_PX for each in rimmed.shape), WINDOW[0] / 2
    if not (rim < at[0] < width - rim and rim < at[1] < height - rim):
        return None
    near = pattern_at(rimmed, at)
    start, guess = (np.array([[each.at]], np.float32) for each in (pattern, near))
    hit, ok = _followed(pattern.codes, near.codes, start, guess, 1)
    back, ok_back = _followed(near.codes, pattern.codes, hit, start, 0)
    off = (hit - guess)[0, 0]
    if not (ok and ok_back) or np.hypot(*(back - start)[0, 0]) > BACK_PX or np.hypot(*off) > REACH_PX:
        return None
    one, other = (cv2.getRectSubPix(each, WINDOW, tuple(map(float, where)))
                  for each, where in ((pattern.codes, pattern.at), (near.codes, hit[0, 0])))  # fmt: skip
    if float(cv2.matchTemplate(one, other, cv2.TM_CCOEFF_NORMED)[0, 0]) < LEAST_ALIKE:
        return None
    return float(at[0] + off[0]), float(at[1] + off[1])


def _followed(a: Codes, b: Codes, start: Array, guess: Array, sizes: int) -> tuple[Array, bool]:
    stop = (cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 30, 0.003)
    hit, ok, _ = cv2.calcOpticalFlowPyrLK(
        a, b, start, guess.copy(), winSize=WINDOW, maxLevel=sizes, criteria=stop, flags=cv2.OPTFLOW_USE_INITIAL_FLOW
    )
    return np.asarray(hit, np.float32), bool(ok[0, 0])
