"""How sharp a zone is beside its aim, as both are seen."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ..match.blur_told import SHARP, widening
from ..match.coded_blur import Plate, seen_through
from ..match.edge_width import edges_of, rooted, wider_by
from ..match.errors import MatchError
from ..match.sharpness import LUMA
from ..media import MediaError
from ..shot import LensMatch, Shot, Zone
from ..words import spoken
from .aim import Seen, aim_seen, frames_for, zone_seen_with
from .lens_fit import noise_of
from .pictures import READINGS_KNOWN, Pictures, known
from .plate_codec import quantiser_told, travel_of
from .plate_grain import grain_luma, plate_noise
from .readings_match import beside_aim

NOISE_FRAMES = 2  # of the plate, that its noise is told by
SEEN_AS = 0.6  # logarithm of widths, from which on edges are seen to be of another sharpness


@dataclass(frozen=True)
class LensReading:
    """How wide the sharpest edges of a zone and of its aim are on a frame, px, both under the plate's noise; None where
    they show none. `wider`: the logarithm of how many times as wide the zone's are; None where edges tell nothing.
    `compressed`: the plate was, in a way that could not be done to the zone as well, which makes the plate's soft edges
    look sharper. `problem`: why they cannot be compared."""

    frame: int
    zone_px: float | None = None
    aim_px: float | None = None
    wider: float | None = None
    compressed: bool = False
    problem: str = ""

    @property
    def off(self) -> Literal["sharper", "softer"] | None:
        """Whether the zone is seen to be sharper or softer than its aim."""
        if self.wider is None or abs(self.wider) < SEEN_AS or (self.wider > 0 and self.compressed):
            return None
        return "softer" if self.wider > 0 else "sharper"


def read_lens(shot: Shot, zone: Zone, pictures: Pictures) -> LensReading:
    """A zone's edges beside its aim's, with all of its match but wrap and grain, on the middle frame it is seen on.

    Raises
    ------
    MediaError : a source cannot be read.
    """
    frame = frames_for(shot, zone, 1)[0]
    bare = zone.match.but(wrap=zone.match.wrap.but(on=False), grain=zone.match.grain.but(on=False))
    key = beside_aim(shot, zone, bare, frame)

    def look() -> LensReading:
        try:
            aim, _ = aim_seen(shot, zone, frame, pictures)
            own = zone_seen_with(shot, zone, frame, pictures, bare)
            sharp = zone_seen_with(shot, zone, frame, pictures, bare.but(lens=LensMatch(on=False)))
        except MatchError as problem:
            return LensReading(frame, problem=str(problem))
        other = np.asarray(aim.picture @ LUMA, np.float32)
        compressed = False
        try:
            noise: float | NDArray[np.float32]
            measured = plate_noise(shot, pictures, parts=1, count=NOISE_FRAMES)
            compressed, noise = measured.is_compressed, rooted(grain_luma(measured.model, [aim.picture])[0], other)
        except ValueError:
            noise = noise_of(aim)
        edges = edges_of(other, aim.mask, noise)
        if not len(edges.widths):
            return LensReading(frame, compressed=compressed)
        luma, inside = np.asarray(own.picture @ LUMA, np.float32), own.mask
        wider = float(wider_by(luma, inside, edges, [SHARP])[0])
        aim_px = float(np.median(edges.widths))
        if wider > 0 and (through := _through_codec(shot, zone, own, pictures, frame)) is not None:
            compressed, wider = False, float(wider_by(*through, edges, [SHARP])[0])
        if np.isnan(wider):
            return LensReading(frame, None, aim_px, None, compressed)
        told = widening(np.asarray(sharp.picture @ LUMA, np.float32), sharp.mask, edges) is not None
        return LensReading(frame, aim_px * float(np.exp(wider)), aim_px, wider if told else None, compressed)

    return known(("sharpness", key, spoken()), look, READINGS_KNOWN)


def _through_codec(
    shot: Shot, zone: Zone, own: Seen, pictures: Pictures, frame: int
) -> tuple[NDArray[np.float32], NDArray[np.bool_]] | None:
    """A zone as the plate's codec leaves it; None where its step is not told, or there is no encoder."""
    quantiser = quantiser_told(shot)
    if quantiser is None:
        return None
    try:
        travel = travel_of(shot, zone, frame, pictures)
        return seen_through(own.picture, own.mask, Plate(travel, (0.0, 0.0), quantiser))
    except MediaError:
        return None
