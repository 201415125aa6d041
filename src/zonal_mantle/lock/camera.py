"""The camera lock: a moving camera and points of the scene, from features of the whole shot."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import DEFAULT_FOCAL, camera_matrix
from ..shot.lock import Lock, LockFrame, ScenePoint
from ..words import say
from .again import found_again
from .align import Fit
from .begin import begun_scene
from .bundle import Scene, Views, adjust, pictured
from .chain import Chain, Link
from .check import WithoutBlanks
from .degenerate import FocalInterval, better_turned, focal_interval, hardly_moved, only_turned, turning
from .dominant import off_one_scene
from .errors import LockError
from .features import Track, follow_features
from .pan import solve_turn
from .plane import check_start
from .residual import likely
from .rivals import apart_px, plane_words, rivals_of
from .runs import SoFar, flat, triple, unseen
from .scene import (
    LEAST_TRACKS,
    by_noise,
    error_of,
    explained,
    only,
    robust_px_of,
    views_of,
    with_points,
    without_outliers,
)
from .slide import slides_px
from .stretch import Stretches

Array = NDArray[np.float32]
Matrix = NDArray[np.float64]
Progress = Callable[[float, str], None]
Seek = Callable[..., list[Track]]  # `again.found_again` that knows the pictures

ONLY_TURNED_PX = 0.35  # where turning alone explains the tracks this well there is nothing to find depth by
OUTLIERS = (8, 6, 5, 4, 4)  # views off by more medians than this go, round by round
LEAST_OUTLIER_PX = 0.3
MOST_EXCHANGES = 4
WITHIN_PX = 0.25  # of where it is seen, a feature is explained
FOUND_AGAIN = 2  # rounds, after which features are looked for where the scene has them
STRETCHED = 3  # rounds, after which it is taken off what their patterns are shifted by
LOOSE_PX, LOOSER = 1.0, 5.0  # of error, and times what turning leaves, from which turning alone is the better lock
HARDLY_PX = 0.12  # that turning leaves: the times alone decide, for patterns seem to shift as much by blur alone
HARDLY_MORE = 1.6  # times: turning alone leaves so little more that it may be all, where all lies on one plane
OF_PLANE = 2.0  # times: cameras that see one plane are off by more than their views say, as measured on pictures
WORST_PX = 0.6  # common practice: nothing is hung on a camera whose points are off by more
POINTS_KEPT = 400
MOST_TRIES = 300  # of four features; where they are not one plane none is right, and rough turns are all that is wanted
LEAST_SEEN, UNKNOWN_PX = 4, 9.0  # views of a frame, below which its camera is not known, and what is said of it


def solve_camera(
    lock: Lock,
    feed_of: Callable[[int], Array],
    cover_of: Callable[[int], Array | None],
    frames: range,
    progress: Progress = lambda share, words: None,
    so_far: SoFar = unseen,
) -> Lock:
    """Solves a moving camera: turn and place a frame, points of the scene, and the focal length unless it is given.

    Features are followed over the whole shot; the turning part is solved from all of them; two frames with the most
    parallax give a first scene; the other frames are added; all is adjusted together and what does not fit is
    thrown out, twice. Distances are in units in which the camera's longest way from the reference frame is 1, until
    they are scaled.

    Raises
    ------
    LockError : too little to follow; a camera that only turned (a pan lock serves); a shot cut in two.
    """
    check_start(lock, frames)
    filled = WithoutBlanks(feed_of)
    tracks = follow_features(filled, cover_of, frames, lambda s, w: progress(0.45 * s, w), lock.name)
    feed = feed_of(lock.reference_frame)
    if lock.reference_frame in filled.blank:
        raise LockError(say("Frame {frame} is blank. Choose another reference frame.", frame=lock.reference_frame))
    size = (feed.shape[1], feed.shape[0])
    again = partial(found_again, feed_of=feed_of, cover_of=cover_of)
    found = camera_from_tracks(lock, tracks, frames, size, lambda s, w: progress(0.45 + 0.55 * s, w), so_far, again)
    if not filled.blank:
        return found
    names = ", ".join(str(frame) for frame in sorted(filled.blank))
    entries = tuple(entry for entry in found.solved if entry.frame not in filled.blank)
    return found.but(solved=entries, lost=(*found.lost, say("Blank frames, without a camera: {names}.", names=names)))


def camera_from_tracks(
    lock: Lock, tracks: list[Track], frames: range, size: tuple[int, int], progress: Progress, so_far: SoFar = unseen,
    again: Seek | None = None,
) -> Lock:  # fmt: skip
    """As `solve_camera`, from tracks that are there. The whole camera is there from its first adjustment on; `again`
    finds features where the scene says that they are (`again.found_again`)."""
    start, middle = lock.reference_frame, np.array(size) / 2
    alive = {frame: sum(frame in track.places for track in tracks) for frame in frames}
    thin = [frame for frame in frames if alive[frame] < LEAST_TRACKS]
    if thin:
        raise LockError(
            say(
                "Only {alive} features could be followed through frame {thin} (needs {least_tracks}). The shot "
                "may have a cut there, or too little texture; a plane lock may hold where a camera lock does not.",
                alive=alive[thin[0]],
                thin=thin[0],
                least_tracks=LEAST_TRACKS,
            )
        )
    progress(0.05, say("{name}: how the camera turned", name=lock.name))
    chain = track_links(tracks, frames, start)
    turned = solve_turn(chain, start, size, lock.lens, must_know=False)
    lens, turns = turned.lens, turned.turns
    guess = lens.focal_px or DEFAULT_FOCAL * size[0]
    off = turning_error(tracks, frames, turns, guess, middle)
    if off < ONLY_TURNED_PX:
        raise only_turned(off)
    still = static_tracks(tracks, frames, start)
    progress(0.12, say("{name}: first scene", name=lock.name))
    scene, used, order = begun_scene(lock, still, frames, size, guess, turns, progress)
    index = {frame: k for k, frame in enumerate(order)}
    steps = [0]

    def report() -> None:
        steps[0] += 1
        progress(min(0.4 + 0.008 * steps[0], 0.98), say("{name}: adjusting the scene", name=lock.name))

    def seek(share: float) -> None:
        progress(0.55 + 0.1 * share, say("{name}: features found again", name=lock.name))

    given, bends, cut = lock.lens.given, lock.lens.solve_distortion, _unreached(frames, order)
    stretches = Stretches()

    def views_by(scene: Scene, used: list[Track], straight: bool, robust_px: float) -> Views:
        plain = replace(views_of(used, index, middle), robust_px=robust_px)
        return stretches.taken_off(scene, used, plain, order) if straight else plain

    def settled(scene: Scene, used: list[Track]) -> tuple[Scene, list[Track], Views, float]:
        """Adjusted, without what does not fit, with what was found again; and the share of the views that was kept.

        What patterns are shifted by is taken off once the scene has settled without, and if it fits better so."""
        believed, straight, views = 1.0, False, by_noise(scene, views_of(used, index, middle))
        for turn, widest in enumerate(OUTLIERS):
            if turn == FOUND_AGAIN and again is not None:
                used = again(scene, used, order, report=seek)
                views = views_by(scene, used, False, views.robust_px)
            if turn == STRETCHED:
                shifted = views_by(scene, used, True, views.robust_px)
                other = adjust(scene, shifted, not given, False, 20, 1e-3, report)
                straight = error_of(other, shifted) < error_of(scene, views)
                scene, views = (other, shifted) if straight else (scene, views)
            scene = adjust(scene, views, not given, False, 20, 1e-3, report)
            off = np.linalg.norm(pictured(scene, views) - views.seen, axis=1)
            scene, used = without_outliers(scene, used, off, max(LEAST_OUTLIER_PX, widest * float(np.median(off))))
            believed *= sum(track.life for track in used) / len(off)
            if len(used) < LEAST_TRACKS:
                raise LockError(
                    say(
                        "Only {count} features move as parts of one still scene. Exclude what moves by drop shapes.",
                        count=len(used),
                    )
                )
            views = views_by(scene, used, straight, robust_px_of(off))
            so_far(partial(_as_lock, lock, scene, used, views, order, size, cut, believed))
        return adjust(scene, views, not given, bends, 40, 1e-5, report), used, views, believed

    def of_all(scene: Scene) -> tuple[Scene, list[Track]] | None:
        return with_points(mine, index, scene.turns, scene.places, scene.focal_px, middle)

    def explains(scene: Scene) -> float:
        """How many of all still features a scene's cameras explain, those that were thrown out as well."""
        all_of_it = of_all(scene)
        return 0.0 if all_of_it is None else explained(all_of_it[0], views_of(all_of_it[1], index, middle), WITHIN_PX)

    mine = [only(track, index) for track in still]
    scene, used, views, believed = settled(scene, used)
    rivals = rivals_of(scene, views, not given, bends, report)
    for _ in range(MOST_EXCHANGES):
        best = rivals.better(scene, explains)
        begun = None if best is None else of_all(best)
        if begun is None:
            break
        after = settled(*begun)
        if explains(after[0]) <= explains(scene):
            break
        scene, used, views, believed = after
        rivals = rivals_of(scene, views, not given, bends, report)
    cut += rivals.words(scene, views)
    alone = turning(scene, views, not given, bends)
    if alone.explains_all:
        raise only_turned(alone.turning_px)
    if rivals.flat and alone.turning_px < HARDLY_MORE * alone.moving_px:
        raise hardly_moved(alone.turning_px, rivals.plane.share)
    told = None if given else focal_interval(scene, views, bends, report, rivals.flat)
    apart = apart_px(scene, views, rivals, told, size)
    if told is None or told.known:
        cut += plane_words(rivals, apart, given)
    believed = believed / OF_PLANE if rivals.flat else believed
    found = _no_surer(_as_lock(lock, scene, used, views, order, size, cut, believed, told), order, apart)
    said = float(np.sqrt(np.mean([entry.residual_px**2 for entry in found.solved])))
    loose = 0.0 if alone.turning_px < HARDLY_PX else LOOSE_PX
    if alone.turning_px < ONLY_TURNED_PX and said > max(loose, LOOSER * alone.turning_px):
        raise better_turned(alone.turning_px, said)
    return found


def _unreached(frames: range, order: list[int]) -> list[str]:
    """Where a scene that was grown could go no further, either way."""
    ends = [(say("Forward"), max(order) + 1), (say("Backward"), min(order) - 1)]
    return [
        say(
            "{side}: lost on frame {frame}: too few features are seen there whose places are known. The shot may "
            "have a cut there; a camera lock of its own may hold beyond it.",
            side=side,
            frame=frame,
        )
        for side, frame in ends
        if frame in frames
    ]


def static_tracks(tracks: list[Track], frames: range, start: int) -> list[Track]:
    """Tracks that move as parts of one still scene: those that keep the epipolar constraint between frames far apart.

    No lens is needed for that (Hartley & Zisserman 2004, chapter 9). A track that breaks it in a third of the pairs
    goes.
    """
    asked, broken = np.zeros(len(tracks)), np.zeros(len(tracks))
    step = max(len(frames) // 10, 1)
    some = list(frames)[::step]
    for a, b in [(x, y) for k, x in enumerate(some) for y in some[k + 2 : k + 6]] + [(start, x) for x in some]:
        both = [k for k, track in enumerate(tracks) if a in track.places and b in track.places]
        if a == b or len(both) < LEAST_TRACKS:
            continue
        source = np.array([tracks[k].places[a] for k in both])
        target = np.array([tracks[k].places[b] for k in both])
        stray = off_one_scene(source, target)
        if stray is None:
            try:
                _, good = cv2.findFundamentalMat(source, target, cv2.USAC_MAGSAC, 0.6, 0.999, 2000)
            except cv2.error:  # places that no model fits
                continue
            if good is None:
                continue
            stray = good.reshape(-1) == 0
        asked[both] += 1
        broken[np.array(both)[stray]] += 1
    return [track for k, track in enumerate(tracks) if asked[k] == 0 or broken[k] <= 0.34 * asked[k]]


def track_links(tracks: list[Track], frames: range, start: int) -> Chain:
    """Homographies between frames some way apart, fitted robustly to tracks, as links of a chain."""
    ahead = [frame for frame in frames if frame > start]
    behind = [frame for frame in reversed(frames) if frame < start]
    chain = Chain()
    for way in (ahead, behind):
        line = [start, *way]
        for k in range(1, len(line)):
            for back in (1, 4, 12, 30):
                if k - back < 0:
                    break
                link = _link(tracks, line[k - back], line[k])
                if link is not None:
                    chain.links.append(link)
    return chain


def _link(tracks: list[Track], a: int, b: int) -> Link | None:
    pairs = [(track.places[a], track.places[b]) for track in tracks if a in track.places and b in track.places]
    if len(pairs) < 12:
        return None
    source, target = np.array(pairs).transpose(1, 0, 2)
    matrix, _ = cv2.findHomography(source, target, cv2.RANSAC, 1.0, maxIters=MOST_TRIES)
    if matrix is None:
        return None
    low, high = np.percentile(source, 5, axis=0), np.percentile(source, 95, axis=0)
    xs, ys = np.meshgrid(np.linspace(low[0], high[0], 4), np.linspace(low[1], high[1], 3))
    points = np.stack([xs.reshape(-1), ys.reshape(-1)], axis=1)
    return Link.evenly(a, b, Fit(matrix, 1.0, 1.0, 0.3, 0.0, 1.0), points)


def turning_error(tracks: list[Track], frames: range, turns: dict[int, Matrix], focal: float, middle: NDArray) -> float:
    """What turning alone leaves of the tracks: the 80th percentile over tracks of their root mean square error, px."""
    off = []
    for track in tracks:
        at = [frame for frame in track.places if frame in turns]
        if len(at) < 2:
            continue
        seen = (np.array([track.places[frame] for frame in at]) - middle) / focal
        rays = np.concatenate([seen, np.ones((len(at), 1))], axis=1)
        world = np.einsum("nji,nj->ni", np.array([turns[frame] for frame in at]), rays)
        world /= world[:, 2:]
        ray = np.median(world, axis=0)
        local = np.einsum("nij,j->ni", np.array([turns[frame] for frame in at]), ray)
        apart = (local[:, :2] / local[:, 2:] - seen) * focal
        off.append(np.sqrt((apart**2).sum(axis=1).mean()))
    return float(np.percentile(off, 80)) if off else 0.0


def _as_lock(
    lock: Lock, scene: Scene, tracks: list[Track], views: Views, order: list[int], size: tuple[int, int],
    cut: list[str], believed: float, told: FocalInterval | None = None,
) -> Lock:  # fmt: skip
    off = np.linalg.norm(pictured(scene, views) - views.seen, axis=1)
    k = camera_matrix(scene.focal_px, size)
    entries, seen = [], np.bincount(views.camera, minlength=len(order))
    untold = 0.0 if told is None else told.beyond
    slides = slides_px(scene, views, size, not lock.lens.given, lock.lens.solve_distortion, untold, believed)
    for number, frame in enumerate(order):
        motion = k @ scene.turns[number] @ np.linalg.inv(k)
        entries.append(
            LockFrame(
                frame=frame,
                homography=flat(motion / motion[2, 2]),
                residual_px=float(slides[number]) if seen[number] >= LEAST_SEEN else UNKNOWN_PX,
                confidence=likely(seen[number] / 60),
                rotation=triple(cv2.Rodrigues(scene.turns[number])[0]),
                position=triple(scene.places[number]),
            )
        )
    errors = np.sqrt(np.bincount(views.point, off**2) / np.maximum(np.bincount(views.point), 1))
    points = [
        ScenePoint(place=triple(point[:3] / point[3]), error_px=float(error), seen=track.life)
        for point, error, track in zip(scene.points, errors, tracks)
        if point[3] > 1e-4
    ]
    points.sort(key=lambda each: (-each.seen, each.error_px))
    rms = float(np.sqrt((off**2).mean()))
    lost = cut + (
        [
            say(
                "The points are off by {rms:.2f} px; things can be hung on it below {worst_px} px.",
                rms=rms,
                worst_px=WORST_PX,
            )
        ]
        if rms > WORST_PX
        else []
    )
    if told is not None and not told.known:
        lost.append(told.words())
    bounds = None if told is None else (told.low_px, told.high_px)
    return lock.but(
        solved=tuple(sorted(entries, key=lambda entry: entry.frame)),
        points=tuple(points[:POINTS_KEPT]),
        in_metres=False,
        lens=lock.lens.but(focal_px=float(scene.focal_px), distortion=float(scene.distortion), bounds_px=bounds),
        lost=tuple(lost),
    )


def _no_surer(lock: Lock, order: list[int], apart: NDArray[np.float64]) -> Lock:
    """The lock, no frame of which is said to be off by less than others that explain the features as well are apart
    from it, px by camera."""
    least = dict(zip(order, apart))
    entries = (e.but(residual_px=max(e.residual_px, float(least[e.frame]))) for e in lock.solved)
    return lock.but(solved=tuple(entries))


def scaled(lock: Lock, factor: float) -> Lock:
    """A camera lock whose distances are all multiplied, so that they become metres."""
    if not factor > 0:
        raise LockError(say("A scale must be above 0."))
    solved = tuple(
        entry.but(position=triple(np.array(entry.position) * factor)) if entry.position is not None else entry
        for entry in lock.solved
    )
    points = tuple(point.but(place=triple(np.array(point.place) * factor)) for point in lock.points)
    return lock.but(solved=solved, points=points, in_metres=True)
