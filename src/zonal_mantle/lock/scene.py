"""A scene from tracks: points placed from cameras, cameras from points, and what does not fit left out."""

from __future__ import annotations

from collections.abc import Container
from dataclasses import replace

import cv2
import numpy as np
from numpy.typing import NDArray

from .bundle import ROBUST_PX, Scene, Views, pictured, robust, summed
from .features import Track

Matrix = NDArray[np.float64]
LEAST_TRACKS = 30
BELIEVED, LEAST_ROBUST_PX = 1.6, 0.1  # medians from which on a view is believed less; and at least
MOST_BEYOND = 0.1  # of the points
INSIDE_OUT = 0.2  # of the largest nearness, beyond infinity, from which on a point is not merely noisy


def triangulated(
    tracks: list[Track], index: dict[int, int], turns: NDArray, places: NDArray, focal: float, middle: NDArray
) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
    """(x, y, z, w) of tracks, linear in least squares over all their views by some cameras, (x, y, z) of length 1; and
    which of them have a place: not those with one view, or that would lie behind a lens. (n, 4), (n)."""
    views = views_of([only(track, index) for track in tracks], index, middle)
    count = len(tracks)
    if not len(views.camera):
        return np.zeros((count, 4)), np.zeros(count, bool)
    turn, place, seen = turns[views.camera], places[views.camera], views.seen / focal
    # (turn[axis] − seen · turn[2]) · ((x, y, z) − w C) = 0
    rows = turn[:, :2] - seen[:, :, None] * turn[:, 2:]
    four = np.concatenate([rows, -(rows @ place[:, :, None])], axis=2)
    points = np.linalg.eigh(summed(four.transpose(0, 2, 1) @ four, views.point, count))[1][:, :, 0]
    length = np.linalg.norm(points[:, :3], axis=1)
    mine = points[views.point]
    before = (turn[:, 2] * (mine[:, :3] - mine[:, 3:] * place)).sum(axis=1) > 0
    lives, ahead = (np.bincount(views.point, each, count) for each in (None, before))
    there = (lives > 1) & (length > 1e-9) & ((ahead == 0) | (ahead == lives))
    points /= (np.where(ahead > 0, 1.0, -1.0) * np.maximum(length, 1e-9))[:, None]
    return points, there


def with_points(
    tracks: list[Track], index: dict[int, int], turns: NDArray, places: NDArray, focal: float, middle: NDArray
) -> tuple[Scene, list[Track]] | None:
    """A scene of given cameras, with all points that can be placed; None for too few."""
    points, there = triangulated(tracks, index, turns, places, focal, middle)
    if np.count_nonzero(there) < LEAST_TRACKS:
        return None
    return Scene(focal, 0.0, turns, places, points[there]), [tracks[k] for k in np.flatnonzero(there)]


def placed(
    seen: list[tuple[NDArray, tuple[float, float]]], focal: float, middle: NDArray
) -> tuple[Matrix, NDArray[np.float64]] | None:
    """Turn and place of a camera from points of the scene and where it saw them."""
    near = [(point, at) for point, at in seen if point[3] > 1e-4]
    if len(near) < 8:
        return None
    world = np.array([point[:3] / point[3] for point, _ in near])
    flat_places = (np.array([at for _, at in near]) - middle) / focal
    try:
        ok, turn, shift, _ = cv2.solvePnPRansac(
            world, flat_places, np.eye(3), None,
            reprojectionError=2.0 / focal, iterationsCount=300, flags=cv2.SOLVEPNP_SQPNP,
        )  # fmt: skip
    except cv2.error:  # all points in one place
        return None
    if not ok:
        return None
    matrix = np.asarray(cv2.Rodrigues(turn)[0], np.float64)
    return matrix, np.asarray(-matrix.T @ shift.reshape(3), np.float64)


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


def views_of(tracks: list[Track], index: dict[int, int], middle: NDArray) -> Views:
    """What tracks see, as views of the cameras that `index` gives their frames."""
    camera, point, seen = [], [], []
    for k, track in enumerate(tracks):
        for frame, place in track.places.items():
            camera.append(index[frame])
            point.append(k)
            seen.append(place)
    return Views(np.array(camera, np.intp), np.array(point, np.intp), np.array(seen, float).reshape(-1, 2) - middle)


def robust_px_of(off: NDArray) -> float:
    """From which error on a view is believed less, px, by those of all views."""
    return float(np.clip(BELIEVED * np.median(off), LEAST_ROBUST_PX, ROBUST_PX))


def by_noise(scene: Scene, views: Views) -> Views:
    """Views that are believed by how far most of them are off."""
    off = np.linalg.norm(pictured(scene, views) - views.seen, axis=1)
    return replace(views, robust_px=robust_px_of(off))


def only(track: Track, frames: Container[int]) -> Track:
    """A track on some frames."""
    return Track({frame: place for frame, place in track.places.items() if frame in frames}, track.pattern, track.again)


def without_outliers(scene: Scene, tracks: list[Track], off: NDArray, most_px: float) -> tuple[Scene, list[Track]]:
    """Views that do not fit are dropped; tracks that lose many of those along which they were followed, or lie behind
    the lens, go."""
    kept, points = [], []
    place = 0
    for k, track in enumerate(tracks):
        frames = list(track.places)
        mine = off[place : place + len(frames)]
        place += len(frames)
        good = {frame: track.places[frame] for frame, each in zip(frames, mine) if each < most_px}
        followed = [frame not in track.again for frame in frames]
        held = sum(frame not in track.again for frame in good)
        if held >= max(4, 0.6 * sum(followed)) and scene.points[k, 3] > -0.02:
            kept.append(Track(good, track.pattern, track.again))
            points.append(scene.points[k])
    scene.points = np.array(points).reshape(-1, 4)
    return scene, kept


def explained(scene: Scene, views: Views, within_px: float = 1.0) -> float:
    """How many points a scene explains: of each as much as it is seen before the lens and fits. One that is turned
    inside out, the nearest points farther than infinity, explains none."""
    off = np.linalg.norm(pictured(scene, views) - views.seen, axis=1) / within_px
    square = np.bincount(views.point, off**2) / np.maximum(np.bincount(views.point), 1)
    return float((np.exp(-square) * ~_beyond(scene)).sum())


def _beyond(scene: Scene) -> NDArray[np.bool_]:
    """Which points lie farther than infinity, by more than noise."""
    near = scene.points[:, 3]
    return np.asarray(near < -min(0.02, INSIDE_OUT * float(np.percentile(np.abs(near), 95))))


def inside_out(scene: Scene) -> Scene:
    """The scene with near and far exchanged about their middle, and the cameras going the other way round it: what is
    seen from afar, or within a narrow view, looks nearly the same (Necker's reversal; R. Szeliski & S. B. Kang, Shape
    ambiguities in structure from motion, 1997; from memory)."""
    length = np.linalg.norm(scene.points[:, :3], axis=1)[:, None]
    away, near = scene.points[:, :3] / length, scene.points[:, 3:] / length
    middle = float(np.median(near))
    turns = []
    for turn, place in zip(scene.turns, scene.places):  # each still sees what lies at the middle where it saw it
        a, b = away + middle * place, (away - middle * place) @ turn.T
        a, b = (each / np.linalg.norm(each, axis=1, keepdims=True) for each in (a, b))
        u, _, vt = np.linalg.svd(b.T @ a)
        turns.append(u @ np.diag([1, 1, np.linalg.det(u @ vt)]) @ vt)
    points = np.column_stack([away, np.maximum(2 * middle - near, 0.1 * abs(middle))])
    return Scene(scene.focal_px, scene.distortion, np.array(turns) @ turns[0].T, -scene.places, points)


def error_of(scene: Scene, views: Views) -> float:
    """Robust mean error of a scene's views, px; infinite where it is turned inside out."""
    if np.mean(_beyond(scene)) > MOST_BEYOND:
        return np.inf
    cost, _ = robust((pictured(scene, views) - views.seen).reshape(-1), views.robust_px)
    mean = float(views.robust_px * np.sqrt((cost / len(views.seen) / 2 + 1) ** 2 - 1))
    return mean if np.isfinite(mean) else np.inf
