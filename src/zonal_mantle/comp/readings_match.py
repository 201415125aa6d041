"""How far a zone is from its aim, as it is seen in the picture."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ..match.compare import compare
from ..match.edge_mtf import sharpness
from ..match.errors import MatchError
from ..match.sharpness import LUMA
from ..match.tone_off import ToneOff, tone_off
from ..shot import Match, Shot, Zone
from ..words import say, spoken
from .aim import aim_seen, blocks_of, frames_for, zone_seen_with
from .digest import digest
from .pictures import READINGS_KNOWN, Pictures, known
from .planner import plan

TONE_OFF, TONE_SURE = 4.0, 1.5  # ΔE, and deviations, by which a tone must seem to be off to be a finding


@dataclass(frozen=True)
class MatchReading:
    """A zone against its aim on a frame: brighter by so many stops at the 2nd, 25th, 50th, 75th and 98th percentile;
    CIEDE2000 in shadows, middle and lights, and their mean colours, scene-linear; luma at those percentiles;
    where the response of their edges falls to a half (cycles a pixel, and its standard error; see `edge_mtf`); or why
    they cannot be compared. These compare what both show, which need not be alike. `tone`: by how much the tone seems
    to be off whatever both show, ΔE and its standard deviation, or `untold`, why that cannot be told. `drawn`: the aim
    was drawn for it."""

    frame: int
    stops: tuple[float, ...] = ()
    delta_e: tuple[float, float, float] = (0.0, 0.0, 0.0)
    zone_colours: tuple[tuple[float, ...], ...] = ()
    aim_colours: tuple[tuple[float, ...], ...] = ()
    zone_light: tuple[float, ...] = ()
    aim_light: tuple[float, ...] = ()
    zone_mtf50: tuple[float, float] | None = None
    aim_mtf50: tuple[float, float] | None = None
    tone: ToneOff | None = None
    untold: str = ""
    problem: str = ""
    drawn: bool = False

    @property
    def is_off(self) -> bool:
        """Whether the tone is seen to be off an aim that was drawn."""
        return self.drawn and self.tone is not None and self.tone.delta_e > max(TONE_OFF, TONE_SURE * self.tone.spread)


def read_match(shot: Shot, zone: Zone, pictures: Pictures) -> MatchReading:
    """A zone compared with its aim, with all of its match but grain and wrap, on the middle frame it is seen on."""
    frame = frames_for(shot, zone, 1)[0]
    drawn = bool(zone.match.aim.areas)
    bare = zone.match.but(wrap=zone.match.wrap.but(on=False), grain=zone.match.grain.but(on=False))
    key = beside_aim(shot, zone, bare, frame)

    def look() -> MatchReading:
        try:
            aim, _ = aim_seen(shot, zone, frame, pictures)
            seen = zone_seen_with(shot, zone, frame, pictures, bare)
            away = [blocks_of([each]) for each in (seen, aim)]
            if not all(away):
                raise MatchError(say("The aim is too small to compare with."))
            found = compare(np.concatenate(away[0]), np.concatenate(away[1]))
        except MatchError as problem:
            return MatchReading(frame, problem=str(problem), drawn=drawn)
        light = (found.zone_light, found.aim_light)
        own_mtf50, other_mtf50 = (_mtf50(each.picture @ LUMA, each.mask) for each in (seen, aim))
        tone, untold = None, ""
        try:
            tone = tone_off([seen], [aim])
        except ValueError as problem:
            untold = str(problem)
        return MatchReading(
            frame, found.stops, found.delta_e, found.zone, found.aim, *light, own_mtf50, other_mtf50, tone, untold,
            drawn=drawn,
        )  # fmt: skip

    return replace(known(("match", key, spoken()), look, READINGS_KNOWN), drawn=drawn)


def beside_aim(shot: Shot, zone: Zone, match: Match, frame: int) -> str:
    """A digest of all that a zone under a match and its aim look like on a frame."""
    planned = plan(shot, frame, 1.0, [zone.but(match=match)])
    mattes = tuple(str(matte) for matte in shot.mattes)
    return digest((planned.digest, str(zone.match.aim), str(shot.plate_source), str(shot.locks), mattes, frame))


def _mtf50(luma: NDArray[np.float32], mask: NDArray[np.bool_]) -> tuple[float, float] | None:
    try:
        found = sharpness(luma, mask)
    except MatchError:
        return None
    return found.mtf50, found.error
