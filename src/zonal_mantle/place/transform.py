"""Where a painting lies in the plate."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import camera_matrix
from ..shot.follow import WHOLE
from ..shot.hang import Dome
from ..shot.lock import Lens
from ..shot.shapes import Shape
from ..shot.shot import Shot
from ..shot.zone import Placement, Zone
from ..words import say
from .dome import dome_rotation
from .ride import card_motion, lock_motion

Matrix = NDArray[np.float64]
CARD_FAR_M = 1e5  # of a card in a zone at infinity


def shape_of(shot: Shot, zone: Zone) -> tuple[tuple[float, float], Matrix]:
    """What a zone holds in pixels of the plate's own shape: its (width, height) there, and the (3, 3) way from its
    own pixels. A clip whose pixels are twice as wide as the plate's is twice as wide. On a dome pixels are square.
    """
    source, plate = shot.source(zone.source), shot.plate_source
    seen_by = plate.pixel_aspect if plate is not None and zone.placement.way != "dome" else 1.0
    wide = source.pixel_aspect / seen_by
    return (source.width * wide, float(source.height)), np.diag([wide, 1.0, 1.0])


def flat_to_reference(
    placement: Placement, frame: float, painting: tuple[float, float], plate: tuple[int, int]
) -> Matrix:
    """A flat painting's pixels to plate pixels of the lock's reference frame.

    Parameters
    ----------
    painting, plate : (width, height).

    Returns
    -------
    (3, 3): the painting centred on the frame, then sized, flipped and turned about the anchor, then moved.
    """
    anchor = placement.anchor or (plate[0] / 2, plate[1] / 2)
    size = placement.size.factor_at(frame)
    across = size * placement.width.factor_at(frame) * (-1 if placement.flip_across else 1)
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


def reference_to_frame(shot: Shot, rider: Zone | Shape | str | None, frame: int) -> Matrix:
    """Reference frame to `frame`, in plate pixels, for what rides on a lock.

    Parameters
    ----------
    rider : a zone (at its distance, with the parts of the motion that it follows; on a dome at infinity), a shape
        (with its parts), or a lock by its id, whole and at the lock's own distance. None, and what rides on nothing,
        does not move.
    """
    distance, follow, about, lock_id = None, WHOLE, None, rider
    if isinstance(rider, Zone):
        placement = rider.placement
        lock_id, follow, about = placement.rides, placement.follow, placement.anchor
        distance = rider.distance_m if placement.way != "dome" else None
    elif isinstance(rider, Shape):
        lock_id, follow, about = rider.rides, rider.follow, rider.about
    if lock_id is None:
        return np.eye(3)
    assert isinstance(lock_id, str)
    lock = shot.lock(lock_id)
    if not isinstance(rider, Zone):
        distance = lock.distance_m
    return lock_motion(lock, frame, shot.size, distance, follow, about)


def placement_lens(shot: Shot, placement: Placement) -> Lens | None:
    """The lens of the lock that a placement rides on, where that knows the camera."""
    lock = shot.lock(placement.rides) if placement.rides is not None else None
    return lock.lens if lock is not None and lock.knows_camera else None


def placement_camera(shot: Shot, placement: Placement) -> Matrix:
    """The camera matrix of the lens that a placement hangs by; of one of about 40° where there is none."""
    lens = placement_lens(shot, placement)
    return camera_matrix(lens.focal_px if lens is not None else None, shot.size)


def painting_to_reference(shot: Shot, zone: Zone, frame: int) -> Matrix:
    """Painting pixels to plate pixels of the reference frame; of a dome, as a lens sees it near its middle."""
    placement, (size, shaped) = zone.placement, shape_of(shot, zone)
    if placement.way == "corner pin":
        return pinned_to_reference(placement, frame, size) @ shaped
    if placement.way == "card":
        return _card_to_reference(shot, zone, frame) @ flipped(placement, size) @ shaped
    if placement.way == "dome":
        k = placement_camera(shot, placement)
        unit = size[0] / np.deg2rad(placement.dome.wide_deg)
        if placement.dome.mapping == "lens":
            unit = size[0] / 2 / np.tan(min(np.deg2rad(placement.dome.wide_deg), np.pi * 0.99) / 2)
        back = np.array([[unit, 0, size[0] / 2], [0, unit, size[1] / 2], [0, 0, 1]])
        turn = dome_rotation(placement.dome, frame)
        return np.asarray(k @ turn @ np.linalg.inv(back) @ flipped(placement, size) @ shaped)
    return flat_to_reference(placement, frame, size, shot.size) @ shaped


def flipped(placement: Placement, painting: tuple[float, float]) -> Matrix:
    """A painting's flips about its own middle."""
    out = np.eye(3)
    for axis, on in enumerate((placement.flip_across, placement.flip_up)):
        if on:
            out[axis, axis], out[axis, 2] = -1, painting[axis]
    return out


def pinned_to_reference(placement: Placement, frame: float, painting: tuple[float, float]) -> Matrix:
    """Painting pixels to where its four corners are pinned. Corners that cannot be those of a seen rectangle are
    spread to a small square about their middle, so that something can still be taken hold of.

    References
    ----------
    Homography from four points: Hartley & Zisserman 2004, section 4.1.
    """
    w, h = painting
    corners = np.array([[0, 0], [w, 0], [w, h], [0, h]], np.float32)
    pins = np.array([[pin.x.at(frame), pin.y.at(frame)] for pin in placement.pins])
    if corner_trouble(pins):
        pins = pins.mean(axis=0) + np.array([[-8, -8], [8, -8], [8, 8], [-8, 8]])
    matrix = cv2.getPerspectiveTransform(corners, pins.astype(np.float32)).astype(float)
    return np.asarray(matrix @ flipped(placement, painting))


def corner_trouble(pins: NDArray) -> str:
    """Why four corners (4, 2) cannot hold a painting, or nothing."""
    turns = []
    for k in range(4):
        a, b, c = pins[k - 1], pins[k], pins[(k + 1) % 4]
        turns.append((b[0] - a[0]) * (c[1] - b[1]) - (b[1] - a[1]) * (c[0] - b[0]))
    if min(np.linalg.norm(pins[k] - pins[k - 1]) for k in range(4)) < 1:
        return say("two of its corners lie on one another")
    if min(turns) < 0 < max(turns):
        return say("its corners cross or fold inward")
    if min(abs(turn) for turn in turns) < 2:
        return say("three of its corners lie on one line")
    return ""


def _card_to_reference(shot: Shot, zone: Zone, frame: int) -> Matrix:
    """Pixels of a painting, as `shape_of` makes them, to plate pixels of the reference frame for a card in metres.

    References
    ----------
    A plane seen by a camera: Hartley & Zisserman 2004, section 8.1.1.
    """
    placement, card, (size, _) = zone.placement, zone.placement.card, shape_of(shot, zone)
    k = placement_camera(shot, placement)
    distance = zone.distance_m or CARD_FAR_M
    pixel = card.height_m.at(frame) / size[1]  # metres to one painting pixel
    turn = dome_rotation(Dome(turn_deg=card.yaw_deg, tilt_deg=card.pitch_deg, roll_deg=card.roll_deg), frame)
    middle = np.array([card.right_m.at(frame), -card.up_m.at(frame), distance])
    place = np.column_stack([turn[:, 0] * pixel * placement.width.factor_at(frame), turn[:, 1] * pixel, middle])
    centred = np.array([[1, 0, -size[0] / 2], [0, 1, -size[1] / 2], [0, 0, 1.0]])
    return np.asarray(k @ place @ centred)


def painting_to_frame(shot: Shot, zone: Zone, frame: int) -> Matrix:
    """Painting pixels to plate pixels on a frame, for a zone that holds a painting; of a dome, as near its middle.

    A card that is turned out of the upright is carried by the plane through its middle that it stands in.
    """
    placement = zone.placement
    if shot.holds_plate(zone):
        return plate_moved(shot, zone, frame)
    if placement.way == "card" and placement.rides is not None:
        lock = shot.lock(placement.rides)
        entry = lock.nearest(frame)
        if lock.kind == "camera" and entry is not None and entry.rotation is not None and entry.position is not None:
            return _card_on(shot, zone, frame)
    return np.asarray(reference_to_frame(shot, zone, frame) @ painting_to_reference(shot, zone, frame))


def plate_moved(shot: Shot, zone: Zone, frame: int) -> Matrix:
    """Plate pixels to plate pixels on a frame, for a zone that holds the plate: its placement, flat, on the lock's
    reference frame. What is not moved there stays in the plate on every frame."""
    placement = zone.placement
    if not placement.on:
        return np.eye(3)
    motion = reference_to_frame(shot, zone, frame)
    moved = flat_to_reference(placement, frame, shot.size, shot.size)
    if np.array_equal(moved, np.eye(3)):
        return moved
    return np.asarray(motion @ moved @ np.linalg.inv(motion))


def _card_on(shot: Shot, zone: Zone, frame: int) -> Matrix:
    """A card under a camera lock: its own plane seen from the frame's camera, then what hands and smoothing add."""
    placement, (size, shaped) = zone.placement, shape_of(shot, zone)
    assert placement.rides is not None
    lock = shot.lock(placement.rides)
    entry = lock.nearest(frame)
    assert entry is not None
    assert entry.rotation is not None
    assert entry.position is not None
    k = camera_matrix(lock.lens.focal_px, shot.size)
    turn = cv2.Rodrigues(np.array(entry.rotation))[0]
    away = turn @ np.array(entry.position)
    plane = np.linalg.inv(k) @ _card_to_reference(shot, zone, frame)  # painting pixels to the reference camera's axes
    seen = turn @ plane - np.outer(away, [0, 0, 1.0])
    upright = card_motion(lock.lens, shot.size, entry, zone.distance_m or CARD_FAR_M)
    extra = reference_to_frame(shot, zone, frame) @ np.linalg.inv(upright)  # corrections, smoothing, parts left out
    return np.asarray(extra @ k @ seen @ flipped(placement, size) @ shaped)
