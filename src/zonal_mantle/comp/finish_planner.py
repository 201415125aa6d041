"""From a shot's finish to the plan of how a frame is finished."""

from __future__ import annotations

import datetime
from dataclasses import replace
from typing import Any, Literal

import numpy as np

from ..finish.frame import bar_box
from ..finish.glow import GlowNumbers
from ..finish.local import light_matrix
from ..finish.look import tone_of_look
from ..finish.vignette import VignetteNumbers
from ..match.grade import tone_at
from ..match.tone import Tone
from ..matte.shapes import standing
from ..media.stamps import used_file
from ..paths import on_disk
from ..place.transform import reference_to_frame
from ..shot import Finish, Glow, LocalLight, Shot, Vignette
from ..shot.finish import LEAST_PX, MOST_PX
from ..shot.settled import settled
from .finish_plan import Across, FinishPlan, Leaving, LightPlan, LutPlan
from .match_planner import film_of
from .matte_planner import proxy_size
from .plan import FramePlan
from .planner import plan


def finished_plan(shot: Shot, frame: int, scale: float = 1.0, leaves: bool = True) -> FramePlan:
    """The plan of a frame with its finish.

    Parameters
    ----------
    leaves : with its reframing, size, bars and words; else it keeps the plate's own frame.
    """
    planned = plan(shot, frame, scale)
    if not shot.finish.on:
        return planned
    finish = finish_of(shot, planned, frame, scale)
    if leaves:
        finish = replace(finish, leaving=leaving_of(shot, frame, scale))
    return planned if finish == FinishPlan() else replace(planned, finish=finish)


def finish_of(shot: Shot, planned: FramePlan, frame: int, scale: float) -> FinishPlan:
    """What is done to the picture within the plate's own frame."""
    finish = shot.finish
    tone = tone_at(settled(finish.tone, frame)) if finish.tone.on else Tone()
    stops = finish.tone.across.stops.at(frame) if finish.tone.on else 0.0
    across = Across(finish.tone.across.a, finish.tone.across.b, stops) if stops else None
    lut = None
    strength = _unit(finish.lut.strength.at(frame))
    if finish.lut.on and finish.lut.path and strength > 0:
        lut = LutPlan(used_file(on_disk(finish.lut.path)), finish.lut.encoding, strength)
    glow, glow_share = _acting(finish, frame, "glow")
    vignette, dark_share = _acting(finish, frame, "vignette")
    grain, grain_share = _acting(finish, frame, "grain")
    film = None if grain is None else film_of(shot, grain, frame, grain_share)
    lights = tuple(each for each in (_light(shot, planned, light, frame) for light in finish.lights) if each)
    return FinishPlan(
        tone=Tone((*tone.stages, *tone_of_look(finish.look, frame).stages)),
        across=across,
        lut=lut,
        glow=None if glow is None else _glow_numbers(glow, frame, scale, glow_share),
        vignette=None if vignette is None else _vignette_numbers(shot, vignette, frame, dark_share),
        lights=lights,
        film=film,
    )


def _acting(finish: Finish, frame: int, part: Literal["glow", "vignette", "grain"]) -> tuple[Any, float]:
    """A part of the finish and its share: its own where it is on, else the look's by the look's strength, else None."""
    own, use = getattr(finish, part), finish.look
    if own.on:
        return own, 1.0
    share = _unit(use.strength.at(frame)) if use is not None and use.on else 0.0
    theirs = getattr(use.look, part) if use is not None and share > 0 else None
    return (theirs, share) if theirs is not None and theirs.on else (None, 0.0)


def _glow_numbers(glow: Glow, frame: int, scale: float, share: float) -> GlowNumbers | None:
    amount, halation = _unit(glow.amount.at(frame)) * share, _unit(glow.halation.at(frame)) * share
    red, green, blue = (_unit(value) * halation for value in glow.colour)
    if amount <= 0 and halation <= 0:
        return None
    radius, own = max(glow.radius_px.at(frame), 0.0) * scale, max(glow.halation_px.at(frame), 0.0) * scale
    return GlowNumbers(max(glow.level.at(frame), 0.0), (amount, amount, amount), radius, (red, green, blue), own)


def _vignette_numbers(shot: Shot, vignette: Vignette, frame: int, share: float) -> VignetteNumbers | None:
    stops = vignette.stops.at(frame) * share
    if stops == 0:
        return None
    start = min(max(vignette.start.at(frame), 0.0), 0.99)
    soft = min(max(vignette.softness.at(frame), 0.01), 1.0)
    aspect = shot.size[0] * plate_aspect(shot) / shot.size[1]
    return VignetteNumbers(vignette.centre, aspect, vignette.shape == "frame", stops, start, start + (1 - start) * soft)


def _light(shot: Shot, planned: FramePlan, light: LocalLight, frame: int) -> LightPlan | None:
    stops, kelvin = light.exposure_stops.at(frame), max(light.temperature_k.at(frame), 1000.0)
    matrix = light_matrix(stops, kelvin, max(light.saturation.at(frame), 0.0))
    if not light.on or not light.shape.on or np.allclose(matrix, np.eye(3), atol=1e-9):
        return None
    shape = standing(light.shape, frame, lambda each, at: reference_to_frame(shot, each, at))
    return LightPlan(shape, tuple(matrix.ravel().tolist()), _weights(shot, planned, light))


def _weights(shot: Shot, planned: FramePlan, light: LocalLight) -> tuple[float, ...] | None:
    """Which layers a light falls on: those of zones behind a zone, or of that zone and those before it."""
    if light.reach == "all" or light.zone is None:
        return None
    order = [zone.id for zone in shot.near_to_far()]
    if light.zone not in order:
        return None
    at = order.index(light.zone)
    behind = light.reach == "behind"
    return tuple(
        float((order.index(layer.zone) > at) == behind) if layer.zone in order else 1.0 for layer in planned.layers
    )


def plate_aspect(shot: Shot) -> float:
    """The width of a plate's pixel against its height."""
    return shot.plate_source.pixel_aspect if shot.plate_source is not None else 1.0


def crop_of(shot: Shot) -> tuple[float, float, float, float]:
    """What is left of the plate by the crop, in plate pixels: held within the plate, and all of it where the crop lies
    outside."""
    width, height = shot.size
    crop = shot.finish.output.crop
    if crop is None or not shot.finish.on:
        return (0.0, 0.0, float(width), float(height))
    x0, y0, x1, y1 = max(crop[0], 0.0), max(crop[1], 0.0), min(crop[2], float(width)), min(crop[3], float(height))
    if x1 - x0 < LEAST_PX or y1 - y0 < LEAST_PX:
        return (0.0, 0.0, float(width), float(height))
    return (x0, y0, x1, y1)


def window_of(shot: Shot, frame: int) -> tuple[float, float, float, float]:
    """What is seen of the plate's frame after crop and reframing, in plate pixels; it may reach beyond."""
    x0, y0, x1, y1 = crop_of(shot)
    reframe = shot.finish.reframe
    if not (reframe.on and shot.finish.on):
        return (x0, y0, x1, y1)
    size = min(max(reframe.size.at(frame), 0.05), 50.0)
    cx, cy = (x0 + x1) / 2 + reframe.x.at(frame), (y0 + y1) / 2 + reframe.y.at(frame)
    wide, tall = (x1 - x0) / size, (y1 - y0) / size
    return (cx - wide / 2, cy - tall / 2, cx + wide / 2, cy + tall / 2)


def output_size(shot: Shot) -> tuple[int, int]:
    """Width and height of the frame as it leaves, in its own pixels."""
    x0, y0, x1, y1 = crop_of(shot)
    output = shot.finish.output
    if not shot.finish.on:
        return shot.size
    own = output.pixel_aspect or plate_aspect(shot)
    ratio = (x1 - x0) * plate_aspect(shot) / own / (y1 - y0)  # of pixels
    if output.width is None and output.height is None:
        return max(round((y1 - y0) * ratio), 1), max(round(y1 - y0), 1)
    wide = output.width or round((output.height or 1) * ratio)
    tall = output.height or round(wide / ratio)
    return min(max(wide, LEAST_PX), MOST_PX), min(max(tall, LEAST_PX), MOST_PX)


def leaving_of(shot: Shot, frame: int, scale: float) -> Leaving | None:
    """The frame as it leaves; None where it leaves as it is."""
    output, burn_in = shot.finish.output, shot.finish.burn_in
    window, whole = window_of(shot, frame), output_size(shot)
    own = output.pixel_aspect or plate_aspect(shot)
    x0, y0, x1, y1 = crop_of(shot)
    seen = (x1 - x0) * plate_aspect(shot) / own / (y1 - y0)
    wide, tall = whole
    inner = (wide, min(tall, max(1, round(wide / seen)))) if wide / tall < seen else (
        min(wide, max(1, round(tall * seen))), tall
    )  # fmt: skip
    if abs(wide / tall / seen - 1) < 1.5 / min(wide, tall):
        inner = whole  # the same shape but for rounding
    bars = bar_box(whole, own, output.aspect) if output.bars and output.aspect is not None else None
    words = None
    if burn_in.on:
        day = datetime.date.today().isoformat() if burn_in.date else ""
        right = "   ".join(part for part in (burn_in.version, day) if part)
        words = (shot.name if burn_in.shot else "", str(frame) if burn_in.frame else "", right)
        words = words if any(words) else None
    unmoved = window == (0.0, 0.0, float(shot.size[0]), float(shot.size[1])) and whole == shot.size and inner == whole
    if unmoved and bars is None and words is None:
        return None
    size = proxy_size(shot.size, scale)
    fx, fy = size[0] / shot.size[0], size[1] / shot.size[1]
    if scale == 1:
        placed = window
    else:
        placed = (window[0] * fx, window[1] * fy, window[2] * fx, window[3] * fy)
        inner, whole = (proxy_size(each, scale) for each in (inner, whole))
        bars = bar_box(whole, own, output.aspect) if bars is not None and output.aspect is not None else None
    return Leaving(placed, inner, whole, bars, words)


def _unit(value: float) -> float:
    return min(max(value, 0.0), 1.0)
