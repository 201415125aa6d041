"""What a hand does to what hangs: from where it took hold to where it let go, on the picture."""

from __future__ import annotations

import numpy as np

from ..geometry import carry
from ..shot.hang import Card
from ..shot.shapes import Point
from ..shot.shot import Shot
from ..shot.zone import Placement, Zone
from .transform import CARD_FAR_M, flat_to_reference, placement_camera, reference_to_frame, shape_of

LEAST_SIZE, MOST_SIZE = 0.01, 20.0


def moved_by(placement: Placement, frame: int, dx: float, dy: float) -> Placement:
    """A flat placement moved on the reference frame, on a frame's keys."""
    return placement.but(
        x=placement.x.with_value(frame, placement.x.at(frame) + float(dx)),
        y=placement.y.with_value(frame, placement.y.at(frame) + float(dy)),
    )


def handled(
    shot: Shot, zone: Zone, frame: int, what: str, start: Point, end: Point, about: Point, corner: int | None = None
) -> Zone | None:
    """A zone after one drag.

    Parameters
    ----------
    what : "move", "size", "turn" or "pin".
    start, end : plate pixels on the frame. about : what it is sized and turned about, likewise.
    corner : which is dragged, of pins.

    Returns
    -------
    None where the drag tells nothing.
    """
    placement = zone.placement
    back = np.linalg.inv(reference_to_frame(shot, zone, frame))
    (x0, y0), (x1, y1), (ax, ay) = carry(back, np.array([start, end, about]))
    dx, dy = float(x1 - x0), float(y1 - y0)
    before, after = complex(x0 - ax, y0 - ay), complex(x1 - ax, y1 - ay)
    if what in ("size", "turn") and (abs(before) < 1 or abs(after) < 1):
        return None
    ratio = abs(after) / abs(before) if what == "size" else 1.0
    turned = float(np.rad2deg(np.angle(after / before))) if what == "turn" else 0.0
    if placement.way == "flat":
        if what == "move":
            return zone.but(placement=moved_by(placement, frame, dx, dy))
        size = min(max(placement.size.at(frame) * ratio, LEAST_SIZE), MOST_SIZE)
        turn = placement.turn_deg.at(frame) + turned
        key = (
            {"size": placement.size.with_value(frame, size)}
            if what == "size"
            else {"turn_deg": placement.turn_deg.with_value(frame, turn)}
        )
        return zone.but(placement=placement.but(**key))
    if placement.way == "corner pin":
        chosen = {corner} if what == "pin" else {0, 1, 2, 3}
        pins = tuple(
            pin.but(x=pin.x.with_value(frame, pin.x.at(frame) + dx), y=pin.y.with_value(frame, pin.y.at(frame) + dy))
            if k in chosen
            else pin
            for k, pin in enumerate(placement.pins)
        )
        return zone.but(placement=placement.but(pins=pins))
    focal = placement_camera(shot, placement)[0, 0]
    if placement.way == "card":
        return zone.but(placement=placement.but(card=_card_moved(zone, frame, dx, dy, ratio, turned, focal)))
    dome = placement.dome
    dome = dome.but(
        turn_deg=dome.turn_deg.with_value(frame, dome.turn_deg.at(frame) + float(np.degrees(dx / focal))),
        tilt_deg=dome.tilt_deg.with_value(frame, dome.tilt_deg.at(frame) - float(np.degrees(dy / focal))),
    )
    return zone.but(placement=placement.but(dome=dome))


def flipped_in_place(shot: Shot, zone: Zone) -> Zone:
    """A zone mirrored left to right about the painting's own middle, so that it covers what it covered.

    The other ways to hang flip so by themselves; a flat one is flipped about its anchor and moved back.
    """
    new = zone.placement.but(flip_across=not zone.placement.flip_across)
    if new.way == "flat":
        size, _ = shape_of(shot, zone)
        middle = np.array([size]) / 2
        before, after = (
            carry(flat_to_reference(p, shot.first, size, shot.size), middle)[0] for p in (zone.placement, new)
        )
        new = new.but(x=new.x.shifted(float(before[0] - after[0])), y=new.y.shifted(float(before[1] - after[1])))
    return zone.but(placement=new)


def _card_moved(zone: Zone, frame: int, dx: float, dy: float, ratio: float, turned: float, focal: float) -> Card:
    """A card moved, sized or rolled by what a hand did on the picture."""
    card, metres = zone.placement.card, (zone.distance_m or CARD_FAR_M) / focal
    if ratio != 1:
        return card.but(height_m=card.height_m.with_value(frame, card.height_m.at(frame) * ratio))
    if turned:
        return card.but(roll_deg=card.roll_deg.with_value(frame, card.roll_deg.at(frame) + turned))
    return card.but(
        right_m=card.right_m.with_value(frame, card.right_m.at(frame) + dx * metres),
        up_m=card.up_m.with_value(frame, card.up_m.at(frame) - dy * metres),
    )


def with_group(shot: Shot, zone: Zone, moved: Zone, frame: int, start: Point, end: Point) -> Shot:
    """The shot with a moved zone, and the others of its group moved alike."""
    out = shot.with_zone(moved)
    if not zone.group:
        return out
    for other in shot.zones:
        if other.id != zone.id and other.group == zone.group and not shot.holds_plate(other):
            done = handled(shot, other, frame, "move", start, end, start)
            out = out.with_zone(done) if done is not None else out
    return out
