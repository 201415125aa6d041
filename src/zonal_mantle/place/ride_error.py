"""How far what rides on a lock may be off, there where it is seen. What a lock knows of its marks or its field says
little of a sky that reaches far beyond them.

Two things are told apart. What is measured is never exact, and its error grows away from where it was measured
(`spread`). And a shift, a turn and a size of the picture cannot do what a turning camera does to it: what marks or a
field in one place do not show, a sky across the frame does (`bent`).
"""

from __future__ import annotations

from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..geometry import DEFAULT_FOCAL, ToldFocal, carry, moved_by_turn, told_focal, turn_motion, turned_frames
from ..shot.follow import WHOLE
from ..shot.lock import FOCAL_TOLD, SHOWN_TIMES, Correction, Lock, Mark
from ..shot.shapes import Point
from ..shot.shot import Shot
from ..shot.zone import Zone

Places = NDArray[np.float64]
GRID = np.stack(np.meshgrid(np.linspace(0, 1, 5), np.linspace(0, 1, 5)), axis=-1).reshape(-1, 2)
ODD_TIMES, ODD_PX = 3.0, 0.3  # of their error, by which marks may lie off a turn and still be a turning camera's
FULLER = ("translation", "similarity", "affine", "perspective")  # each takes one mark more
LENSES = (0.75, 3.0)  # focal lengths that most plates are shot with, in widths of the frame: views of 67 to 19°
FAR_M = 1000.0  # from here on a zone had best follow what moves least
ROLL_DEG = 0.3  # by which a camera in the hand rolls, which one mark does not show; common practice
BLUR = 1e-9  # of normal equations, that keeps marks upon one another from telling nothing at all


class RideErrors(NamedTuple):
    """Of each place, px: what the measurement may be off by there, with SHOWN_TIMES its deviation (`spread`), and how
    far a turning camera would film it elsewhere than the lock puts it (`bent`); NaN where that is not known."""

    spread: Places
    bent: Places

    @property
    def most(self) -> Places:
        """Both together. (n)."""
        return self.spread + np.nan_to_num(self.bent)


def ride_errors(shot: Shot, zone: Zone, frame: int, places: Places) -> RideErrors | None:
    """How far a zone may be off at places (n, 2) of a frame, in plate pixels, for the lock that it rides on; None where
    it rides on nothing that is measured on that frame.

    The error of a lock counts as if it had been measured all over its field, or at its marks. That the camera turns is
    taken for granted of what is at infinity, through a wide lens where none is known; of what is near, two marks or
    more must move as it would make them, and tell its focal length. A lock that is corrected by hand, or followed in
    part, does what a person wants: nothing is said of its bend.

    References
    ----------
    Error of what a linear model says away from its data: Draper & Smith, Applied Regression Analysis (1998), section
    3.1. From memory.
    """
    lock = shot.lock(zone.placement.rides) if zone.placement.rides is not None else None
    entry = lock.at(frame) if lock is not None else None
    if lock is None or entry is None:
        return None
    places = np.asarray(places, float).reshape(-1, 2)
    if frame == lock.reference_frame:
        return RideErrors(np.zeros(len(places)), np.zeros(len(places)))
    motion = np.reshape(entry.homography, (3, 3))  # as it was measured, neither smoothed nor corrected
    anchors = _anchors(lock, frame, shot.size)
    focal = _focal(shot, lock)
    seen = carry(motion, anchors)
    here = seen if _goes_along(lock) else anchors
    spread = SHOWN_TIMES * entry.residual_px * _grows(lock, here, places, focal, shot.size)
    if lock.knows_camera and lock.kind == "point":
        spread = np.hypot(spread, _other_focal(lock, frame, places, motion, shot.size))
    if lock.kind == "point" and len(anchors) == 1:
        spread = np.hypot(spread, SHOWN_TIMES * np.deg2rad(ROLL_DEG) * np.linalg.norm(places - here[0], axis=1))
    bent = np.full(len(places), np.nan)
    whole = zone.placement.follow == WHOLE and lock.correction == Correction()
    if whole and lock.kind in ("point", "plane") and lock.moves not in ("perspective", "camera turn"):
        turned = _turned(lock, frame, anchors, seen, focal, shot.size, _is_far(zone))
        if turned is not None:
            there = carry(turned @ np.linalg.inv(motion), places)
            bent = np.linalg.norm(there - places, axis=1)
    return RideErrors(spread, bent)


def _is_far(zone: Zone) -> bool:
    return zone.distance_m is None or zone.placement.way == "dome"


def _seen_marks(lock: Lock, frame: int) -> list[tuple[Mark, Point]]:
    """The marks that were set on the reference frame and are seen on another, and where."""
    entry = lock.at(frame)
    pairs = zip(lock.marks, entry.marks) if entry is not None else ()
    return [(mark, at) for mark, at in pairs if at is not None and mark.frame in (None, lock.reference_frame)]


def _goes_along(lock: Lock) -> bool:
    """Whether what it looks at moves with it; through a field that stays it looks at one part of the frame."""
    return lock.kind in ("point", "plane") and not lock.field_stays


def _anchors(lock: Lock, frame: int, size: tuple[int, int]) -> Places:
    """Where a lock looks, (n, 2): its marks, or places all over its field; on its reference frame."""
    if lock.kind == "point":
        own = [(mark.x, mark.y) for mark, _ in _seen_marks(lock, frame)]
        if own or lock.marks:
            return np.array(own or [(mark.x, mark.y) for mark in lock.marks[:1]], float)
        return np.asarray(GRID * size, float)  # it came without its marks
    kept = [shape for shape in lock.field if shape.on and shape.mode == "keep"]
    points = [point for shape in kept for point in shape.points_at(lock.reference_frame)]
    if lock.kind == "camera" or not points:
        return np.asarray(GRID * size, float)
    low, high = np.min(points, axis=0), np.max(points, axis=0)
    return np.asarray(np.clip(low + GRID * (high - low), 0, size), float)


def _focal(shot: Shot, lock: Lock) -> float | None:
    """The focal length that a lock, or another of the shot, knows, px; None where none does."""
    if lock.knows_camera and lock.lens.focal_px:
        return lock.lens.focal_px
    for other in shot.locks:
        if other.solved and other.knows_camera and other.lens.focal_px and other.lens.focal_told:
            return other.lens.focal_px
    return None


def _grows(lock: Lock, anchors: Places, places: Places, focal: float | None, size: tuple[int, int]) -> Places:
    """How many times as unsure a lock is at places (n, 2) of a frame as where it looks, (n)."""
    if lock.kind == "camera":
        return np.ones(len(places))
    middle = anchors.mean(axis=0)
    unit = max(float(np.abs(anchors - middle).max()), 1.0)

    def slopes(at: Places) -> Places:
        if lock.knows_camera:
            turn = moved_by_turn(at, focal or DEFAULT_FOCAL * size[0], size)
            if lock.kind == "point" or lock.lens.given:
                return turn
            return np.concatenate([turn, (at - np.array(size) / 2)[..., None]], axis=-1)
        return _basis((at - middle) / unit, _moves(lock, len(anchors)))

    own = slopes(anchors)
    square = np.einsum("nki,nkj->ij", own, own)
    covariance = np.linalg.pinv(square, rcond=BLUR, hermitian=True)
    there = np.einsum("nki,ij,nkj->n", slopes(places), covariance, slopes(places))
    here = float(np.einsum("nki,ij,nkj->n", own, covariance, own).mean())
    if lock.kind == "point":  # each mark errs by itself, by half in each of two directions
        return np.asarray(np.sqrt(there / 2))
    return np.asarray(np.sqrt(np.maximum(there / max(here, 1e-12), 1.0)))


def _moves(lock: Lock, marks: int) -> str:
    """The motion that a lock tells on a frame; marks tell no more than their number allows."""
    if lock.kind != "point":
        return lock.moves
    return FULLER[min(FULLER.index(lock.moves), max(min(marks, len(FULLER)) - 1, 0))]


def _basis(at: Places, moves: str) -> Places:
    """How the numbers of a motion about the identity move places (n, 2). (n, 2, k)."""
    x, y = at.T
    one, none = np.ones_like(x), np.zeros_like(x)
    ways = [(one, none), (none, one)]
    if moves == "similarity":
        ways += [(x, y), (-y, x)]
    elif moves in ("affine", "perspective"):
        ways += [(x, none), (y, none), (none, x), (none, y)]
        ways += [(x * x, x * y), (x * y, y * y)] if moves == "perspective" else []
    return np.stack([np.stack(way, axis=-1) for way in ways], axis=-1)


def _turned(
    lock: Lock, frame: int, anchors: Places, seen: Places, focal: float | None, size: tuple[int, int], far: bool
) -> NDArray[np.float64] | None:
    """How a turning camera moves the picture that moves a lock's marks or field so; None where that is not known."""
    widest, marks = LENSES[0] * size[0], _seen_marks(lock, frame) if lock.kind == "point" else []
    if len(marks) > 1:
        told, odd = _told_by_marks(lock, size)
        if odd or (focal is None and not told.is_told(FOCAL_TOLD) and not far):
            return None
        focal = focal or (told.focal_px if told.is_told(FOCAL_TOLD) else max(widest, told.bounds_px[0]))
        seen = np.array([place for _, place in marks])
    elif not far:
        return None
    turn = turned_frames(anchors, seen[None], focal or widest, size).turns[0]
    return turn_motion(turn, focal or widest, size)


@lru_cache(maxsize=32)
def _told_by_marks(lock: Lock, size: tuple[int, int]) -> tuple[ToldFocal, bool]:
    """The focal length that marks tell, and whether no turning camera moves them so."""
    own = [k for k, mark in enumerate(lock.marks) if mark.frame in (None, lock.reference_frame)]
    homes = np.array([(lock.marks[k].x, lock.marks[k].y) for k in own])
    entries = [entry for entry in lock.solved if entry.frame != lock.reference_frame and len(entry.marks) > own[-1]]
    entries = [entry for entry in entries if any(entry.marks[k] for k in own)]
    places = np.array([[entry.marks[k] or (np.nan, np.nan) for k in own] for entry in entries]).reshape(
        len(entries), len(own), 2
    )
    errors = np.array([entry.residual_px for entry in entries])
    told = told_focal(homes, places, errors, size)
    found = turned_frames(homes, places, told.focal_px, size)
    off = np.sqrt(np.nanmean(found.off**2, axis=(1, 2)) * 2)
    odd = bool(np.median(off / np.maximum(ODD_TIMES * errors, ODD_PX)) > 1)
    return told, odd


def _other_focal(lock: Lock, frame: int, places: Places, motion: NDArray[np.float64], size: tuple[int, int]) -> Places:
    """How far places lie elsewhere by the focal lengths at the ends of what marks tell, (n), px."""
    marks, out = _seen_marks(lock, frame), np.zeros(len(places))
    if not marks or lock.lens.bounds_px is None:
        return out
    homes, seen = np.array([(mark.x, mark.y) for mark, _ in marks]), np.array([[place for _, place in marks]])
    least, most = (share * size[0] for share in LENSES)
    for focal in (min(max(each, least), most) for each in lock.lens.bounds_px):
        turn = turned_frames(homes, seen, focal, size).turns[0]
        there = carry(turn_motion(turn, focal, size) @ np.linalg.inv(motion), places)
        out = np.maximum(out, np.linalg.norm(there - places, axis=1))
    return out
