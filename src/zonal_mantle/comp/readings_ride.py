"""How far a zone may be off for the lock that it rides on, there where it is seen, over the shot."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from ..place.coverage import Opening
from ..place.ride_error import ride_errors
from ..place.seen import zone_seen
from ..shot import Shot, Zone
from ..words import say
from .finding import Finding, RideFault

RIDE_ACCEPTED_PX: dict[RideFault, float] = {"bent": 1.0, "far": 2.0}  # the first is likely, the second a bound
LOOKED_AT = 300  # places of a frame


@dataclass(frozen=True)
class RideReading:
    """What a zone may be off by at the worst of the places where it is seen, px: over the shot, with the frame and the
    place; and frame by frame. `fault` is what most of it comes of: a turning camera that its lock cannot follow
    ("bent"), or that it reaches far beyond what its lock looks at ("far")."""

    worst_px: float
    worst_frame: int
    worst_place: tuple[float, float]
    fault: RideFault
    frames_px: dict[int, float] = field(default_factory=dict)

    @property
    def is_off(self) -> bool:
        """Whether it may be off by more than is accepted."""
        return self.worst_px > RIDE_ACCEPTED_PX[self.fault]


def read_ride(shot: Shot, zone: Zone, openings: Mapping[int, Opening]) -> RideReading | None:
    """How far a zone may be off on the frames of `openings`; None where it rides on nothing that is measured."""
    source, found = shot.source(zone.source), list[tuple[float, int, tuple[float, float], RideFault]]()
    for frame, opened in openings.items():
        places = opened.all[:: max(len(opened.all) // LOOKED_AT, 1)]
        places = np.concatenate([opened.places, places])
        if not len(places):
            continue
        at = zone_seen(shot, zone, frame).back(places)
        with np.errstate(invalid="ignore"):
            inside = ((at >= 0) & (at <= (source.width, source.height))).all(axis=1)
        places = places[inside]
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
    words = say(
        "{name} may be off by {px:.1f} px, about {x:.0f}, {y:.0f}: {why}",
        name=zone.name,
        px=reading.worst_px,
        x=x,
        y=y,
        why=why,
    )
    return Finding("Lock", zone.id, reading.worst_frame, words, reading.fault)
