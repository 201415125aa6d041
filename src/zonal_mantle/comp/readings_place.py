"""What is measured of how a zone hangs: coverage, enlargement, horizon, light."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from ..matte.first import Screen, screen_of
from ..media import MediaError
from ..media.picture import Picture, picture_of
from ..place.coverage import CoverageReading, Opening, opening, read_coverage, rim_of, uncovered
from ..place.horizon import HorizonReading, plate_perspective, read_horizons
from ..place.light import Bearing, apart_deg, disagree, drawn_light, hand_light, sky_light
from ..place.seen import plate_places, zone_seen
from ..place.timing import frames_each, zone_frame
from ..place.transform import corner_trouble
from ..shot import Matte, Shot, Source, Zone
from ..words import say
from .layer import plan_alpha
from .matte_planner import is_cut, matte_plan, on_plate, reads_own, zone_matte_plan, zone_picture
from .pictures import Pictures
from .stack import openness

PlaceFault = Literal["uncovered", "light"]
ENLARGED_ACCEPTED = 1.005
HORIZON_ACCEPTED_PX, HORIZON_ACCEPTED_DEG = 3.0, 0.3
RIM_FRAMES = 5  # that a keyed clip's rim is looked at on
VEIL = 0.1  # of alpha
SURE = 0.35  # of a bearing that a finding is built on


@dataclass(frozen=True)
class PlaceReading:
    """A zone's placement over the shot. `lit` is the painting's light as it hangs, `plate_lit` the plate's; `trouble`
    says what cannot be as it is set up, and what happens instead; `screen` is what it was shot before and still has."""

    coverage: CoverageReading
    horizon: HorizonReading | None = None
    lit: Bearing | None = None
    plate_lit: Bearing | None = None
    trouble: str = ""
    screen: Screen | None = None

    @property
    def runs_out(self) -> bool:
        """Whether it covers less than it should; what has its screen still is not there to cover."""
        return self.screen is None and self.coverage.covered < self.coverage.frames


def opening_of(shot: Shot, zone: Zone, frame: int, pictures: Pictures, scale: float) -> Opening:
    """What of a frame is open for a zone's painting: not covered by what is nearer, and within its matte."""
    return opening(_opened(shot, zone, frame, pictures, scale), scale)


def _opened(shot: Shot, zone: Zone, frame: int, pictures: Pictures, scale: float) -> NDArray[np.float32]:
    opened = openness(shot, zone, frame, pictures, scale)
    cut = None if reads_own(shot, zone) else zone_matte_plan(shot, zone, frame, scale)
    return opened if cut is None else opened * plan_alpha(cut, pictures)


def _own_alpha(shot: Shot, zone: Zone, frame: int, pictures: Pictures) -> NDArray[np.float32] | None:
    """Alpha of what a zone shows in its own pixels, cut by a matte of its own where it has one; None where it shows
    nothing."""
    picture = zone_picture(shot, zone, frame)
    if picture is None:
        return None
    cut = zone_matte_plan(shot, zone, frame) if reads_own(shot, zone) else None
    if cut is None and isinstance(picture, Picture) and picture.alpha == "none":
        return np.broadcast_to(np.float32(1), picture.size[::-1])  # nothing of it needs to be read
    shown = pictures.painting_of(picture) if cut is None else pictures.cut_out(picture, cut)
    return np.asarray(shown[..., 3])


def missing_cover(shot: Shot, zone: Zone, frame: int, pictures: Pictures, scale: float) -> NDArray[np.float32]:
    """Where a painting has run out on a frame, (h, w) float32; see `place.coverage.uncovered`. Nowhere where it still
    has its screen."""
    opened = _opened(shot, zone, frame, pictures, scale)
    if unpulled_screen(shot, zone, pictures) is not None:
        return np.zeros_like(opened, np.float32)
    alpha = _own_alpha(shot, zone, frame, pictures)
    if alpha is None:
        return np.asarray(opened, np.float32)
    return uncovered(zone_seen(shot, zone, frame), zone, alpha, opened, scale)


def read_place(shot: Shot, zone: Zone, openings: dict[int, Opening], pictures: Pictures) -> PlaceReading:
    """All readings of a zone's placement."""
    try:
        rim = _rim_over(shot, zone, openings, pictures)
        lit = painting_light(shot, zone, pictures)
        plate_lit = plate_light(shot, pictures)
    except MediaError:
        return PlaceReading(read_coverage(shot, zone, openings))
    coverage = read_coverage(shot, zone, openings, rim)
    screen = unpulled_screen(shot, zone, pictures)
    return PlaceReading(coverage, read_horizons(shot, zone), lit, plate_lit, trouble_of(shot, zone), screen)


def unpulled_screen(shot: Shot, zone: Zone, pictures: Pictures) -> Screen | None:
    """The screen that a zone's picture was shot before, where nothing pulls it."""
    source = shot.source(zone.source)
    if is_cut(shot, zone) or source.alpha != "none" or zone.placement.way == "dome" or is_around(source):
        return None
    picture = picture_of(source, source.start)
    return pictures.kept(("screen", picture), lambda: screen_of(pictures.painting(source, source.start)))


def _rim_over(
    shot: Shot, zone: Zone, openings: Mapping[int, Opening], pictures: Pictures
) -> Callable[[NDArray], NDArray[np.float32]] | None:
    """What of a painting's rim is there on some frame of a few; None where it is opaque."""
    if shot.source(zone.source).alpha == "none" and not reads_own(shot, zone):
        pictures.painting(shot.source(zone.source), shot.source(zone.source).start)  # it can be read
        return None
    frames = list(openings) or [shot.first]
    few = frames if reads_own(shot, zone) else frames[:1]
    few = [few[int(k)] for k in np.linspace(0, len(few) - 1, min(RIM_FRAMES, len(few)))]
    alphas = [alpha for frame in few if (alpha := _own_alpha(shot, zone, frame, pictures)) is not None]
    if not alphas:
        return None
    most = np.max(alphas, axis=0)
    if reads_own(shot, zone):  # a speck or a veil that a pull left on the rim is nothing that goes on beyond it
        most = np.asarray(cv2.erode(np.where(most > VEIL, most, 0), np.ones((3, 3), np.uint8)), np.float32)
    return rim_of(most)


def painting_light(shot: Shot, zone: Zone, pictures: Pictures, frame: int | None = None) -> Bearing | None:
    """Where a zone's painting has its light as it hangs: flips and turns are counted in."""
    source, at = shot.source(zone.source), shot.first if frame is None else frame
    own = source_light(source, pictures)
    if own is None:
        return None
    if source.sun is None and (reads_own(shot, zone) or unpulled_screen(shot, zone, pictures) is not None):
        return None  # what is keyed is no sky
    placement = zone.placement
    around = is_around(source)
    if placement.way == "dome" and placement.dome.mapping == "lat-long":
        turned = own.bearing_deg * (placement.dome.wide_deg / 360 if around else 1)
        turned = -turned if placement.flip_across else turned
        return Bearing((turned + placement.dome.turn_deg.at(at) + 180) % 360 - 180, own.how, own.sure, own.place)
    if own.place is not None:
        x, y = plate_places(shot, zone, at, np.array([own.place]))[0]
        if np.isfinite([x, y]).all():
            return replace(hand_light((float(x), float(y)), shot.size, False), how=own.how, sure=own.sure)
    flipped = -own.bearing_deg if placement.flip_across else own.bearing_deg
    return Bearing(flipped, own.how, own.sure)


def source_light(source: Source, pictures: Pictures) -> Bearing | None:
    """The light of a painting by itself: where a person put it, else the disc or the gradient of a whole sky."""
    around = is_around(source)
    if source.sun is not None:
        return hand_light(source.sun, (source.width, source.height), around)
    if source.alpha != "none":
        return None  # a cut-out is no sky: its bright side tells of its own colours
    key = ("light", picture_of(source, source.start))
    return pictures.kept(key, lambda: sky_light(pictures.painting(source, source.start), around))


def is_around(source: Source) -> bool:
    """Whether a source has the shape of a lat-long picture."""
    return source.width == 2 * source.height


def plate_light(shot: Shot, pictures: Pictures) -> Bearing | None:
    """Where the plate's light comes from: as drawn, else from the sky that is being removed."""
    if shot.light is not None:
        seen = plate_perspective(shot, shot.light.frame)
        return drawn_light(shot.light, shot.size, seen.horizon, seen.focal_px)
    plate, matte = shot.plate_source, sky_matte(shot)
    if plate is None or matte is None:
        return None
    frame = shot.frames[len(shot.frames) // 2]

    cut = matte_plan(shot, matte, frame, 0.25)

    def look() -> Bearing | None:
        gone = 1 - plan_alpha(cut, pictures)
        return sky_light(pictures.plate(plate, frame, 0.25), mask=np.where(gone > 0.98, gone, 0))

    return pictures.kept(("plate light", cut.digest), look)


def sky_matte(shot: Shot) -> Matte | None:
    """The matte that takes the plate's old sky away: that of its nearest zone that has one on."""
    zone = next((z for z in shot.near_to_far() if shot.holds_plate(z) and z.matte.on), None)
    matte = shot.matte_of(zone) if zone is not None else None
    return on_plate(matte) if matte is not None else None


def trouble_of(shot: Shot, zone: Zone) -> str:
    """What of a placement cannot be as it is set up, and what happens instead; or nothing."""
    source, placement = shot.source(zone.source), zone.placement
    if placement.way == "corner pin":
        pins = np.array([[pin.x.at(shot.first), pin.y.at(shot.first)] for pin in placement.pins])
        if why := corner_trouble(pins):
            return say(
                "{name} cannot be pinned: {why}. It is shown as a small square; drag the corners apart.",
                name=zone.name,
                why=why,
            )
    lock = shot.lock(placement.rides) if placement.rides is not None else None
    if placement.way == "dome":
        if placement.dome.mapping == "lat-long" and placement.dome.wide_deg == 360 and not is_around(source):
            high = 360 * source.height / source.width
            return say(
                "{name} is {width}×{height}; a lat-long picture of all directions is 2:1. It is taken to reach "
                "{high:.0f}° from top to bottom. Say how wide it sees if it is a part.",
                name=source.name,
                width=source.width,
                height=source.height,
                high=high,
            )
        if lock is None or not lock.knows_camera:
            return say(
                "A dome hangs by the lens of a pan or camera lock, or of marks that turn like a camera. "
                "{name} is shown through a lens of 40°.",
                name=zone.name,
            )
    if placement.way == "card" and (lock is None or lock.kind != "camera"):
        return say("A card in metres hangs by a camera lock. {name} moves like its lock's plane.", name=zone.name)
    if source.kind != "still":
        shown = [zone_frame(shot, zone, frame) for frame in (shot.first, shot.last)]
        count = source.end - source.start + 1
        if None in shown and zone.timing.after != "clear":
            return say("{name} is not seen on all frames.", name=source.name)
        lasts = count / max(frames_each(shot, zone) * abs(zone.timing.speed.at(shot.first)), 1e-6)
        if lasts < len(shot.frames) and zone.timing.after in ("hold", "clear") and not zone.timing.speed.keys:
            after = say("its last frame is held") if zone.timing.after == "hold" else say("nothing is shown")
            return say(
                "{name} has {count} frames, the shot {total}: before and after, {after}.",
                name=source.name,
                count=count,
                total=len(shot.frames),
                after=after,
            )
    return ""


def place_words(zone: Zone, place: PlaceReading) -> list[tuple[int, str, PlaceFault | None]]:
    """What is outside of the acceptable: frame, sentence, and what can be shown or done."""
    found: list[tuple[int, str, PlaceFault | None]] = []
    cover = place.coverage
    if place.runs_out:
        words = say(
            "{name} runs out on {frames} of {frames_2} frames.",
            name=zone.name,
            frames=cover.frames - cover.covered,
            frames_2=cover.frames,
        )
        found.append((cover.worst_frame, words, "uncovered"))
    if cover.enlarged > ENLARGED_ACCEPTED:
        words = say("{name} is enlarged to {enlarged:.0%} at its worst pixel.", name=zone.name, enlarged=cover.enlarged)
        found.append((cover.enlarged_frame, words, None))
    level = place.horizon
    if level is not None:
        if abs(level.off_px) > HORIZON_ACCEPTED_PX or abs(level.off_deg) > HORIZON_ACCEPTED_DEG:
            words = say(
                "{name}'s horizon is off by {off_px:+.1f} px and {off_deg:+.2f}°.",
                name=zone.name,
                off_px=level.off_px,
                off_deg=level.off_deg,
            )
            found.append((level.frame, words, None))
        if level.odd:
            found.append((level.frame, level.odd, None))
    lit, plate = place.lit, place.plate_lit
    if lit is not None and plate is not None and min(lit.sure, plate.sure) >= SURE and disagree(plate, lit):
        words = say(
            "{name} is lit from the {side}, the plate from the {side_2}.",
            name=zone.name,
            side=lit.side,
            side_2=plate.side,
        )
        found.append((cover.worst_frame, words, "light"))
    if place.trouble:
        found.append((cover.worst_frame, place.trouble, None))
    return found


def lights_apart(place: PlaceReading) -> float | None:
    """Angle between the plate's light and the painting's, degrees."""
    return apart_deg(place.plate_lit, place.lit) if place.lit is not None and place.plate_lit is not None else None
