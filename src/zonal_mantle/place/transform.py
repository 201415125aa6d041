"""Where a painting lies in the plate."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..shot.shot import Shot
from ..shot.zone import Placement, Zone

Matrix = NDArray[np.float64]


def placement_matrix(placement: Placement, frame: float, painting: tuple[int, int], plate: tuple[int, int]) -> Matrix:
    """Painting pixels to plate pixels of the lock's reference frame.

    Parameters
    ----------
    painting, plate : (width, height).

    Returns
    -------
    (3, 3): the painting centred on the frame, then sized, flipped and turned about the anchor, then moved.
    """
    anchor = placement.anchor or (plate[0] / 2, plate[1] / 2)
    size = placement.size.at(frame)
    across = size * placement.width.at(frame) * (-1 if placement.flip_across else 1)
    down = size * (-1 if placement.flip_up else 1)
    angle = np.deg2rad(placement.turn_deg.at(frame))
    turn = np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]])
    linear = turn @ np.diag([across, down])
    centred = np.array([plate[0] / 2 - painting[0] / 2, plate[1] / 2 - painting[1] / 2])
    moved = np.array([placement.x.at(frame), placement.y.at(frame)])
    out = np.eye(3)
    out[:2, :2] = linear
    out[:2, 2] = linear @ (centred - np.array(anchor)) + np.array(anchor) + moved
    return out


def lock_matrix(shot: Shot, lock_id: str | None, frame: int) -> Matrix:
    """Reference frame to `frame` of a lock; where it is not solved, of the nearest solved frame; without lock, none."""
    if lock_id is None:
        return np.eye(3)
    entry = shot.lock(lock_id).nearest(frame)
    return np.eye(3) if entry is None else np.array(entry.homography).reshape(3, 3)


def zone_matrix(shot: Shot, zone: Zone, frame: int) -> Matrix:
    """Painting pixels to plate pixels on a frame, for a zone that holds a painting."""
    source = shot.source(zone.source)
    hung = placement_matrix(zone.placement, frame, (source.width, source.height), shot.size)
    return np.asarray(lock_matrix(shot, zone.placement.rides, frame) @ hung)


def carry(matrix: Matrix, points: NDArray) -> NDArray[np.float64]:
    """Points (n, 2) through a homography."""
    flat = np.asarray(points, float).reshape(-1, 2)
    lifted = np.concatenate([flat, np.ones((len(flat), 1))], axis=1) @ np.asarray(matrix).T
    return np.asarray(lifted[:, :2] / lifted[:, 2:])
