"""The fit of a zone's lens: focus, softness or sharpness against its aim, and the plate's shutter."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from ..match.blur_told import Told, blur_by_edges, is_unsure, motion_of, tried_blurs
from ..match.coded_blur import AimTold, CodedBlur, Plate, blur_through_codec
from ..match.edge_width import AimEdges, edge_widths, edges_of, radius_by_edges, rooted, sharpening_by_edges
from ..match.noise import Noise
from ..match.sharpness import (
    LEAST_TILES,
    LUMA,
    SMALL_TILE,
    TILE,
    ZEROS_FROM_PX,
    Colour,
    power_spectrum,
    spectra_with,
    tiles_of,
)
from ..media import MediaError
from ..shot import Keyed, LensMatch, Shot, WrapMatch, Zone
from ..words import say
from .aim import Seen, aim_seen, frames_for, zone_seen_with
from .glass_fit import fit_glass
from .pictures import Pictures
from .plate_codec import quantiser_told, travel_of
from .plate_grain import grain_luma, plate_noise

Array = NDArray[np.float32]
Progress = Callable[[float, str], None]
LENS_FRAMES = 3
MOVES_PX = 2.0  # a frame: with less motion a shutter leaves no trace
LEAST_MOTION_PX = 0.7  # that is seen
SURE_NARROWER = 1.5  # beyond what halves of photographs differ by, as measured
LEAST_SHARPEN, LEAST_RADIUS_PX, MOST_BY_EDGES_PX = 0.06, 0.25, 2.1
WHITE_NOISE_GAIN = 6.0  # Immerkær 1996: energy of his Laplacian, square root of 36


def _keyed(value: float) -> Keyed:
    return Keyed(constant=float(value))


def fit_lens(shot: Shot, zone: Zone, pictures: Pictures, progress: Progress) -> tuple[LensMatch, str, dict[str, float]]:
    """A zone's lens as soft or sharp as its aim, and the shutter by how the plate's blur follows its motion.

    Returns
    -------
    The lens, words for the artist, and what was measured with its uncertainties.

    Raises
    ------
    ValueError, MatchError : it cannot be measured. MediaError : a source cannot be read.
    """
    if zone.distance_m is None and not zone.match.aim.areas:
        return fit_glass(shot, zone, pictures, progress)
    lens = LensMatch(on=False)
    bare = zone.match.but(lens=lens, wrap=WrapMatch(), grain=zone.match.grain.but(on=False))
    frames = frames_for(shot, zone, LENS_FRAMES)
    own_seen = [zone_seen_with(shot, zone, frame, pictures, bare) for frame in frames]
    aim_seen_on = [aim_seen(shot, zone, frame, pictures)[0] for frame in frames]
    measured = _noise_of_plate(shot, pictures)
    grains = [] if measured is None else grain_luma(measured.model, [seen.picture for seen in aim_seen_on])
    own_tiles: list[Array] = []
    aim_tiles: list[Array] = []
    for size in (TILE, SMALL_TILE):
        own_tiles, aim_tiles = (
            [tile for seen in part for tile in tiles_of(seen.picture @ LUMA, seen.mask, size)]
            for part in (own_seen, aim_seen_on)
        )
        if min(len(own_tiles), len(aim_tiles)) >= LEAST_TILES:
            break
    noise_tiles = [tile for seen, grain in zip(aim_seen_on, grains) for tile in tiles_of(grain, seen.mask, size)]
    if len(own_tiles) < LEAST_TILES or len(aim_tiles) < LEAST_TILES:
        who = "aim" if len(aim_tiles) < LEAST_TILES else "zone"
        raise ValueError(
            say("The {who} is too small for its sharpness to be measured: it takes areas of about 80 pixels.", who=who)
        )
    if max(float(tile.std() / max(float(tile.mean()), 1e-4)) for tile in aim_tiles) < 0.02:
        raise ValueError(say("The aim shows no edge that sharpness could be measured on."))
    if max(float(tile.std() / max(float(tile.mean()), 1e-4)) for tile in own_tiles) < 0.02:
        raise ValueError(say("The zone shows no edge that sharpness could be measured on."))
    progress(0.3, say("Measuring lens"))
    travel = travel_of(shot, zone, frames[0], pictures)
    length = float(np.hypot(*travel))
    moving = length >= MOVES_PX
    direction = (travel[0] / length, travel[1] / length) if moving else None
    aim_power, noise_power = spectra_with(aim_tiles, noise_tiles or aim_tiles)
    noises: list[NDArray | Colour] = ["white", "falling", *([noise_power] if noise_tiles else [])]
    tried = tried_blurs(power_spectrum(own_tiles), aim_power, noises, direction, length)
    own, aim = own_seen[0], aim_seen_on[0]
    noise = rooted(grains[0], aim.picture @ LUMA) if grains else noise_of(aim)
    edges = edges_of(aim.picture @ LUMA, aim.mask, noise)
    told = blur_by_edges(tried, own.picture @ LUMA, own.mask, edges, direction)
    blur = told.blur
    values = {"motion_px": blur.motion_px, "travel_px": length}
    settled = zone.match.lens.but(
        on=True, focus="radius", radius_px=_keyed(0), softness_px=_keyed(0), sharpen=_keyed(0), motion_blur=False
    )
    shown = AimTold(aim_power, edge_widths(aim.picture @ LUMA, aim.mask))
    unsure_px = told.motion_spread_px()
    is_seen = moving and blur.motion_px > max(unsure_px, LEAST_MOTION_PX)
    motion = motion_of(blur, direction if is_seen else None)
    through = _through_codec(shot, own, shown, travel, motion, progress)
    lossy = measured is not None and measured.is_compressed
    settled, words = _focus_set(settled, told, own, edges, direction, values, lossy, through)
    if not moving:
        return settled, words + say("; the plate moves too little for its shutter to be measured"), values
    shutter, spread = (360 * each / length for each in (blur.motion_px, unsure_px))
    if not is_seen and unsure_px > LEAST_MOTION_PX:
        was = zone.match.lens
        settled = settled.but(motion_blur=was.motion_blur)
        words += say("; the shutter was left: 0 to {most:.0f}° look alike here", most=shutter + spread)
        return settled, words, values
    values |= {"shutter_deg": shutter, "shutter_spread_deg": spread}
    settled = settled.but(
        motion_blur=blur.motion_px > LEAST_MOTION_PX,
        shutter_deg=_keyed(min(shutter, 720.0)), phase_deg=_keyed(-min(shutter, 720.0) / 2),
    )  # fmt: skip
    words += say(
        "; shutter {shutter:.0f} ± {spread:.0f}° from {motion_px:.1f} px of {length:.1f} px a frame",
        shutter=shutter,
        spread=spread,
        motion_px=blur.motion_px,
        length=length,
    )
    return settled, words, values


def _noise_of_plate(shot: Shot, pictures: Pictures) -> Noise | None:
    """Of four frames; nothing where it cannot be told."""
    try:
        return plate_noise(shot, pictures, parts=1)
    except ValueError:
        return None


def _through_codec(
    shot: Shot, own: Seen, aim: AimTold, travel: tuple[float, float], motion: tuple[float, float], progress: Progress
) -> CodedBlur | None:
    """The focus by what the plate's own codec leaves of it; None where its step is not told, or too little is left."""
    quantiser = quantiser_told(shot)
    if quantiser is None:
        return None
    plate = Plate(travel, motion, quantiser)

    def step(share: float) -> None:
        progress(0.4 + 0.6 * share, say("Measuring lens"))

    try:
        return blur_through_codec(own.picture, own.mask, aim, plate, step)
    except MediaError:  # without an encoder it is told as of any plate
        return None


def _focus_set(
    lens: LensMatch, told: Told, own: Seen, edges: AimEdges, direction: tuple[float, float] | None,
    values: dict[str, float], lossy: bool, through: CodedBlur | None,
) -> tuple[LensMatch, str]:  # fmt: skip
    """Focus, softness or sharpening by what was measured: by what the codec leaves where that tells it, else by the
    edges where the blur is too narrow for zeros."""
    blur, luma = told.blur, own.picture @ LUMA
    if through is not None and through.radius_px >= LEAST_RADIUS_PX:
        size, spread = through
        values |= {"radius_px": size, "spread_px": spread}
        words = say("out of focus by {size:.2f} ± {spread:.2f} px", size=size, spread=spread)
        return lens.but(radius_px=_keyed(size)), words + _unsure(size, spread)
    if through is not None and (told.edges is None or told.edges.curve[0] <= 0):  # else the aim is sharper
        values |= {"radius_px": 0.0, "spread_px": through.spread_px}
        words = say("as sharp as the plate, ± {spread:.2f} px", spread=through.spread_px)
        return lens, words + _unsure(0.0, through.spread_px)
    by_zeros = blur.kind == "disc" and blur.size >= ZEROS_FROM_PX
    radius = None
    if not by_zeros and told.edges is not None:
        radius = radius_by_edges(luma, own.mask, edges, motion_of(blur, direction))
        if radius >= MOST_BY_EDGES_PX and blur.kind == "soft":
            radius = None
    hidden = say("; compression hides detail: it may be softer") if lossy and not told.has_zeros else ""
    if radius is None and blur.size >= LEAST_RADIUS_PX:
        size, spread = blur.size, told.spread_px()
        values["spread_px"] = spread
        unsure = _unsure(size, spread)
        if blur.kind == "disc":
            values["radius_px"] = size
            words = say("out of focus by {size:.2f} ± {spread:.2f} px", size=size, spread=spread)
            return lens.but(radius_px=_keyed(size)), words + unsure + hidden
        values["softness_px"] = size
        words = say("softer by {size:.2f} ± {spread:.2f} px", size=size, spread=spread)
        return lens.but(softness_px=_keyed(size)), words + unsure + hidden
    if radius is not None and radius >= LEAST_RADIUS_PX:
        spread = told.spread_px(radius)
        values |= {"radius_px": radius, "spread_px": spread}
        words = say("softer by a disc of {radius:.2f} ± {spread:.2f} px", radius=radius, spread=spread)
        return lens.but(radius_px=_keyed(radius)), words + _unsure(radius, spread) + hidden
    values["spread_px"] = told.spread_px(0.0)
    sharper = told.edges is not None and radius is not None and radius < 0 and direction is None
    sharp = sharpening_by_edges(luma, own.mask, edges) if sharper else 0.0
    if sharp > LEAST_SHARPEN and told.edges is not None and np.exp(told.edges.curve[0]) < SURE_NARROWER:
        values["radius_px"] = 0.0
        return lens, say(
            "left as it is: the aim's edges are narrower, as by a sharpening of {sharp:.2f}, but parts of one picture "
            "differ by as much",
            sharp=sharp,
        )
    if sharp > LEAST_SHARPEN:
        values["sharpen"] = sharp
        settled = lens.but(sharpen=_keyed(sharp), sharpen_px=_keyed(1.0), overshoot=_keyed(1.0))
        return settled, say("sharpened by {sharp:.2f}", sharp=sharp)
    values["radius_px"] = 0.0
    words = say("as sharp as the plate, ± {spread:.2f} px", spread=values["spread_px"])
    return lens, words + _unsure(0.0, values["spread_px"]) + hidden


def _unsure(size: float, spread: float) -> str:
    return say("; uncertain: judge it by eye") if is_unsure(size, spread) else ""


def noise_of(seen: Seen) -> float:
    """A rough standard deviation of a picture's noise in square-rooted light: by the Laplacian (Immerkær 1996), from
    the calmer half."""
    light = np.sqrt(np.maximum(seen.picture @ LUMA, 0))
    rough = light[:-2] + light[2:] - 2 * light[1:-1]
    rough = np.abs(rough[:, :-2] + rough[:, 2:] - 2 * rough[:, 1:-1])[seen.mask[1:-1, 1:-1]]
    return (
        float(np.median(np.sort(rough)[: max(len(rough) // 2, 1)]) / (0.3186 * WHITE_NOISE_GAIN)) if len(rough) else 0.0
    )
