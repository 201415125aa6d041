"""The horizons of plate and painting, and how a painting is moved so that they meet."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from ..geometry import carry
from ..shot.guides import Line
from ..shot.lock import Lock
from ..shot.shot import Shot
from ..shot.source import Source
from ..shot.zone import Placement, Zone
from ..words import say
from .perspective import Perspective, carried, height_at, line_through, read_lines, roll_deg
from .ride import lock_motion
from .seen import plate_places, zone_seen
from .transform import CARD_FAR_M, painting_to_frame, placement_camera, placement_lens, reference_to_frame

Vector = NDArray[np.float64]
OTHER_HEIGHT = 0.2  # of the painting's height between its horizon and where the plate's lies on it: another standpoint


def _of(lines: Iterable[Line], kind: str) -> NDArray:
    return np.array([[line.a, line.b] for line in lines if line.kind == kind], float).reshape(-1, 2, 2)


def plate_perspective(shot: Shot, frame: int) -> Perspective:
    """What the lines drawn on the plate tell of a frame: horizon and vanishing points are carried there by the lock
    that the lines ride on, at infinity. A solved camera or pan gives its focal length where the lines do not."""
    lock = shot.lock(shot.lines_ride) if shot.lines_ride is not None else None
    found = _on_reference(shot.lines, lock, shot.size)
    if lock is None:
        return found
    motion = lock_motion(lock, frame, shot.size)
    return replace(
        found,
        horizon=None if found.horizon is None else carried(found.horizon, motion),
        first=None if found.first is None else motion @ found.first,
        second=None if found.second is None else motion @ found.second,
    )


@lru_cache(maxsize=16)
def _on_reference(lines: tuple[Line, ...], lock: Lock | None, size: tuple[int, int]) -> Perspective:
    """What the lines tell of the lock's reference frame."""
    moved = []
    for line in lines:
        if lock is not None:
            (ax, ay), (bx, by) = carry(np.linalg.inv(lock_motion(lock, line.frame, size)), np.array([line.a, line.b]))
            line = line.but(a=(float(ax), float(ay)), b=(float(bx), float(by)))
        moved.append(line)
    known = lock.lens.focal_px if lock is not None and lock.knows_camera else None
    return read_lines(_of(moved, "horizon"), _of(moved, "first"), _of(moved, "second"), size, known)


def painting_perspective(source: Source) -> Perspective:
    """What the lines drawn on a painting tell of it, in its pixels. A lat-long picture's horizon is its middle row."""
    size = (source.width, source.height)
    return read_lines(_of(source.lines, "horizon"), _of(source.lines, "first"), _of(source.lines, "second"), size)


def painting_horizon(source: Source, placement: Placement) -> Vector | None:
    """A painting's horizon in its own pixels: as drawn, or the middle row of a lat-long dome."""
    drawn = painting_perspective(source).horizon
    if drawn is None and placement.way == "dome" and placement.dome.mapping == "lat-long":
        return np.array([0.0, 1.0, -source.height / 2])
    return drawn


@dataclass(frozen=True)
class HorizonReading:
    """A painting's horizon against the plate's over the shot: how far it lies below the plate's at the frame's middle
    and how far it is turned, each at its worst, with that frame; and the angle between their first vanishing points.

    odd : why the painting was seen from another height, or nothing.
    """

    off_px: float
    off_deg: float
    frame: int
    points_deg: float | None
    odd: str = ""


def horizon_on(shot: Shot, zone: Zone, frame: int) -> Vector | None:
    """Where a zone's painted horizon lies on a frame; None where it has none or is not seen."""
    source = shot.source(zone.source)
    line = painting_horizon(source, zone.placement)
    if line is None:
        return None
    if zone.placement.way != "dome":
        return carried(line, painting_to_frame(shot, zone, frame))
    middle = _looked_at(shot, zone, frame)
    x0 = middle[0] if middle is not None else source.width / 2
    ends = np.array([[x, height_at(line, x)] for x in (x0 - 0.01 * source.width, x0 + 0.01 * source.width)])
    a, b = plate_places(shot, zone, frame, ends)
    return line_through(tuple(a), tuple(b)) if np.isfinite([*a, *b]).all() else None


def _looked_at(shot: Shot, zone: Zone, frame: int) -> NDArray | None:
    at = zone_seen(shot, zone, frame).back(np.array([[shot.size[0] / 2, shot.size[1] / 2]]))[0]
    return at if np.isfinite(at).all() else None


def read_horizons(shot: Shot, zone: Zone) -> HorizonReading | None:
    """How well the horizons meet over the shot; None where one of them is not known."""
    source, worst, middle = shot.source(zone.source), None, shot.size[0] / 2
    if painting_horizon(source, zone.placement) is None:
        return None
    for frame in shot.frames:
        plate, own = plate_perspective(shot, frame), horizon_on(shot, zone, frame)
        if plate.horizon is None or own is None:
            continue
        off = height_at(own, middle) - height_at(plate.horizon, middle)
        turned = (roll_deg(own) - roll_deg(plate.horizon) + 90) % 180 - 90
        if worst is None or abs(off) + 10 * abs(turned) > abs(worst[0]) + 10 * abs(worst[1]):
            worst = (off, turned, frame)
    if worst is None:
        return None
    plate = plate_perspective(shot, worst[2])
    return HorizonReading(*worst, _points_apart(shot, zone, worst[2], plate), _odd(shot, zone, source, plate, worst[2]))


def _points_apart(shot: Shot, zone: Zone, frame: int, plate: Perspective) -> float | None:
    """Angle between the first vanishing points of plate and painting as hung, degrees."""
    own = painting_perspective(shot.source(zone.source)).first
    if own is None or plate.first is None or zone.placement.way == "dome":
        return None
    lens = placement_lens(shot, zone.placement)
    focal = plate.focal_px or (lens.focal_px if lens is not None else None) or 1.4 * shot.size[0]
    back = np.linalg.inv(np.array([[focal, 0, shot.size[0] / 2], [0, focal, shot.size[1] / 2], [0, 0, 1]]))
    a, b = back @ plate.first, back @ painting_to_frame(shot, zone, frame) @ own
    share = abs(float(a @ b)) / float(np.linalg.norm(a) * np.linalg.norm(b))
    return float(np.degrees(np.arccos(min(share, 1.0))))


def _odd(shot: Shot, zone: Zone, source: Source, plate: Perspective, frame: int) -> str:
    """Whether the painting's horizon lies in another part of it than where the plate's falls."""
    own = painting_horizon(source, zone.placement)
    if own is None or plate.horizon is None or zone.placement.way == "dome":
        return ""
    try:
        falls = carried(plate.horizon, np.linalg.inv(painting_to_frame(shot, zone, frame)))
    except (ValueError, np.linalg.LinAlgError):
        return ""
    ours, theirs = (height_at(line, source.width / 2) / source.height for line in (own, falls))
    if not np.isfinite(theirs) or abs(ours - theirs) < OTHER_HEIGHT:
        return ""
    return say(
        "{name} was seen from another height: its horizon lies at {ours:.0%} of its height, the plate's "
        "falls at {theirs:.0%} of it.",
        name=zone.name,
        ours=ours,
        theirs=theirs,
    )


def met(shot: Shot, zone: Zone, frame: int) -> Zone:
    """A zone turned and moved so that its painted horizon lies on the plate's.

    A flat painting is turned about its anchor and moved along the plate's horizon's normal; pinned corners are turned
    and moved likewise; a card is rolled and lifted; a dome is rolled and tilted.

    Raises
    ------
    ValueError : one of the horizons is not known; says which.
    """
    plate = plate_perspective(shot, frame).horizon
    if plate is None:
        raise ValueError(say("The plate's horizon is not known. Draw it, or edges that run toward it, on the plate."))
    if painting_horizon(shot.source(zone.source), zone.placement) is None:
        raise ValueError(
            say("The horizon of {name}'s painting is not known. Draw it in the Painting view.", name=zone.name)
        )
    for _ in range(12):  # each way is exact for its own kind; what a dome or a card does not take at once follows
        own = horizon_on(shot, zone, frame)
        if own is None:
            raise ValueError(
                say("The horizon of {name}'s painting is not seen on frame {frame}.", name=zone.name, frame=frame)
            )
        middle = shot.size[0] / 2
        off = height_at(plate, middle) - height_at(own, middle)
        turned = (roll_deg(plate) - roll_deg(own) + 90) % 180 - 90
        if abs(off) < 1e-3 and abs(turned) < 1e-4:
            break
        zone = zone.but(placement=_toward(shot, zone, frame, plate, off, turned))
    return zone


def _toward(shot: Shot, zone: Zone, frame: int, plate: Vector, off: float, turned: float) -> Placement:
    """One step of `met`."""
    p = zone.placement
    k = placement_camera(shot, p)
    if p.way == "dome":
        dome = p.dome.but(
            tilt_deg=p.dome.tilt_deg.with_value(frame, p.dome.tilt_deg.at(frame) - float(np.degrees(off / k[0, 0]))),
            roll_deg=p.dome.roll_deg.with_value(frame, p.dome.roll_deg.at(frame) + turned),
        )
        return p.but(dome=dome)
    if p.way == "card":
        up = off / k[0, 0] * (zone.distance_m or CARD_FAR_M)
        card = p.card.but(
            up_m=p.card.up_m.with_value(frame, p.card.up_m.at(frame) - up),
            roll_deg=p.card.roll_deg.with_value(frame, p.card.roll_deg.at(frame) + turned),
        )
        return p.but(card=card)
    # on the reference frame: turn about the anchor, then move across the plate's horizon there
    motion = reference_to_frame(shot, zone, frame)
    wanted = carried(plate, np.linalg.inv(motion))
    anchor = np.array(p.anchor or (shot.size[0] / 2, shot.size[1] / 2)) + [p.x.at(frame), p.y.at(frame)]
    own = carried(horizon_on(shot, zone, frame), np.linalg.inv(motion))  # type: ignore[arg-type]
    angle = np.deg2rad((roll_deg(wanted) - roll_deg(own) + 90) % 180 - 90)
    spin = np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]])
    about = np.eye(3)
    about[:2, :2], about[:2, 2] = spin, anchor - spin @ anchor
    now = carried(own, about)
    by = (now[2] - wanted[2]) * wanted[:2]  # both have the same normal
    if p.way == "corner pin":
        pins = np.array([[pin.x.at(frame), pin.y.at(frame)] for pin in p.pins])
        new = carry(about, pins) + by
        moved = tuple(
            pin.but(x=pin.x.with_value(frame, float(x)), y=pin.y.with_value(frame, float(y)))
            for pin, (x, y) in zip(p.pins, new)
        )
        return p.but(pins=moved)
    return p.but(
        turn_deg=p.turn_deg.with_value(frame, p.turn_deg.at(frame) + float(np.degrees(angle))),
        x=p.x.with_value(frame, p.x.at(frame) + float(by[0])),
        y=p.y.with_value(frame, p.y.at(frame) + float(by[1])),
    )
