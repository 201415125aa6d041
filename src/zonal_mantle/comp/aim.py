"""What a zone is compared with, and what it shows itself, as pixels."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import carry
from ..match.errors import MatchError
from ..matte.dead_border import dead_border
from ..media.curves import coded
from ..place.transform import reference_to_frame
from ..shot import AimArea, Match, Shot, Zone
from ..shot.hang import Blend, Mirror
from ..words import say
from .matte_planner import matte_plan, on_plate, reads_own
from .pictures import Pictures
from .stack import compose

Array = NDArray[np.float32]
BLOCKS = 6  # a side that a part is cut into, to see how it goes from place to place
SOLID = 0.995
BESIDE_PX = 3  # of a border, that scaling and codecs darken
LEAST_PIXELS = 64  # of an aim
LEAST_SHARE = 0.002  # of the frame that a zone must show to be compared


class Seen(NamedTuple):
    """Pixels on a frame: picture (h, w, 3) scene-linear, and where they may be looked at, (h, w)."""

    picture: Array
    mask: NDArray[np.bool_]


def corners_of(
    shot: Shot, box: tuple[float, float, float, float], drawn: int, rides: str | None, frame: int
) -> NDArray[np.float64]:
    """Where the corners of a box lie on a frame, (4, 2) plate pixels: it rides on a lock from the frame it was drawn
    on."""
    x0, y0, x1, y1 = box
    corners = np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]], float)
    if rides is None or not shot.lock(rides).holds:
        return corners
    back = np.linalg.inv(reference_to_frame(shot, rides, drawn))
    return carry(reference_to_frame(shot, rides, frame) @ back, corners)


def area_mask(shot: Shot, area: AimArea, rides: str | None, frame: int) -> NDArray[np.bool_]:
    """Where an area of an aim lies on a frame: it rides on the aim's lock from the frame that it was drawn on."""
    corners = corners_of(shot, area.box, area.frame, rides, frame)
    out = np.zeros((shot.size[1], shot.size[0]), np.uint8)
    cv2.fillConvexPoly(out, np.round(corners * 16 - 8).astype(np.int32), 1, shift=4)
    return np.asarray(out > 0)


def plate_zone_for(shot: Shot, zone: Zone, frame: int) -> Zone | None:
    """The zone of the plate that lies nearest to another in distance, on the section's axis."""
    plates = [each for each in shot.zones if shot.holds_plate(each) and each.is_seen(frame) and each.id != zone.id]
    own = zone.distance_m or 1e6
    return min(plates, key=lambda each: abs(np.log((each.distance_m or 1e6) / own)), default=None)


def kept_mask(shot: Shot, plate_zone: Zone, frame: int, pictures: Pictures) -> NDArray[np.bool_]:
    """What the matte of a zone of the plate keeps whole on a frame, without black borders."""
    source = shot.plate_source
    assert source is not None
    shown = shown_mask(pictures.plate(source, frame))
    matte = shot.matte_of(plate_zone)
    if matte is None or not plate_zone.matte.on or reads_own(shot, plate_zone):
        return shown
    return np.asarray((pictures.made(matte_plan(shot, on_plate(matte), frame)).alpha > SOLID) & shown)


def shown_mask(picture: Array) -> NDArray[np.bool_]:
    """Where a plate shows something, (h, w): all but the black borders of another picture shape, and what lies just
    beside them. picture (h, w, 3) scene-linear."""
    dead = dead_border(coded(np.ascontiguousarray(picture[..., :3], np.float32)))
    if dead is None:
        return np.ones(picture.shape[:2], np.bool_)
    return np.asarray(cv2.dilate(dead.astype(np.uint8), np.ones((2 * BESIDE_PX + 1,) * 2, np.uint8)) == 0)


def within_borders(picture: Array) -> tuple[slice, slice]:
    """The rows and columns of a plate that show something: a border is no haze and no rim."""
    shown = shown_mask(picture)
    rows, columns = (np.flatnonzero(shown.any(axis=way)) for way in (1, 0))
    return slice(rows[0], rows[-1] + 1), slice(columns[0], columns[-1] + 1)


def aim_seen(shot: Shot, zone: Zone, frame: int, pictures: Pictures, unlike: bool = False) -> tuple[Seen, float | None]:
    """The plate where a zone's aim lies, and how far off that is where it is known.

    Raises
    ------
    MatchError : there is no plate, or nothing of it is kept.
    """
    source = shot.plate_source
    if source is None:
        raise MatchError(say("The shot has no plate to compare with."))
    picture = pictures.plate(source, frame)
    aim = zone.match.aim
    if aim.areas:
        mask: NDArray[np.bool_] = np.zeros(picture.shape[:2], bool)
        for area in aim.areas:
            mask |= area_mask(shot, area, aim.rides, frame)
        known = [area.distance_m for area in aim.areas if area.distance_m is not None]
        distance = float(np.median(known)) if len(known) == len(aim.areas) else None
        words = say(
            "The aim of {name} lies outside of the picture on frame {frame}. Draw it again.",
            name=zone.name,
            frame=frame,
        )
    else:
        if zone.distance_m is None and not shot.holds_plate(zone):
            raise MatchError(
                say(
                    "{name} is at infinity: nothing that is kept of the plate is like it. Draw an aim for it.",
                    name=zone.name,
                )
            )
        other = plate_zone_for(shot, zone, frame)
        mask = shown_mask(picture) if other is None else kept_mask(shot, other, frame, pictures)
        distance = None if other is None else other.distance_m
        words = say(
            "Nothing of the plate is kept on frame {frame}: there is nothing to compare {name} with.",
            frame=frame,
            name=zone.name,
        )
    mask = mask & np.isfinite(picture).all(axis=2)
    if not mask.any():
        raise MatchError(words)
    if mask.sum() < LEAST_PIXELS:
        raise MatchError(
            say("The aim of {name} is too small to measure anything on. Draw a larger area.", name=zone.name)
        )
    return Seen(picture, mask), distance


def zone_seen_with(shot: Shot, zone: Zone, frame: int, pictures: Pictures, match: Match) -> Seen:
    """What a zone by itself looks like on a frame under a match, where it is solid.

    Raises
    ------
    MatchError : nothing of it is seen there.
    """
    bare = zone.but(match=match, mirror=Mirror(), blend=Blend())
    rgba = compose(shot.with_zone(bare), frame, pictures, 1.0, [bare])  # what grain lies on it is the shot's to say
    alpha = rgba[..., 3]
    mask = (alpha > SOLID) & np.isfinite(rgba).all(axis=2)
    if mask.mean() < LEAST_SHARE:
        raise MatchError(
            say("Too little of {name} is seen on frame {frame} to be compared.", name=zone.name, frame=frame)
        )
    return Seen(np.asarray(rgba[..., :3] / np.maximum(alpha, 1e-6)[..., None], np.float32), np.asarray(mask))


def blocks_of(seen: Sequence[Seen]) -> list[NDArray]:
    """The pixels of masks in blocks of place, (n, 3) each."""
    out = []
    for picture, mask in seen:
        ys, xs = np.nonzero(mask)
        top, bottom, left, right = ys.min(), ys.max() + 1, xs.min(), xs.max() + 1
        for j in range(BLOCKS):
            for i in range(BLOCKS):
                rows = slice(top + (bottom - top) * j // BLOCKS, top + (bottom - top) * (j + 1) // BLOCKS)
                columns = slice(left + (right - left) * i // BLOCKS, left + (right - left) * (i + 1) // BLOCKS)
                part = picture[rows, columns][mask[rows, columns]]
                if len(part) >= 30:
                    out.append(part)
    return out


def frames_for(shot: Shot, zone: Zone, count: int) -> list[int]:
    """Frames of the work range on which a zone is seen, spread over it; the middle one first."""
    there = [frame for frame in shot.work_frames if zone.is_seen(frame)] or [shot.first]
    if count == 1 or len(there) == 1:
        return [there[len(there) // 2]]
    picks = [there[round(k * (len(there) - 1) / (count + 1))] for k in range(1, count + 1)]
    middle = there[len(there) // 2]
    return [middle, *(frame for frame in dict.fromkeys(picks) if frame != middle)][:count]
