"""Fits: each measures one part of a match on the plate and sets it, with its uncertainty, or says why it cannot."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ..match.air import transmittances
from ..match.air_fit import AirFit, AirPart, fit_air, guess_air, without_noise
from ..match.errors import MatchError
from ..match.kindred import calmed, fit_kindred
from ..match.lens import blur_circle_px
from ..match.tone_fit import ToneFit, comparable, fit_palette, fit_tone
from ..match.wrap_fit import fit_wrap
from ..shot import AirMatch, Cdl, Keyed, LensMatch, Match, Shot, ToneMatch, Zone
from ..shot.match import Palette, Part, Slope
from ..words import say
from .aim import Seen, aim_seen, area_mask, blocks_of, frames_for, kept_mask, within_borders, zone_seen_with
from .lens_fit import fit_lens
from .matte_planner import matte_plan, on_plate
from .own_grain import missing, own_grain
from .pictures import Pictures
from .plate_grain import plate_noise

Array = NDArray[np.float32]
Progress = Callable[[float, str], None]
TONE_FRAMES = 3
FIT_ORDER: tuple[Part, ...] = ("air", "tone", "lens", "wrap", "grain")  # what the air takes is not the tone's
LEAST_SHARE = 0.25  # of its own light that an aim must show to be seen without its air
WRAP_SURE, LEAST_WRAP = 3.0, 0.05  # standard deviations, share of the sky's light
UNSURE_STOPS = 0.3
LEAST_TOLD = 0.03  # stops, share
LEAST_LAID = 0.1 / 255  # coded: weaker grain is none


@dataclass(frozen=True)
class Fitted:
    """What a fit set: the new shot, the part, words for the artist, and the numbers with their uncertainties."""

    shot: Shot
    part: Part
    words: str
    values: dict[str, float] = field(default_factory=dict)


@dataclass(frozen=True)
class FittedAll:
    """What *Fit all* set, and the reasons why the rest could not be measured."""

    shot: Shot
    fitted: tuple[Fitted, ...]
    refused: dict[Part, str]


def _quiet(share: float, words: str) -> None:
    pass


def fit_part(
    shot: Shot, zone_id: str, part: Part, pictures: Pictures, progress: Progress = _quiet, whole_palette: bool = False
) -> Fitted:
    """Measures one part of a zone's match on the plate and sets it.

    Parameters
    ----------
    whole_palette : the tone takes on the palette of the aim as a whole, not only its lightness, tint and saturation.

    Raises
    ------
    MatchError : it cannot be measured; the words say why. MediaError : a source cannot be read.
    """
    zone = shot.zone(zone_id)
    if shot.plate_source is None:
        raise MatchError(say("The shot has no plate to compare with."))
    if shot.holds_plate(zone) and part in ("tone", "lens", "grain"):
        raise MatchError(
            say(
                "{name} is the plate itself: its {part} is what the others are fitted to.",
                name=zone.name,
                part=say(part),
            )
        )
    if not any(zone.is_seen(frame) for frame in shot.work_frames):
        raise MatchError(say("{name} is switched off or not seen on any frame of the work range.", name=zone.name))
    progress(0.0, say("Measuring {part}", part=say(part)))
    try:
        if part == "tone":
            return _tone(shot, zone, pictures, whole_palette)
        if part == "air":
            return _air(shot, zone, pictures)
        if part == "lens":
            return _lens(shot, zone, pictures, progress)
        return _wrap(shot, zone, pictures) if part == "wrap" else _grain(shot, zone, pictures, progress)
    except ValueError as problem:
        raise MatchError(f"{zone.name}: {problem}") from problem


def fit_all(
    shot: Shot, pictures: Pictures, zone_ids: Sequence[str] | None = None, progress: Progress = _quiet
) -> FittedAll:
    """Fits all parts for some zones, or for all that are not plate: the air first, since a tone is compared without it.
    What cannot be measured stays."""
    zones = [z.id for z in shot.near_to_far() if not shot.holds_plate(z)] if zone_ids is None else list(zone_ids)
    fitted: list[Fitted] = []
    refused: dict[Part, str] = {}
    jobs: list[tuple[str, Part]] = [(id, part) for id in zones for part in FIT_ORDER]
    for done, (id, part) in enumerate(jobs):
        if part == "air" and any(each.part == "air" for each in fitted):
            continue  # one air for all of the shot
        progress(done / max(len(jobs), 1), say("Fitting {part} of {name}", part=say(part), name=shot.zone(id).name))
        try:
            now = fit_part(shot, id, part, pictures)
            if now.values.get("is_guess"):
                raise MatchError(
                    say("The air could only be guessed, and was left: give two areas of the aim their distances.")
                )
        except MatchError as problem:
            if str(problem) not in refused.get(part, ""):
                refused[part] = f"{refused[part]} {problem}" if part in refused else str(problem)
            continue
        shot = now.shot
        fitted.append(now)
    return FittedAll(shot, tuple(fitted), refused)


def _set(shot: Shot, zone: Zone, **parts: object) -> Shot:
    return shot.with_zone(zone.but(match=zone.match.but(on=True, **parts)))


def _keyed(value: float) -> Keyed:
    return Keyed(constant=float(value))


# --- tone ---
def _tone(shot: Shot, zone: Zone, pictures: Pictures, whole: bool) -> Fitted:
    own, aim = [], []
    air_on = zone.match.on and zone.match.air.on and zone.distance_m is not None
    by_hand = zone.match.tone if zone.match.on and zone.match.tone.on else ToneMatch()
    bare = Match(
        tone=by_hand.but(palette=Palette(), cdl=Cdl(), across=Slope()), air=AirMatch(on=False), lens=LensMatch(on=False)
    )
    for frame in frames_for(shot, zone, TONE_FRAMES):
        seen, distance = aim_seen(shot, zone, frame, pictures)
        aim.append(_without_air(shot, seen, distance) if air_on else seen)
        own.append(zone_seen_with(shot, zone, frame, pictures, bare))
    own_blocks, aim_blocks = (blocks_of([seen._replace(picture=calmed(*seen)) for seen in part]) for part in (own, aim))
    comparable(own_blocks, aim_blocks)
    by_kind = bool(zone.match.aim.areas) and not whole  # a palette is taken over whatever both show
    fit = fit_kindred(own, aim) if by_kind else fit_tone(own_blocks, aim_blocks)
    matrix = fit_palette(own_blocks, aim_blocks) if whole else fit.matrix
    changes = not np.allclose(matrix, ToneMatch().palette.matrix, atol=1e-9)
    if not changes:
        raise ValueError(
            say(
                "nothing of its tone stands out from how things of one scene differ. Draw an aim of the zone's "
                "own kind."
            )
        )
    tone = by_hand.but(on=True, palette=Palette(matrix=matrix, strength=_keyed(1.0)))
    values = {
        "moved_stops": fit.moved_stops, "moved_stops_spread": fit.spread[0], "contrast": fit.contrast,
        "contrast_spread": fit.spread[1], "saturation": fit.saturation, "cooler_stops": fit.cooler_stops,
        "cooler_stops_spread": fit.white_spread, "greener_stops": fit.greener_stops,
    }  # fmt: skip
    words = say("the whole palette of its aim") if whole else _tone_words(fit)
    return Fitted(_set(shot, zone, tone=tone), "tone", words, {} if whole else values)


def _tone_words(fit: ToneFit) -> str:
    """What a fit of a tone moved, in as few words as it moved things."""
    parts = [say("{moved:+.2f} ± {spread:.2f} stops", moved=fit.moved_stops, spread=fit.spread[0])]
    white = fit.cooler_stops
    if abs(white) >= LEAST_TOLD:
        by, spread = abs(white), fit.white_spread
        cooler = say("{by:.2f} ± {spread:.2f} stops cooler", by=by, spread=spread)
        parts.append(cooler if white > 0 else say("{by:.2f} ± {spread:.2f} stops warmer", by=by, spread=spread))
    if abs(green := fit.greener_stops) >= LEAST_TOLD:
        greener = say("{by:.2f} stops greener", by=abs(green))
        parts.append(greener if green > 0 else say("{by:.2f} stops more magenta", by=abs(green)))
    if abs(fit.contrast - 1) >= LEAST_TOLD:
        parts.append(say("contrast × {contrast:.2f}", contrast=fit.contrast))
    if abs(fit.saturation - 1) >= LEAST_TOLD:
        parts.append(say("saturation × {saturation:.2f}", saturation=fit.saturation))
    words = ", ".join(parts)
    if fit.spread[0] > UNSURE_STOPS:
        words += say("; uncertain: unlike its aim")
    return words


def _without_air(shot: Shot, seen: Seen, distance: float | None) -> Seen:
    """The aim as it would be seen without the air before it; as it is where too little of it would be left."""
    t = np.array(transmittances(distance, shot.air.visibility_m, shot.air.exponent), np.float32)
    if distance is None or t.min() < LEAST_SHARE:
        return seen
    light = np.array(shot.air.airlight, np.float32)
    return Seen(np.maximum((seen.picture - light * (1 - t)) / t, 0), seen.mask)


# --- air ---
def air_parts(shot: Shot, zone: Zone, frame: int, pictures: Pictures) -> list[AirPart]:
    """The parts of the plate whose distances are known: areas of the aim, and zones of the plate with a matte."""
    assert shot.plate_source is not None
    picture = pictures.plate(shot.plate_source, frame)
    calm = without_noise(picture)
    parts = []
    for area in zone.match.aim.areas:
        if area.distance_m is not None:
            mask = area_mask(shot, area, zone.match.aim.rides, frame)
            parts.append(AirPart(calm[mask], area.distance_m))
    if not parts:
        for other in shot.zones:
            if shot.holds_plate(other) and other.distance_m is not None and other.matte.on and other.is_seen(frame):
                parts.append(AirPart(calm[kept_mask(shot, other, frame, pictures)], other.distance_m))
    return parts


def _air(shot: Shot, zone: Zone, pictures: Pictures) -> Fitted:
    frame = frames_for(shot, zone, 1)[0]
    parts = air_parts(shot, zone, frame, pictures)
    if len(parts) >= 2:
        fit = fit_air(parts)
    else:
        assert shot.plate_source is not None
        mask = None
        if zone.match.aim.areas:
            mask = area_mask(shot, zone.match.aim.areas[0], zone.match.aim.rides, frame)
        distance = parts[0].distance_m if parts else None
        picture = pictures.plate(shot.plate_source, frame)
        box = within_borders(picture)
        fit = guess_air(picture[box], None if mask is None else mask[box], distance)
    if not np.isfinite(fit.visibility_m):  # no distance is known: only the airlight could be guessed
        visibility = shot.air.visibility_m
        fit = fit._replace(visibility_m=visibility, interval_m=(visibility, visibility))
        words = say("a guess of the airlight; no distance is known, so the visibility is as it was")
    else:
        words = _air_words(fit)
    air = shot.air.but(
        visibility_m=float(np.clip(fit.visibility_m, 10, 1e6)), airlight=fit.airlight,
        exponent=float(np.clip(fit.exponent, -1, 4)),
    )  # fmt: skip
    values = {
        "visibility_m": fit.visibility_m, "visibility_low_m": fit.interval_m[0], "visibility_high_m": fit.interval_m[1],
        "exponent": fit.exponent, "is_guess": float(fit.is_guess),
        **{f"airlight_{c}": v for c, v in zip("rgb", fit.airlight)},
        **{f"airlight_{c}_spread": v for c, v in zip("rgb", fit.airlight_spread)},
    }  # fmt: skip
    for number, (distance_m, share) in enumerate(fit.points, 1):
        values |= {f"distance_{number}_m": distance_m, f"share_{number}": share}
    new = shot.but(air=air)
    if not shot.holds_plate(zone):
        new = _set(new, zone, air=zone.match.air.but(on=True))
    return Fitted(new, "air", words, values)


def _air_words(fit: AirFit) -> str:
    low, high = fit.interval_m
    if fit.is_guess:
        return say(
            "a guess: visibility {visibility_m:.1f} km. Draw two areas of the aim and give their distances "
            "to measure it",
            visibility_m=fit.visibility_m / 1000,
        )
    return say(
        "visibility {visibility_m:.1f} km, between {low:.1f} and {high:.1f} km",
        visibility_m=fit.visibility_m / 1000,
        low=low / 1000,
        high=high / 1000,
    )


# --- lens ---
def _lens(shot: Shot, zone: Zone, pictures: Pictures, progress: Progress) -> Fitted:
    lens, words, values = fit_lens(shot, zone, pictures, progress)
    return Fitted(_set(shot, zone, lens=lens), "lens", words, values)


# --- wrap ---
def _wrap(shot: Shot, zone: Zone, pictures: Pictures) -> Fitted:
    plate = (
        zone
        if shot.holds_plate(zone)
        else next((each for each in shot.near_to_far() if shot.holds_plate(each) and each.matte.on), zone)
    )
    matte = shot.matte_of(plate)
    if matte is None or not plate.matte.on or not shot.holds_plate(plate):
        raise ValueError(say("No matte of the plate is on: without it no rim before the old sky is known."))
    assert shot.plate_source is not None
    source = shot.plate_source
    frames = frames_for(shot, zone, 3)
    alphas = [np.clip(pictures.made(matte_plan(shot, on_plate(matte), frame)).alpha, 0, 1) for frame in frames]
    seen = [pictures.plate(source, frame) for frame in frames]
    shown = [within_borders(picture) for picture in seen]
    fit = fit_wrap([each[box] for each, box in zip(seen, shown)], [each[box] for each, box in zip(alphas, shown)])
    spills = fit.amount > WRAP_SURE * fit.spread and fit.amount > LEAST_WRAP
    wrap = zone.match.wrap.but(on=spills, width_px=_keyed(fit.width_px), amount=_keyed(fit.amount))
    words = say(
        "{amount:.0%} ± {spread:.0%} of the sky's light over {width_px:.0f} px",
        amount=fit.amount,
        spread=fit.spread,
        width_px=fit.width_px,
    )
    if not spills:
        words = say(
            "no spill of the old sky is seen on the plate's rims ({amount:.0%} ± {spread:.0%})",
            amount=fit.amount,
            spread=fit.spread,
        )
    values = {"width_px": fit.width_px, "amount": fit.amount, "amount_spread": fit.spread, "lines": float(fit.lines)}
    return Fitted(_set(shot, zone, wrap=wrap), "wrap", words, values)


# --- grain ---
def _grain(shot: Shot, zone: Zone, pictures: Pictures, progress: Progress) -> Fitted:
    noise = plate_noise(shot, pictures, progress)
    own = own_grain(shot, zone, pictures)
    model = noise.model if own is None else missing(noise.model, own)
    grain = zone.match.grain.but(on=True, strength=_keyed(1.0), size=_keyed(1.0), model=model, clip=None)
    middle = [float(np.interp(0.5, model.levels, [row[c] for row in noise.model.deviation])) for c in range(3)]
    words = ", ".join(f"{v * 255:.1f}" for v in middle) + say(
        " of 255 at middle grey, from {tiles} areas", tiles=noise.tiles
    )
    if noise.by_flats:
        words += say(
            "; the plate's codec carries grain from frame to frame: it is told by what is flat, ± {by:.0%}",
            by=noise.spread,
        )
    elif noise.is_compressed:
        words += say("; the plate was compressed: what is left of its grain is measured")
    if own is not None:
        words += say("; less what the clip has of itself, {own:.1f}", own=float(np.mean(own.middle)) * 255)
        if np.mean(model.middle) < LEAST_LAID:
            words += say(": nothing is missing")
    values = {"tiles": float(noise.tiles), "spread": noise.spread, "blocky": noise.blocky}
    values |= {f"deviation_{c}": v for c, v in zip("rgb", middle)}
    return Fitted(_set(shot, zone, grain=grain), "grain", words, values)


def optics_focus_px(shot: Shot, distance_m: float | None) -> float:
    """Radius in plate pixels by the shot's optics, for the panel."""
    optics = shot.optics
    return blur_circle_px(distance_m, optics.focal_mm, optics.stop, optics.focus_m, optics.sensor_mm, shot.size[0])
