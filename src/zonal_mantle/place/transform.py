"""Where a painting lies in the plate."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..shot.follow import WHOLE, Follow
from ..shot.shapes import Point, Shape
from ..shot.shot import Shot
from ..shot.zone import Placement, Zone
from .ride import ride_matrix

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


def lock_matrix(
    shot: Shot,
    lock_id: str | None,
    frame: int,
    distance_m: float | None = None,
    follow: Follow = WHOLE,
    anchor: Point | None = None,
) -> Matrix:
    """Reference frame to `frame` of a lock, see `ride_matrix`; without a lock nothing moves.

    Where no distance is given, a camera lock's own is taken.
    """
    if lock_id is None:
        return np.eye(3)
    lock = shot.lock(lock_id)
    return ride_matrix(lock, frame, shot.size, distance_m or lock.distance_m, follow, anchor)


def shape_matrix(shot: Shot, shape: Shape, frame: int) -> Matrix:
    """Reference frame to `frame` for a shape: the parts that it takes of the lock it rides on."""
    return lock_matrix(shot, shape.rides, frame, None, shape.follow, shape.about)


def hanging_matrix(shot: Shot, zone: Zone, frame: int) -> Matrix:
    """Reference frame to `frame` for what a zone hangs, at its distance and with the parts of the motion it follows."""
    placement = zone.placement
    if placement.rides is None:
        return np.eye(3)
    lock = shot.lock(placement.rides)
    return ride_matrix(lock, frame, shot.size, zone.distance_m, placement.follow, placement.anchor)


def zone_matrix(shot: Shot, zone: Zone, frame: int) -> Matrix:
    """Painting pixels to plate pixels on a frame, for a zone that holds a painting."""
    source = shot.source(zone.source)
    hung = placement_matrix(zone.placement, frame, (source.width, source.height), shot.size)
    return np.asarray(hanging_matrix(shot, zone, frame) @ hung)
