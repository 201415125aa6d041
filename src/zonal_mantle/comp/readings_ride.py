"""How far a zone may be off for the lock that it rides on, there where it is seen, over the shot."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ..media import MediaError
from ..place.coverage import Opening
from ..place.ride_error import ride_errors
from ..place.seen import zone_seen
from ..shot import Shot, Zone
from ..words import say
from .beside_plate import asks_plate, beside_plate, columns_beside, needs_camera
from .finding import Finding, RideFault
from .pictures import Pictures
from .plate_moves import far_moves, plate_tracks

# The first is likely, the second a bound; the third is seen, and no less than what is told of it.
RIDE_ACCEPTED_PX: dict[RideFault, float] = {"bent": 1.0, "far": 2.0, "apart": 1.0}
LOOKED_AT = 300  # places of a frame


@dataclass(frozen=True)
class RideReading:
    """What a zone may be off by at the worst of the places where it is seen, px: over the shot, with the frame and the
    place; and frame by frame. `fault` is what most of it comes of: a turning camera that its lock cannot follow
    ("bent"), that it reaches far beyond what its lock looks at ("far"), or that what is far goes another way than the
    lock, by what the plate shows ("apart")."""

    worst_px: float
    worst_frame: int
    worst_place: tuple[float, float]
    fault: RideFault
    frames_px: dict[int, float] = field(default_factory=dict)

    @property
    def is_off(self) -> bool:
        """Whether it may be off by more than is accepted."""
        return self.worst_px > RIDE_ACCEPTED_PX[self.fault]


def read_ride(
    shot: Shot,
    zone: Zone,
    openings: Mapping[int, Opening],
    pictures: Pictures | None = None,
    progress: Callable[[float, str], None] = lambda share, words: None,
) -> RideReading | None:
    """How far a zone may be off on the frames of `openings`; None where it rides on nothing that is measured. With
    `pictures` what is far is looked at on the plate, too, where all of it can be read."""
    reading = _by_lock(shot, zone, openings)
    lock = shot.lock(zone.placement.rides) if zone.placement.rides is not None else None
    if reading is None or lock is None or pictures is None or not asks_plate(zone, lock):
        return reading
    try:
        tracks = plate_tracks(shot, pictures, progress)
    except MediaError:  # which is said elsewhere
        return reading
    columns = {} if tracks is None else columns_beside(shot, zone, openings, tracks)
    if tracks is None or not needs_camera(shot, zone, openings, columns, tracks):
        return reading
    places = {frame: _seen_at(shot, zone, frame, opened) for frame, opened in openings.items()}
    beside = beside_plate(shot, zone, columns, places, tracks, far_moves(tracks, shot, lock.reference_frame, progress))
    if beside is None or beside.px[beside.frame] <= reading.worst_px:
        return reading
    frames_px = {frame: max(px, beside.px.get(frame, 0.0)) for frame, px in reading.frames_px.items()}
    return RideReading(beside.px[beside.frame], beside.frame, beside.place, "apart", frames_px)


def _seen_at(shot: Shot, zone: Zone, frame: int, opened: Opening) -> NDArray[np.float64]:
    """Some places of a frame where a zone is seen, (n, 2)."""
    places = np.concatenate([opened.places, opened.all[:: max(len(opened.all) // LOOKED_AT, 1)]])
    if not len(places):
        return places
    source, at = shot.source(zone.source), zone_seen(shot, zone, frame).back(places)
    with np.errstate(invalid="ignore"):
        inside = ((at >= 0) & (at <= (source.width, source.height))).all(axis=1)
    return np.asarray(places[inside])


def _by_lock(shot: Shot, zone: Zone, openings: Mapping[int, Opening]) -> RideReading | None:
    """What the lock itself tells."""
    found = list[tuple[float, int, tuple[float, float], RideFault]]()
    for frame, opened in openings.items():
        places = _seen_at(shot, zone, frame, opened)
        errors = ride_errors(shot, zone, frame, places) if len(places) else None
        if errors is None:
            continue
        most = errors.most
        worst = int(most.argmax())
        bent = float(np.nan_to_num(errors.bent[worst]))
        x, y = (float(each) for each in places[worst])
        found.append((float(most[worst]), frame, (x, y), "bent" if bent > errors.spread[worst] else "far"))
    if not found:
        return None
    px, frame, place, fault = max(found, key=lambda each: each[0])
    return RideReading(px, frame, place, fault, {frame: px for px, frame, _, _ in found})


def ride_finding(shot: Shot, zone: Zone, reading: RideReading) -> Finding | None:
    """What there is to say where a zone may be off by more than is accepted."""
    rides = zone.placement.rides
    if rides is None or not reading.is_off:
        return None
    lock, (x, y) = shot.lock(rides), reading.worst_place
    why = say("it reaches far beyond what {lock} tells.", lock=lock.name)
    if reading.fault == "bent":
        why = say(
            "the camera turns, which the motion model of {lock} ({moves}) cannot follow.",
            lock=lock.name,
            moves=say(lock.moves),
        )
    if reading.fault == "apart":
        why = say("what is far moves otherwise than {lock}, which is nearer, or slips.", lock=lock.name)
    words = say(
        "{name} may be off by {px:.1f} px, about {x:.0f}, {y:.0f}: {why}",
        name=zone.name,
        px=reading.worst_px,
        x=x,
        y=y,
        why=why,
    )
    return Finding("Lock", zone.id, reading.worst_frame, words, reading.fault)
