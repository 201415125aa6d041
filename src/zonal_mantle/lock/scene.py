"""A scene from tracks: points placed from cameras, cameras from points, and what does not fit left out."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from .bundle import Scene, Views, pictured
from .features import Track

Matrix = NDArray[np.float64]
LEAST_TRACKS = 30


def triangulated(
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


def with_points(
    tracks: list[Track], index: dict[int, int], turns: NDArray, places: NDArray, focal: float, middle: NDArray
) -> tuple[Scene, list[Track]] | None:
    """A scene of given cameras, with all points that can be placed; None for too few."""
    used, points = [], []
    for track in tracks:
        point = triangulated(track, index, turns, places, focal, middle)
        if point is not None:
            used.append(track)
            points.append(point)
    if len(used) < LEAST_TRACKS:
        return None
    return Scene(focal, 0.0, turns, places, np.array(points)), used


def placed(
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
    camera, point, seen = [], [], []
    for k, track in enumerate(tracks):
        for frame, place in track.places.items():
            camera.append(index[frame])
            point.append(k)
            seen.append(place)
    return Views(np.array(camera), np.array(point), np.array(seen) - middle)


def only(track: Track, index: dict[int, int]) -> Track:
    return Track({frame: place for frame, place in track.places.items() if frame in index})


def without_outliers(scene: Scene, tracks: list[Track], off: NDArray, most_px: float) -> tuple[Scene, list[Track]]:
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


def explained(scene: Scene, views: Views) -> float:
    """How many points a scene explains: of each as much as it is seen before the lens and fits."""
    off = np.linalg.norm(pictured(scene, views) - views.seen, axis=1)
    square = np.bincount(views.point, off**2) / np.maximum(np.bincount(views.point), 1)
    return float((np.exp(-square) * (scene.points[:, 2] > -0.02)).sum())
