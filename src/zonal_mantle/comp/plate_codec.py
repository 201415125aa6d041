"""What a codec did to the plate, and how far the plate moves between frames: what it takes to do the same to a zone."""

from __future__ import annotations

import numpy as np

from ..match.noise import shift_between
from ..media import quantiser_of
from ..media.curves import coded
from ..place.transform import reference_to_frame
from ..shot import Shot, Zone
from .pictures import Pictures

HARMLESS = 12.0  # H.264's parameter, below which its step is that of some two codes of eight bits


def quantiser_told(shot: Shot) -> float | None:
    """The step of the plate's H.264; None where its file does not tell one, or one that leaves all as it is."""
    source = shot.plate_source
    quantiser = None if source is None else quantiser_of(source)
    return quantiser if quantiser is not None and quantiser >= HARMLESS else None


def travel_of(shot: Shot, zone: Zone, frame: int, pictures: Pictures) -> tuple[float, float]:
    """How far the plate moves about a frame, a frame: by the lock of the aim or of the zone, else by the pictures."""
    before, after = max(frame - 1, shot.first), min(frame + 1, shot.last)
    if after == before:
        return 0.0, 0.0
    rides = zone.match.aim.rides or zone.placement.rides
    middle = np.array([shot.size[0] / 2, shot.size[1] / 2])
    if rides is not None and shot.lock(rides).holds:
        a, b = (reference_to_frame(shot, rides, f) @ np.append(middle, 1) for f in (before, after))
        way = (b[:2] / b[2] - a[:2] / a[2]) / (after - before)
        return float(way[0]), float(way[1])
    assert shot.plate_source is not None
    one, two = (np.ascontiguousarray(coded(pictures.plate(shot.plate_source, f)).mean(axis=2)) for f in (before, after))
    x, y = shift_between(one, two)
    return x / (after - before), y / (after - before)
