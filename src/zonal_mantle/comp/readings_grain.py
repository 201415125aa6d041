"""How the grain on a zone compares with the plate's, as it is rendered."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..match.errors import MatchError
from ..match.grain_compared import GrainCompared, compare_grain
from ..match.noise import LEAST_PIXELS
from ..media.curves import coded
from ..shot import Shot, Zone
from ..words import say, spoken
from .aim import frames_for, zone_seen_with
from .digest import digest
from .own_grain import own_grain, without_grain
from .pictures import READINGS_KNOWN, Pictures, known
from .planner import plan
from .plate_grain import plate_noise

NOISE_FRAMES = 2  # of the plate, that its noise is told by


@dataclass(frozen=True)
class GrainReading:
    """The grain of a zone against the plate's on a frame (see `GrainCompared`), or why they cannot be compared."""

    frame: int
    compared: GrainCompared | None = None
    problem: str = ""

    @property
    def words(self) -> str:
        """What is read, for a panel."""
        if self.compared is None:
            return self.problem
        own, plate = (each * 255 for each in self.compared.strengths)
        words = say("Grain {own:.2f} of 255, the plate's {plate:.2f}", own=own, plate=plate)
        if self.compared.width is not None:
            words += say("; {width:.2f} times as coarse", width=self.compared.width)
        return words


def has_grain(shot: Shot, zone: Zone) -> bool:
    """Whether a zone is a picture of its own that stands before the lens as the plate does: light that is added has
    the plate's grain already."""
    return not shot.holds_plate(zone) and zone.placement.on and zone.blend.mode == "normal"


def read_grain(shot: Shot, zone: Zone, pictures: Pictures) -> GrainReading:
    """The grain of a zone, on the middle frame it is seen on, against the plate's.

    Raises
    ------
    MediaError : a source cannot be read.
    """
    frame = frames_for(shot, zone, 1)[0]
    match, bare = zone.match.but(wrap=zone.match.wrap.but(on=False)), without_grain(zone)
    shots = [shot.with_zone(zone.but(match=each)) for each in (match, bare)]
    planned = [plan(each, frame, 1.0, [each.zone(zone.id)]).digest for each in shots]
    key = digest((*planned, str(shot.plate_source), str(shot.locks), frame))

    def look() -> GrainReading:
        try:
            noise = plate_noise(shot, pictures, parts=1, count=NOISE_FRAMES)
        except ValueError:
            return GrainReading(frame, problem=say("The plate's own grain cannot be told."))
        try:
            before = zone_seen_with(shot, zone, frame, pictures, bare)
            after = zone_seen_with(shot, zone, frame, pictures, match)
        except MatchError as problem:
            return GrainReading(frame, problem=str(problem))
        codes = coded(before.picture)
        own = own_grain(shot, zone, pictures, before)
        told = np.min(noise.pixels, axis=1) >= LEAST_PIXELS
        grained, mask = coded(after.picture), before.mask & after.mask
        return GrainReading(frame, compare_grain(codes, grained, mask, noise.model, own, told))

    return known(("grain", key, spoken()), look, READINGS_KNOWN)
