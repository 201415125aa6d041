"""What a rider gets from a lock on a frame: the solve, smoothed, corrected by hand, at the rider's distance, and of
that the parts it follows."""

from __future__ import annotations

from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import camera_matrix, carry
from ..shot.follow import WHOLE, Follow
from ..shot.lock import Correction, Lens, Lock, LockFrame
from ..shot.shapes import Point

Matrix = NDArray[np.float64]
SMOOTHED = np.array([[0.25, 0.25], [0.75, 0.25], [0.75, 0.75], [0.25, 0.75]])  # of the frame, where no quad is set


def lock_motion(
    lock: Lock,
    frame: int,
    size: tuple[int, int],
    distance_m: float | None = None,
    follow: Follow = WHOLE,
    anchor: Point | None = None,
) -> Matrix:
    """Reference frame to `frame`, in plate pixels; from the nearest solved frame where this one is not solved.

    Parameters
    ----------
    size : width and height of the plate.
    distance_m : of the rider, for a camera lock: an upright card facing the reference frame's camera; None: infinity.
    anchor : where the parts of the motion are taken apart; the frame's middle by default.
    """
    if lock.kind == "by hand":
        motion = correction_matrix(lock.correction, frame, size)
        return motion if follow == WHOLE else followed(motion, follow, anchor or (size[0] / 2, size[1] / 2))
    entry = lock.nearest(frame)
    if entry is None:
        return np.eye(3)
    motion = _solved_motion(lock, entry, size, distance_m)
    if lock.smooth_frames > 0:
        motion = motion @ _calming(lock, size).get(entry.frame, np.eye(3))
    if lock.correction != Correction():
        motion = motion @ correction_matrix(lock.correction, frame, size)
    return motion if follow == WHOLE else followed(motion, follow, anchor or (size[0] / 2, size[1] / 2))


def _solved_motion(lock: Lock, entry: LockFrame, size: tuple[int, int], distance_m: float | None) -> Matrix:
    if lock.kind == "camera" and entry.rotation is not None and entry.position is not None and distance_m is not None:
        return card_motion(lock.lens, size, entry, distance_m)
    return np.array(entry.homography).reshape(3, 3)


def card_motion(lens: Lens, size: tuple[int, int], entry: LockFrame, distance_m: float) -> Matrix:
    """How an upright card moves that faces the reference frame's camera at a distance.

    References
    ----------
    Homography induced by a plane: Hartley & Zisserman 2004, result 13.1.
    """
    k = camera_matrix(lens.focal_px, size)
    turn = cv2.Rodrigues(np.array(entry.rotation))[0]
    shift = turn @ np.array(entry.position)
    out = k @ (turn - np.outer(shift, [0, 0, 1]) / distance_m) @ np.linalg.inv(k)
    return np.asarray(out / out[2, 2])


def correction_matrix(correction: Correction, frame: float, size: tuple[int, int]) -> Matrix:
    """The hand's correction on a frame, in the lock's own space."""
    centre = np.array(correction.centre or (size[0] / 2, size[1] / 2))
    angle, grow = np.deg2rad(correction.turn_deg.at(frame)), correction.size.factor_at(frame)
    linear = grow * np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]])
    out = np.eye(3)
    out[:2, :2] = linear
    out[:2, 2] = centre - linear @ centre + [correction.x.at(frame), correction.y.at(frame)]
    return out


@lru_cache(maxsize=64)
def _calming(lock: Lock, size: tuple[int, int]) -> dict[int, Matrix]:
    """For each solved frame, what takes jitter out, in the lock's own space: the path of four points, smoothed in time
    by a Gaussian, is put back to the reference frame."""
    from scipy.ndimage import gaussian_filter1d  # slow to import

    points = _watched(lock, size)
    frames = [entry.frame for entry in lock.solved]
    paths = np.array([carry(np.array(entry.homography).reshape(3, 3), points) for entry in lock.solved])
    more = min(int(3 * lock.smooth_frames) + 1, len(paths) - 1)  # beyond its ends a path goes on as it came
    wide = np.pad(paths, ((more, more), (0, 0), (0, 0)), mode="reflect", reflect_type="odd")
    calm = gaussian_filter1d(wide, lock.smooth_frames, axis=0, mode="nearest", truncate=3)[more : more + len(paths)]
    out = {}
    for frame, entry, path in zip(frames, lock.solved, calm):
        back = carry(np.linalg.inv(np.array(entry.homography).reshape(3, 3)), path)
        out[frame] = cv2.getPerspectiveTransform(points.astype(np.float32), back.astype(np.float32)).astype(float)
    return out


def removed_px(lock: Lock, size: tuple[int, int]) -> float:
    """Root mean square of what smoothing takes out of the path of the lock's quad, px."""
    if lock.smooth_frames <= 0 or not lock.solved:
        return 0.0
    points, calm = _watched(lock, size), _calming(lock, size)
    squares = []
    for entry in lock.solved:
        motion = np.array(entry.homography).reshape(3, 3)
        moved = carry(motion @ calm[entry.frame], points) - carry(motion, points)
        squares.append((moved**2).sum(axis=1).mean())
    return float(np.sqrt(np.mean(squares)))


def _watched(lock: Lock, size: tuple[int, int]) -> NDArray[np.float64]:
    return np.array(lock.quad) if lock.quad is not None else SMOOTHED * size


def followed(motion: Matrix, follow: Follow, anchor: Point) -> Matrix:
    """The parts of a motion that a rider takes, taken apart at its anchor.

    Near the anchor a homography moves by its place and its Jacobian; that is turn × size × shear (a polar
    decomposition); what is left is perspective.
    """
    at = np.array([anchor[0], anchor[1], 1.0])
    image = motion @ at
    place = image[:2] / image[2]
    jacobian = (motion[:2, :2] - np.outer(place, motion[2, :2])) / image[2]
    u, _, vt = np.linalg.svd(jacobian)
    turn = u @ np.diag([1.0, np.linalg.det(u @ vt)]) @ vt
    size = float(np.sqrt(abs(np.linalg.det(jacobian))))
    shear = turn.T @ jacobian / size
    keep = np.eye(2)
    keep = shear @ keep if follow.shear else keep
    keep = keep * size if follow.size else keep
    keep = turn @ keep if follow.turn else keep
    target = place if follow.position else at[:2]
    out = np.eye(3)
    out[:2, :2], out[:2, 2] = keep, target - keep @ at[:2]
    if not follow.perspective:
        return out
    near = np.eye(3)
    near[:2, :2], near[:2, 2] = jacobian, place - jacobian @ at[:2]
    return np.asarray(out @ np.linalg.inv(near) @ motion / image[2])
