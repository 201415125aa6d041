"""From one way to hang to another, without the picture jumping where that can be."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import carry
from ..shot.hang import Card, Corner, Dome, Way
from ..shot.keyed import Keyed
from ..shot.shot import Shot
from ..shot.zone import Placement, Zone
from ..words import say
from .seen import plate_places
from .transform import CARD_FAR_M, flat_to_reference, placement_camera, reference_to_frame, shape_of

JUMP_PX = 0.05  # that nobody sees


@dataclass(frozen=True)
class Converted:
    """A zone hung another way. jump_px : how far its corners lie from where they were on the frame, at most."""

    zone: Zone
    jump_px: float

    @property
    def words(self) -> str:
        """What has become of the picture, or nothing."""
        if self.jump_px <= JUMP_PX:
            return ""
        return say(
            "{name} could not stay just where it was: its corners moved by up to {px:.1f} px.",
            name=self.zone.name,
            px=self.jump_px,
        )


def converted(shot: Shot, zone: Zone, way: Way, frame: int) -> Converted:
    """A zone hung another way, as like to how it hangs on `frame` as that way allows. Keys of the old way are left
    behind.

    To corners it is exact. To flat, to a card and to a dome it is where the picture is a rectangle that such a thing
    can show; else the nearest in the sense of least squares of its corners.
    """
    placement = zone.placement
    if way == placement.way:
        return Converted(zone, 0.0)
    target = zone.but(placement=placement.but(way=way))
    (w, h), shaped = shape_of(shot, target)
    corners = np.array([[0, 0], [w, 0], [w, h], [0, h]], float)
    pixels = carry(np.linalg.inv(shaped), corners)
    before = _corners_seen(shot, zone, frame, pixels)
    flips = np.where([placement.flip_across, placement.flip_up], -1, 1)
    own = (corners - [w / 2, h / 2]) * flips + [w / 2, h / 2]  # a flip goes on to be one
    reference = carry(np.linalg.inv(reference_to_frame(shot, target, frame)), before)
    if way == "corner pin":
        order = [int(np.flatnonzero((own == corner).all(axis=1))[0]) for corner in corners]
        pins = [Corner(x=_constant(reference[k][0]), y=_constant(reference[k][1])) for k in order]
        new = placement.but(way=way, pins=tuple(pins))
    elif way == "flat":
        new = _flat(shot, placement, own, reference, (w, h))
    elif way == "card":
        new = _card(shot, zone, placement, own, reference, (w, h))
    else:
        new = _dome(shot, placement, own, reference, (w, h))
    after = zone.but(placement=new)
    jump = np.linalg.norm(_corners_seen(shot, after, frame, pixels) - before, axis=1)
    return Converted(after, float(np.nan_to_num(jump, nan=1e4).max()))


def _corners_seen(shot: Shot, zone: Zone, frame: int, corners: NDArray) -> NDArray[np.float64]:
    """Where the corners are seen; of a picture that is not seen whole, those of its part about the frame's middle."""
    found = plate_places(shot, zone, frame, corners)
    if np.isfinite(found).all():
        return found
    return carry(np.eye(3), np.nan_to_num(found, nan=0.0))


def _constant(value: float) -> Keyed:
    return Keyed(constant=float(value))


def _similar(own: NDArray, there: NDArray) -> tuple[float, float, float, NDArray]:
    """Size, width against height and turn of the nearest turned rectangle, and where the middle comes to."""
    a = own - own.mean(axis=0)
    b = there - there.mean(axis=0)
    linear = np.linalg.lstsq(a, b, rcond=None)[0].T
    angle = float(np.arctan2(linear[1, 0] - linear[0, 1], linear[0, 0] + linear[1, 1]))
    back = np.array([[np.cos(angle), np.sin(angle)], [-np.sin(angle), np.cos(angle)]]) @ linear
    return float(max(back[1, 1], 1e-3)), float(max(back[0, 0], 1e-3)), angle, there.mean(axis=0)


def _flat(shot: Shot, placement: Placement, own: NDArray, reference: NDArray, size: tuple[float, float]) -> Placement:
    down, across, angle, _ = _similar(own, reference)
    new = placement.but(
        way="flat", size=_constant(down), width=_constant(across / down), turn_deg=_constant(np.degrees(angle)),
        x=_constant(0), y=_constant(0),
    )  # fmt: skip
    middle = carry(flat_to_reference(new, 0, size, shot.size), np.array([[size[0] / 2, size[1] / 2]]))[0]
    by = _middle_of(reference) - middle
    return new.but(x=_constant(by[0]), y=_constant(by[1]))


def _middle_of(quad: NDArray) -> NDArray[np.float64]:
    """Where the diagonals of four corners cross: the middle of the rectangle that they show."""
    lifted = np.concatenate([quad, np.ones((4, 1))], axis=1)
    at = np.cross(np.cross(lifted[0], lifted[2]), np.cross(lifted[1], lifted[3]))
    return np.asarray(at[:2] / at[2] if abs(at[2]) > 1e-9 else quad.mean(axis=0))


def _card(
    shot: Shot, zone: Zone, placement: Placement, own: NDArray, reference: NDArray, size: tuple[float, float]
) -> Placement:
    """The pose of a rectangle of unknown size at a known distance: the planar pose from its corners."""
    k = placement_camera(shot, placement)
    distance = zone.distance_m or CARD_FAR_M
    centred = own - [size[0] / 2, size[1] / 2]
    plane = cv2.getPerspectiveTransform(centred.astype(np.float32), reference.astype(np.float32)).astype(float)
    pose = np.linalg.inv(k) @ plane
    if pose[2, 2] < 0:
        pose = -pose
    pose *= distance / pose[2, 2]  # its middle is at the zone's distance
    pixel = float(np.linalg.norm(pose[:, 1]))
    wide = float(np.linalg.norm(pose[:, 0])) / pixel
    axes = np.column_stack([pose[:, 0], pose[:, 1], np.cross(pose[:, 0], pose[:, 1])])
    u, _, vt = np.linalg.svd(axes / np.linalg.norm(axes, axis=0))
    yaw, pitch, roll = _angles(u @ vt)
    card = Card(
        right_m=_constant(pose[0, 2]), up_m=_constant(-pose[1, 2]), height_m=_constant(pixel * size[1]),
        yaw_deg=_constant(yaw), pitch_deg=_constant(pitch), roll_deg=_constant(roll),
    )  # fmt: skip
    return placement.but(way="card", card=card, width=_constant(wide))


def _angles(turn: NDArray) -> tuple[float, float, float]:
    """Turn, tilt and roll in degrees of a rotation made by `dome_rotation`."""
    tilt = np.arcsin(np.clip(-turn[1, 2], -1, 1))
    yaw = np.arctan2(turn[0, 2], turn[2, 2])
    roll = np.arctan2(turn[1, 0], turn[1, 1])
    return float(np.degrees(yaw)), float(np.degrees(tilt)), float(np.degrees(roll))


def _dome(shot: Shot, placement: Placement, own: NDArray, reference: NDArray, size: tuple[float, float]) -> Placement:
    """A lens's picture at infinity: its field of view and turn from its corners' directions."""
    k = placement_camera(shot, placement)
    if size[0] == 2 * size[1]:  # a picture all around keeps its degrees
        middle = np.linalg.inv(k) @ [*_middle_of(reference), 1]
        turn, tilt = (
            np.degrees(np.arctan2(middle[0], middle[2])),
            -np.degrees(np.arctan2(middle[1], np.hypot(middle[0], middle[2]))),
        )
        dome = Dome(turn_deg=_constant(turn), tilt_deg=_constant(tilt))
        return placement.but(way="dome", dome=dome)
    centred = own - [size[0] / 2, size[1] / 2]
    plane = cv2.getPerspectiveTransform(centred.astype(np.float32), reference.astype(np.float32)).astype(float)
    pose = np.linalg.inv(k) @ plane
    pose = pose if pose[2, 2] > 0 else -pose
    unit = (np.linalg.norm(pose[:, 0]) + np.linalg.norm(pose[:, 1])) / 2
    focal = float(np.linalg.norm(pose[:, 2]) / unit)
    axes = np.column_stack([pose[:, 0] / unit, pose[:, 1] / unit, pose[:, 2] / (unit * focal)])
    u, _, vt = np.linalg.svd(axes)
    yaw, pitch, roll = _angles(u @ vt)
    wide = float(np.degrees(2 * np.arctan(size[0] / 2 / focal)))
    dome = Dome(
        mapping="lens", wide_deg=min(max(wide, 0.1), 175.0), turn_deg=_constant(yaw), tilt_deg=_constant(pitch),
        roll_deg=_constant(roll),
    )  # fmt: skip
    return placement.but(way="dome", dome=dome)
