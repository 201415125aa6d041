"""The camera lock: a moving camera and points of the scene, from features of the whole shot."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import DEFAULT_FOCAL, camera_matrix
from ..shot.lock import Lock, LockFrame, ScenePoint
from ..words import say
from .align import Fit
from .bundle import Scene, Views, adjust, pictured
from .chain import Chain, Link
from .degenerate import FocalInterval, focal_interval, turning
from .errors import LockError, OnlyTurned
from .features import Track, follow_features
from .pan import solve_turn
from .plane import check_start
from .residual import likely
from .runs import SoFar, flat, triple, unseen

Array = NDArray[np.float32]
Matrix = NDArray[np.float64]
Progress = Callable[[float, str], None]

ONLY_TURNED_PX = 0.35  # where turning alone explains the tracks this well there is nothing to find depth by
LEAST_TRACKS = 30
OUTLIERS = (8, 6, 5, 4, 4)  # views off by more medians than this go, round by round
LEAST_OUTLIER_PX = 0.3
WORST_PX = 0.6  # common practice: nothing is hung on a camera whose points are off by more
POINTS_KEPT = 400
FIRST_FRAMES = 9
USUAL_FOCALS = (0.8, 1.2, 2.0, 3.5)  # frame widths (common practice)
MOST_STARTS = 3  # that are followed to the end, of all that are begun
WELL_EXPLAINED = 0.5  # of the tracks


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
    tracks = follow_features(feed_of, cover_of, frames, lambda s, w: progress(0.45 * s, w), lock.name)
    feed = feed_of(lock.reference_frame)
    size = (feed.shape[1], feed.shape[0])
    return camera_from_tracks(lock, tracks, frames, size, lambda s, w: progress(0.45 + 0.55 * s, w), so_far)


def camera_from_tracks(
    lock: Lock, tracks: list[Track], frames: range, size: tuple[int, int], progress: Progress, so_far: SoFar = unseen
) -> Lock:
    """As `solve_camera`, from tracks that are there. The whole camera is there from its first adjustment on."""
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
    off = turning_error(tracks, frames, turns, lens.focal_px or DEFAULT_FOCAL * size[0], middle)
    if off < ONLY_TURNED_PX:
        raise _only_turned(off)
    still = static_tracks(tracks, frames, start)
    progress(0.12, say("{name}: first scene", name=lock.name))
    scene, used, order = _begun(lock, still, frames, size, lens.focal_px or DEFAULT_FOCAL * size[0], turns, progress)
    index = {frame: k for k, frame in enumerate(order)}
    steps = [0]

    def report() -> None:
        steps[0] += 1
        progress(
            min(0.4 + 0.008 * steps[0], 0.98), say("{name}: adjusting {count} points", name=lock.name, count=len(used))
        )

    given = lock.lens.given
    for widest in OUTLIERS:
        views = _views(used, index, middle)
        scene = adjust(scene, views, not given, False, 20, 1e-3, report)
        off = np.linalg.norm(pictured(scene, views) - views.seen, axis=1)
        scene, used = _without_outliers(scene, used, off, max(LEAST_OUTLIER_PX, widest * float(np.median(off))))
        if len(used) < LEAST_TRACKS:
            raise LockError(
                say(
                    "Only {count} features move as parts of one still scene. Exclude what moves by drop shapes.",
                    count=len(used),
                )
            )
        so_far(partial(_as_lock, lock, scene, used, _views(used, index, middle), order, size, None))
    views = _views(used, index, middle)
    scene = adjust(scene, views, not given, lock.lens.solve_distortion, 40, 1e-5, report)
    alone = turning(scene, views, not given, lock.lens.solve_distortion)
    if alone.explains_all:
        raise _only_turned(alone.turning_px)
    told = None if given else focal_interval(scene, views, lock.lens.solve_distortion, report)
    return _as_lock(lock, scene, used, views, order, size, told)


def _only_turned(off_px: float) -> OnlyTurned:
    return OnlyTurned(
        say(
            "The camera only turned: turning alone explains the features to {off_px:.2f} px, and moving "
            "explains no more, so that nothing tells their distances. Use a pan lock.",
            off_px=off_px,
        )
    )


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
        _, good = cv2.findFundamentalMat(source, target, cv2.USAC_MAGSAC, 0.6, 0.999, 2000)
        if good is None:
            continue
        asked[both] += 1
        broken[np.array(both)[good.reshape(-1) == 0]] += 1
    return [track for k, track in enumerate(tracks) if asked[k] == 0 or broken[k] <= 0.34 * asked[k]]


def _begun(
    lock: Lock,
    tracks: list[Track],
    frames: range,
    size: tuple[int, int],
    guess: float,
    rough: dict[int, Matrix],
    progress: Progress,
) -> tuple[Scene, list[Track], list[int]]:
    """A scene of some frames that explains most tracks, out of several starts; then all other frames added.

    The starts: the turns found without any parallax, with a steady way along each axis and its reverse; and two frames'
    essential matrix with the others placed from what those two see.
    """
    start, middle = lock.reference_frame, np.array(size) / 2
    some = sorted({start, *np.linspace(frames[0], frames[-1], FIRST_FRAMES).round().astype(int).tolist()})
    order = [start, *(frame for frame in some if frame != start)]
    index = {frame: k for k, frame in enumerate(order)}
    few = [Track({f: p for f, p in track.places.items() if f in index}) for track in tracks]
    few = [track for track in few if track.life >= 3]
    given = lock.lens.given and lock.lens.focal_px is not None
    turns = np.array([rough.get(frame, np.eye(3)) for frame in order])
    span = np.array([(frame - start) / max(len(frames) - 1, 1) for frame in order])[:, None]
    ways = [sign * axis for axis in np.eye(3) for sign in (1, -1)]
    starts = [_with_points(few, index, turns, span * way, guess, middle) for way in ways]
    starts += [_two_view_start(few, order, turns, guess, middle, sign) for sign in (1, -1)]

    def adjusted(scene: Scene, used: list[Track]) -> tuple[float, Scene]:
        views = _views(used, index, middle)
        scene = adjust(scene, views, not given, rounds=20, least_gain=3e-3)
        return (_explained(scene, views) if 0.3 < scene.focal_px / size[0] < 15 else 0.0), scene

    begun: list[tuple[float, Scene, list[Track]]] = []
    for count, each in enumerate(starts):
        progress(0.12 + 0.2 * count / len(starts), say("{name}: first scene", name=lock.name))
        if each is not None:
            views = _views(each[1], index, middle)
            scene = adjust(each[0], views, False, rounds=6, least_gain=1e-2)
            begun.append((_explained(scene, views), scene, each[1]))
    begun.sort(key=lambda each: -each[0])
    found = []
    for count, (_, scene, used) in enumerate(begun[:MOST_STARTS]):
        progress(0.32 + 0.05 * count / MOST_STARTS, say("{name}: first scene", name=lock.name))
        found.append(adjusted(scene, used))
    for share in USUAL_FOCALS:  # a camera that hardly turned tells no focal length: the usual ones are tried
        if given or max((score for score, _ in found), default=0.0) > WELL_EXPLAINED * len(few):
            break
        each = _two_view_start(few, order, turns, share * size[0], middle, 1)
        if each is not None:
            scene = adjust(each[0], _views(each[1], index, middle), False, rounds=6, least_gain=1e-2)
            found.append(adjusted(scene, each[1]))
    best = max(found, key=lambda each: each[0], default=None)
    if best is None or best[0] < LEAST_TRACKS:
        raise LockError(
            say(
                "No frame shares enough features with frame {start}, or they tell no depth. Set another "
                "reference frame.",
                start=start,
            )
        )
    return _all_frames(best[1], order, tracks, frames, middle)


def _explained(scene: Scene, views: Views) -> float:
    """How many points a scene explains: of each as much as it is seen before the lens and fits."""
    off = np.linalg.norm(pictured(scene, views) - views.seen, axis=1)
    square = np.bincount(views.point, off**2) / np.maximum(np.bincount(views.point), 1)
    return float((np.exp(-square) * (scene.points[:, 2] > -0.02)).sum())


def _with_points(
    tracks: list[Track], index: dict[int, int], turns: NDArray, places: NDArray, focal: float, middle: NDArray
) -> tuple[Scene, list[Track]] | None:
    """A scene of given cameras, with all points that can be placed; None for too few."""
    used, points = [], []
    for track in tracks:
        point = _triangulated(track, index, turns, places, focal, middle)
        if point is not None:
            used.append(track)
            points.append(point)
    if len(used) < LEAST_TRACKS:
        return None
    return Scene(focal, 0.0, turns, places, np.array(points)), used


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
    points = [_triangulated(t, known, turns, places, focal, middle) for t in both]
    for frame in order[1:]:
        if frame != best:
            seen = [(p, t.places[frame]) for t, p in zip(both, points) if p is not None and frame in t.places]
            pose = _placed(seen, focal, middle)
            if pose is not None:
                turns[index[frame]], places[index[frame]] = pose
    return _with_points(tracks, index, turns, places, focal, middle)


def two_view(a: NDArray, b: NDArray) -> tuple[Matrix, NDArray[np.float64], float]:
    """Turn and way (of length 1) between two frames, and how much parallax there is, in focal lengths.

    Parameters
    ----------
    a, b : (n, 2) places from the middle, in focal lengths.

    References
    ----------
    Essential matrix from five points: Nistér 2004, as OpenCV has it.
    """
    essential, good = cv2.findEssentialMat(a, b, np.eye(3), cv2.USAC_MAGSAC, 0.999, 6e-4)
    turn, way = np.eye(3), np.array([1.0, 0, 0])
    if essential is not None and essential.shape == (3, 3):
        _, found, shift, _ = cv2.recoverPose(essential, a, b, np.eye(3), mask=good.copy())
        turn = np.asarray(found, np.float64)
        way = np.asarray(-turn.T @ shift.reshape(3), np.float64)
    a3, b3 = (np.concatenate([each, np.ones((len(each), 1))], axis=1) for each in (a, b))
    back = b3 @ turn
    flow = (back / back[:, 2:] - a3)[:, :2]
    parallax = float(np.median(np.linalg.norm(flow, axis=1))) * float(np.sqrt(len(a)))
    return turn, way / max(float(np.linalg.norm(way)), 1e-9), parallax


def _placed(
    seen: list[tuple[NDArray, tuple[float, float]]], focal: float, middle: NDArray
) -> tuple[Matrix, NDArray[np.float64]] | None:
    """Turn and place of a camera from points of the scene and where it saw them."""
    near = [(point, at) for point, at in seen if abs(point[2]) > 1e-4]
    if len(near) < 8:
        return None
    world = np.array([np.array([p[0], p[1], 1.0]) / p[2] for p, _ in near])
    flat_places = (np.array([at for _, at in near]) - middle) / focal
    ok, turn, shift, _ = cv2.solvePnPRansac(
        world,
        flat_places,
        np.eye(3),
        None,
        reprojectionError=2.0 / focal,
        iterationsCount=300,
        flags=cv2.SOLVEPNP_SQPNP,
    )
    if not ok:
        return None
    matrix = np.asarray(cv2.Rodrigues(turn)[0], np.float64)
    return matrix, np.asarray(-matrix.T @ shift.reshape(3), np.float64)


def _all_frames(
    scene: Scene, order: list[int], tracks: list[Track], frames: range, middle: NDArray
) -> tuple[Scene, list[Track], list[int]]:
    """Adds the frames between: placed from the points, or, where that fails, between their neighbours."""
    index = {frame: k for k, frame in enumerate(order)}
    known = [
        (track, _triangulated(_only(track, index), index, scene.turns, scene.places, scene.focal_px, middle))
        for track in tracks
    ]
    whole = [order[0], *(frame for frame in frames if frame != order[0])]
    turns, places = [], []
    some = np.array(sorted(order))
    for frame in whole:
        if frame in index:
            turns.append(scene.turns[index[frame]])
            places.append(scene.places[index[frame]])
            continue
        seen = [(p, t.places[frame]) for t, p in known if p is not None and frame in t.places]
        pose = _placed(seen, scene.focal_px, middle)
        nearest = index[int(some[np.abs(some - frame).argmin()])]
        turn, place = pose if pose is not None else (scene.turns[nearest], scene.places[nearest])
        turns.append(turn)
        places.append(place)
    all_index = {frame: k for k, frame in enumerate(whole)}
    both = _with_points(tracks, all_index, np.array(turns), np.array(places), scene.focal_px, middle)
    if both is None:
        raise LockError(say("Too few features could be placed in space. Is the focal length right?"))
    return both[0], both[1], whole


def _only(track: Track, index: dict[int, int]) -> Track:
    return Track({frame: place for frame, place in track.places.items() if frame in index})


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
    matrix, _ = cv2.findHomography(source, target, cv2.RANSAC, 1.0)
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


def _triangulated(
    track: Track, index: dict[int, int], rotation: NDArray, places: NDArray, focal: float, middle: NDArray
) -> NDArray[np.float64] | None:
    """(a, b, w) of a track, linear in least squares over all its views; None where it would lie behind the lens."""
    rows, right = [], []
    for frame, seen in track.places.items():
        if frame not in index:
            continue
        k = index[frame]
        u, v = (np.array(seen) - middle) / focal
        turn, place = rotation[k], places[k]
        for value, axis in ((u, 0), (v, 1)):
            # (turn[axis] − value · turn[2]) · ((a, b, 1) − w C) = 0
            n = turn[axis] - value * turn[2]
            rows.append([n[0], n[1], -float(n @ place)])
            right.append(-n[2])
    if len(rows) < 4:
        return None
    a, b, w = np.linalg.lstsq(np.array(rows), np.array(right), rcond=None)[0]
    if not np.isfinite([a, b, w]).all() or abs(a) > 4 or abs(b) > 4:
        return None
    return np.array([a, b, w])


def _views(tracks: list[Track], index: dict[int, int], middle: NDArray) -> Views:
    camera, point, seen = [], [], []
    for k, track in enumerate(tracks):
        for frame, place in track.places.items():
            camera.append(index[frame])
            point.append(k)
            seen.append(place)
    return Views(np.array(camera), np.array(point), np.array(seen) - middle)


def _without_outliers(scene: Scene, tracks: list[Track], off: NDArray, most_px: float) -> tuple[Scene, list[Track]]:
    """Views that do not fit are dropped; tracks that lose many, or lie behind the lens, go."""
    kept, points = [], []
    place = 0
    for k, track in enumerate(tracks):
        frames = list(track.places)
        mine = off[place : place + len(frames)]
        place += len(frames)
        good = {frame: track.places[frame] for frame, each in zip(frames, mine) if each < most_px}
        if len(good) >= max(4, 0.6 * len(frames)) and scene.points[k, 2] > -0.02:
            kept.append(Track(good))
            points.append(scene.points[k])
    scene.points = np.array(points).reshape(-1, 3)
    return scene, kept


def _as_lock(
    lock: Lock, scene: Scene, tracks: list[Track], views: Views, order: list[int], size: tuple[int, int],
    told: FocalInterval | None,
) -> Lock:  # fmt: skip
    off = np.linalg.norm(pictured(scene, views) - views.seen, axis=1)
    k = camera_matrix(scene.focal_px, size)
    entries = []
    for number, frame in enumerate(order):
        mine = off[views.camera == number]
        motion = k @ scene.turns[number] @ np.linalg.inv(k)
        entries.append(
            LockFrame(
                frame=frame,
                homography=flat(motion / motion[2, 2]),
                residual_px=float(np.sqrt((mine**2).mean())) if len(mine) else 9.0,
                confidence=likely(len(mine) / 60),
                rotation=triple(cv2.Rodrigues(scene.turns[number])[0]),
                position=triple(scene.places[number]),
            )
        )
    errors = np.sqrt(np.bincount(views.point, off**2) / np.maximum(np.bincount(views.point), 1))
    points = [
        ScenePoint(place=triple(np.array([a, b, 1.0]) / w), error_px=float(error), seen=track.life)
        for (a, b, w), error, track in zip(scene.points, errors, tracks)
        if w > 1e-4
    ]
    points.sort(key=lambda each: (-each.seen, each.error_px))
    rms = float(np.sqrt((off**2).mean()))
    lost = (
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
