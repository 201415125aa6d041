"""The first scene of a shot: some frames that explain most tracks, out of several starts, then all others."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from ..shot.lock import Lock
from ..words import mark, say
from .bundle import Scene, adjust
from .dominant import cameras_of, one_plane
from .errors import LockError
from .features import Track
from .grow import grown
from .scene import (
    LEAST_TRACKS,
    by_noise,
    error_of,
    explained,
    inside_out,
    only,
    placed,
    triangulated,
    two_view,
    views_of,
    with_points,
)

Matrix = NDArray[np.float64]
Progress = Callable[[float, str], None]

FIRST_FRAMES = 9
USUAL_FOCALS = (0.8, 1.2, 2.0, 3.5)  # frame widths (common practice)
MOST_STARTS = 3  # that are followed to the end, of all that are begun
WELL_EXPLAINED = 0.95  # of the tracks
NEARLY = 0.9  # of what the best explains: a start that may be better when it is looked at closely
SHARED = 0.3  # of the reference frame's features, that a frame of the first scene must see
UNPLACED = mark("Too few features could be placed in space. Is the focal length right?")


def begun_scene(
    lock: Lock,
    tracks: list[Track],
    frames: range,
    size: tuple[int, int],
    guess: float,
    rough: dict[int, Matrix],
    progress: Progress,
) -> tuple[Scene, list[Track], list[int]]:
    """A scene of some frames that explains most tracks, out of several starts; then all other frames added: those that
    share enough with the reference frame at once, then one by one.

    The starts: the turns found without any parallax, with a steady way along each axis and its reverse; two frames'
    essential matrix with the others placed from what those two see; and, where nearly all lies on one plane, the
    cameras that see it so.
    """
    start, middle, part = lock.reference_frame, np.array(size) / 2, _sharing(tracks, frames, lock.reference_frame)
    some = sorted({start, *np.linspace(part[0], part[-1], FIRST_FRAMES).round().astype(int).tolist()})
    order = [start, *(frame for frame in some if frame != start)]
    index = {frame: k for k, frame in enumerate(order)}
    few = [each for each in (only(track, index) for track in tracks) if each.life >= 3]
    given = lock.lens.given and lock.lens.focal_px is not None
    turns = np.array([rough.get(frame, np.eye(3)) for frame in order])
    span = np.array([(frame - start) / max(len(frames) - 1, 1) for frame in order])[:, None]
    ways = [sign * axis for axis in np.eye(3) for sign in (1, -1)]
    starts = [with_points(few, index, turns, span * way, guess, middle) for way in ways]
    starts += [_two_view_start(few, order, turns, guess, middle, sign) for sign in (1, -1)]
    starts += _plane_starts(
        few, order, [guess] if given else [guess, *(each * size[0] for each in USUAL_FOCALS)], middle
    )

    def adjusted(scene: Scene, used: list[Track]) -> tuple[float, Scene, list[Track]]:
        views = views_of(used, index, middle)
        scene = adjust(scene, views, not given, rounds=20, least_gain=3e-3)
        scene = adjust(scene, by_noise(scene, views), not given, rounds=10, least_gain=3e-3)
        return (explained(scene, views) if 0.3 < scene.focal_px / size[0] < 15 else 0.0), scene, used

    begun: list[tuple[float, Scene, list[Track]]] = []
    for count, each in enumerate(starts):
        progress(0.12 + 0.2 * count / len(starts), say("{name}: first scene", name=lock.name))
        if each is not None:
            views = views_of(each[1], index, middle)
            scene = adjust(each[0], views, False, rounds=6, least_gain=1e-2)
            begun.append((explained(scene, views), scene, each[1]))
    begun.sort(key=lambda each: -each[0])
    found = []
    for count, (_, scene, used) in enumerate(begun[:MOST_STARTS]):
        progress(0.32 + 0.05 * count / MOST_STARTS, say("{name}: first scene", name=lock.name))
        found.append(adjusted(scene, used))
    for share in USUAL_FOCALS:  # a camera that hardly turned tells no focal length: the usual ones are tried
        if given or max((each[0] for each in found), default=0.0) > WELL_EXPLAINED * len(few):
            break
        each = _two_view_start(few, order, turns, share * size[0], middle, 1)
        if each is not None:
            scene = adjust(each[0], views_of(each[1], index, middle), False, rounds=6, least_gain=1e-2)
            found.append(adjusted(scene, each[1]))
    best = _most_explaining(found, index, middle)
    if best is not None and not given:  # where a lens is hardly told, steps toward the right one are too small to go on
        found = [best, *(adjusted(best[1].through(share * size[0]), best[2]) for share in USUAL_FOCALS)]
        best = _most_explaining(found, index, middle)
    if best is None or best[0] < LEAST_TRACKS:
        raise LockError(
            say(
                "No frame shares enough features with frame {start}, or they tell no depth. Set another "
                "reference frame.",
                start=start,
            )
        )
    first = _right_way_round(best[1], best[2], index, middle, not given)
    near = tracks if len(part) == len(frames) else [only(track, part) for track in tracks]
    scene, used, order = _all_frames(first, order, near, part, middle)
    if len(part) == len(frames):
        return scene, used, order
    views = views_of(used, {frame: k for k, frame in enumerate(order)}, middle)
    scene = adjust(scene, views, not given, rounds=12, least_gain=1e-2)

    def report(share: float) -> None:
        progress(0.37, say("{name}: {share:.0%} of the frames", name=lock.name, share=share))

    whole = grown(scene, order, tracks, frames, middle, not given, report)
    if whole is None:
        raise LockError(say(UNPLACED))
    return whole


def _most_explaining(
    found: list[tuple[float, Scene, list[Track]]], index: dict[int, int], middle: NDArray
) -> tuple[float, Scene, list[Track]] | None:
    """The start that explains most, by the noise of the one that has least: what explains wrong features as well is off
    by a little at all of them."""
    most = max((each[0] for each in found), default=0.0)
    good = [(each, views_of(each[2], index, middle)) for each in found if each[0] > NEARLY * most]
    if not good:
        return None
    scale = min(by_noise(scene, views).robust_px for (_, scene, _), views in good)
    return max(good, key=lambda each: explained(each[0][1], each[1], scale))[0]


def _right_way_round(
    scene: Scene, used: list[Track], index: dict[int, int], middle: NDArray, free_focal: bool
) -> Scene:
    """The scene, or with near and far exchanged, whichever explains more."""
    views = by_noise(scene, views_of(used, index, middle))
    both = [adjust(each, views, free_focal, rounds=20, least_gain=1e-3) for each in (scene, inside_out(scene))]
    return min(both, key=lambda each: error_of(each, views))


def _sharing(tracks: list[Track], frames: range, start: int) -> range:
    """The frames about the reference frame that share enough features with it."""
    mine = [track for track in tracks if start in track.places]
    least = max(2 * LEAST_TRACKS, SHARED * len(mine))
    ends = []
    for way in (-1, 1):
        end = start
        while end + way in frames and sum(end + way in track.places for track in mine) >= least:
            end += way
        ends.append(end)
    few = FIRST_FRAMES - 1  # as many frames are needed
    low = max(min(ends[0], ends[1] - few), frames[0])
    return range(low, min(max(ends[1], low + few), frames[-1]) + 1)


def _two_view_start(
    tracks: list[Track], order: list[int], rough: NDArray, focal: float, middle: NDArray, sign: int
) -> tuple[Scene, list[Track]] | None:
    """Two frames first, those with the most parallax; the others placed from the points that the two see."""
    start, index = order[0], {frame: k for k, frame in enumerate(order)}
    best, found, most = start, None, 0.0
    for frame in order[1:]:
        pairs = [(t.places[start], t.places[frame]) for t in tracks if start in t.places and frame in t.places]
        if len(pairs) < LEAST_TRACKS:
            continue
        a, b = ((np.array(each) - middle) / focal for each in zip(*pairs))
        turn, way, parallax = two_view(a, b)
        if parallax > most:
            best, found, most = frame, (turn, way), parallax
    if found is None:
        return None
    turns, places = rough.copy(), np.zeros((len(order), 3))
    turns[index[best]], places[index[best]] = found[0], sign * found[1]
    known = {start: 0, best: index[best]}
    both = [t for t in tracks if start in t.places and best in t.places]
    points, there = triangulated(both, known, turns, places, focal, middle)
    for frame in order[1:]:
        if frame != best:
            seen = [
                (p, t.places[frame]) for t, p, is_there in zip(both, points, there) if is_there and frame in t.places
            ]
            pose = placed(seen, focal, middle)
            if pose is not None:
                turns[index[frame]], places[index[frame]] = pose
    return with_points(tracks, index, turns, places, focal, middle)


def _plane_starts(
    tracks: list[Track], order: list[int], focals: list[float], middle: NDArray
) -> list[tuple[Scene, list[Track]] | None]:
    """Where nearly all lies on one plane: all cameras that see it so."""
    index = {frame: k for k, frame in enumerate(order)}
    seen = one_plane([track.places for track in tracks], order, middle)
    first = [np.array(track.places[order[0]]) - middle for track in tracks if order[0] in track.places]
    if seen is None:
        return []
    picture = np.column_stack([first, np.ones(len(first))])
    return [
        with_points(tracks, index, turns, places, each, middle)
        for each, turns, places, _ in cameras_of(seen, picture, focals)
    ]


def _all_frames(
    scene: Scene, order: list[int], tracks: list[Track], frames: range, middle: NDArray
) -> tuple[Scene, list[Track], list[int]]:
    """Adds the frames between: placed from the points, or, where that fails, between their neighbours."""
    index = {frame: k for k, frame in enumerate(order)}
    points, there = triangulated(tracks, index, scene.turns, scene.places, scene.focal_px, middle)
    known = [(track, point) for track, point, is_there in zip(tracks, points, there) if is_there]
    whole = [order[0], *(frame for frame in frames if frame != order[0])]
    turns, places = [], []
    some = np.array(sorted(order))
    for frame in whole:
        if frame in index:
            turns.append(scene.turns[index[frame]])
            places.append(scene.places[index[frame]])
            continue
        seen = [(p, t.places[frame]) for t, p in known if frame in t.places]
        pose = placed(seen, scene.focal_px, middle)
        nearest = index[int(some[np.abs(some - frame).argmin()])]
        turn, place = pose if pose is not None else (scene.turns[nearest], scene.places[nearest])
        turns.append(turn)
        places.append(place)
    all_index = {frame: k for k, frame in enumerate(whole)}
    both = with_points(tracks, all_index, np.array(turns), np.array(places), scene.focal_px, middle)
    if both is None:
        raise LockError(say(UNPLACED))
    return both[0], both[1], whole
