"""The grain that a filmed clip brings of itself, and what of a plate's is missing beside it."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..match.errors import MatchError
from ..match.noise import measure_noise
from ..media.curves import coded
from ..place.seen import plate_places, zone_seen
from ..shot import Match, Shot, Zone
from ..shot.match import GrainModel
from .aim import Seen, frames_for, zone_seen_with
from .pictures import Pictures

PLACES = 9  # a side, that a zone's motion is told by


def without_grain(zone: Zone) -> Match:
    """A zone's match as it is before grain is laid; what spills over its rim is not its own."""
    match = zone.match
    return match.but(wrap=match.wrap.but(on=False), grain=match.grain.but(on=False))


def own_grain(shot: Shot, zone: Zone, pictures: Pictures, seen: Seen | None = None) -> GrainModel | None:
    """The noise that a filmed clip has of itself, as it would be rendered without grain, on the middle frame it is seen
    on; None of a still, or where it cannot be told. seen: the zone so on that frame, where it is known already."""
    source, frame, bare = shot.source(zone.source), frames_for(shot, zone, 1)[0], without_grain(zone)
    if source.start == source.end:
        return None
    beside = frame + 1 if frame + 1 in shot.frames else frame - 1
    motion = _motion(shot, zone, frame, beside)
    if motion is None or not zone.is_seen(beside):
        return None
    try:
        here = zone_seen_with(shot, zone, frame, pictures, bare) if seen is None else seen
        there = zone_seen_with(shot, zone, beside, pictures, bare)
    except MatchError:
        return None
    pictures_of = [coded(here.picture), coded(there.picture)]
    found = measure_noise(pictures_of, [here.mask, there.mask], [np.asarray(np.linalg.inv(motion))])
    return None if found is None else found.model


def missing(plate: GrainModel, own: GrainModel) -> GrainModel:
    """What is to be laid on a picture with grain of its own so that both together are as strong as the plate's.

    Example
    -------
    >>> plate, own = (GrainModel(levels=(0.5,), deviation=((each, 0.01, 0.01),)) for each in (0.005, 0.004))
    >>> [round(each, 4) for each in missing(plate, own).deviation[0]]
    [0.003, 0.0, 0.0]
    """
    columns = [np.interp(plate.levels, own.levels, [row[c] for row in own.deviation]) for c in range(3)]
    left = np.sqrt(np.maximum(np.square(plate.deviation) - np.square(columns).T, 0))
    return plate.but(deviation=tuple((float(r), float(g), float(b)) for r, g, b in left))


def _motion(shot: Shot, zone: Zone, frame: int, beside: int) -> NDArray[np.float64] | None:
    """How a zone moves from a frame to the one beside it, as a homography of plate pixels, (3, 3)."""
    xs, ys = (np.linspace(0, extent, PLACES) for extent in shot.size)
    points = np.stack([each.ravel() for each in np.meshgrid(xs, ys)], axis=1)
    there = plate_places(shot, zone, beside, zone_seen(shot, zone, frame).back(points))
    good = np.isfinite(there).all(axis=1)
    if np.count_nonzero(good) < 8:
        return None
    motion, _ = cv2.findHomography(points[good], there[good])
    return None if motion is None else np.asarray(motion)
