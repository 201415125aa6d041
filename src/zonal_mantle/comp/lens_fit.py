"""The fit of a zone's lens: focus, softness or sharpness against its aim, and the plate's shutter."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from ..match.grain import unit_grain, with_grain
from ..match.noise import shift_between
from ..match.sharpness import (
    LEAST_TILES,
    LUMA,
    SMALL_TILE,
    TILE,
    ZEROS_FROM_PX,
    Blur,
    Colour,
    Kind,
    edge_widths,
    fit_spectra,
    power_spectrum,
    radius_by_edges,
    sharpening_by_edges,
    spectra_with,
    tiles_of,
    wider_by,
)
from ..media.curves import coded
from ..place.transform import reference_to_frame
from ..shot import Keyed, LensMatch, Shot, WrapMatch, Zone
from ..words import say
from .aim import Seen, aim_seen, frames_for, zone_seen_with
from .glass_fit import fit_glass
from .pictures import Pictures
from .plate_grain import plate_noise

Array = NDArray[np.float32]
Progress = Callable[[float, str], None]
LENS_FRAMES = 3
SURE_PX = 6.0  # a frame: with less, a motion is easily taken for a focus or the other way round
MOVES_PX = 2.0  # a frame: with less motion a shutter leaves no trace
SURE_RADIUS_PX, SURE_NARROWER = 0.8, 1.5  # beyond what halves of photographs differ by, as measured
LEAST_SHARPEN, LEAST_RADIUS_PX, MOST_BY_EDGES_PX = 0.06, 0.25, 2.1
EXTREMES = [Blur("disc", radius, 0.0, 0.0, 0.0) for radius in (0.0, 6.0)]
LEAST_WIDER = 0.5  # logarithm of widths, that edges grow by between them where they tell anything
RARELY_SOFT, WIDE_PX = 0.08, 1.5  # what so wide a soft blur is held against: lenses are out of focus rather
NOT_BLURRED, MOST_OFF = 0.02, 0.6  # logarithms of widths: what no blur is held against; how far off the best may be
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
    grains = _grain_on(shot, aim_seen_on, pictures)
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
    travel = _travel(shot, zone, frames[0], pictures)
    length = float(np.hypot(*travel))
    moving = length >= MOVES_PX
    direction = (travel[0] / length, travel[1] / length) if moving else None
    aim_power, told = spectra_with(aim_tiles, noise_tiles or aim_tiles)
    noises: list[NDArray | Colour] = ["white", "falling", *([told] if noise_tiles else [])]
    noise = grains[0] / np.sqrt(np.maximum(aim_seen_on[0].picture @ LUMA, 0.02)) if grains else noise_of(aim_seen_on[0])
    tried = tried_blurs(power_spectrum(own_tiles), aim_power, noises, direction, length)
    blur = blur_by_edges(tried, own_seen[0], aim_seen_on[0], noise, direction)
    values = {"motion_px": blur.motion_px, "travel_px": length, "spread_px": blur.spread}
    settled = zone.match.lens.but(
        on=True, focus="radius", radius_px=_keyed(0), softness_px=_keyed(0), sharpen=_keyed(0), motion_blur=False
    )
    settled, words = _focus_set(settled, blur, own_seen[0], aim_seen_on[0], direction, values, noise)
    if moving:
        shutter = 360 * blur.motion_px / length
        values["shutter_deg"] = shutter
        on = blur.motion_px > 0.7
        settled = settled.but(
            motion_blur=on, shutter_deg=_keyed(min(shutter, 720.0)), phase_deg=_keyed(-min(shutter, 720.0) / 2)
        )
        sure = "" if length >= SURE_PX else say("about ")
        words += say(
            "; shutter {sure}{shutter:.0f}° from {motion_px:.1f} px of {length:.1f} px a frame",
            sure=sure,
            shutter=shutter,
            motion_px=blur.motion_px,
            length=length,
        )
    else:
        words += say("; the plate moves too little for its shutter to be measured")
    return settled, words, values


def _grain_on(shot: Shot, seen: Sequence[Seen], pictures: Pictures) -> list[Array]:
    """The plate's noise made anew on what is seen of it, as luma, (h, w) each; nothing where it cannot be told."""
    try:
        model = plate_noise(shot, pictures, parts=1).model
    except ValueError:
        return []
    height, width = seen[0].picture.shape[:2]
    out = []
    for number, (picture, _) in enumerate(seen):
        rgba = np.dstack([picture, np.ones((height, width), np.float32)]).astype(np.float32)
        grain = with_grain(rgba, unit_grain(model, (width, height), 1, number), model, np.ones((1, width), np.float32))
        out.append(np.asarray((grain[..., :3] - picture) @ LUMA, np.float32))
    return out


def tried_blurs(
    own: NDArray, aim: NDArray, noises: Sequence[NDArray | Colour], direction: tuple[float, float] | None, length: float
) -> list[tuple[float, Blur]]:
    """The best disc and the best soft blur under each kind of noise, and how much worse than the other it explains the
    spectra, in logarithms of their cost."""
    kinds: tuple[Kind, Kind] = ("disc", "soft")
    out: list[tuple[float, Blur]] = []
    for noise in noises:
        found = [fit_spectra(own, aim, direction, (kind,), length, noise) for kind in kinds]
        least = min(blur.cost for blur in found)
        out += [(float(np.log(max(blur.cost, 1e-9) / max(least, 1e-9))), blur) for blur in found]
    return out


def blur_by_edges(
    tried: list[tuple[float, Blur]], own: Seen, aim: Seen, noise: float | Array, direction: tuple[float, float] | None
) -> Blur:
    """Of several blurs the one that makes the zone's sharpest edges as wide as the aim's; none counts as well where
    nothing moves. Spectra alone do not tell a soft picture from one whose noise is soft; edges tell nothing where they
    drown in noise, and do not become wider by any blur: the last kind of noise that was tried decides then.

    Raises
    ------
    ValueError : none does.
    """
    widths = edge_widths(aim.picture @ LUMA, aim.mask)
    if len(widths) == 0:
        return min(tried, key=lambda each: each[1].cost)[1]
    told = tried[-2:]
    if direction is None:
        tried = [*tried, (NOT_BLURRED, EXTREMES[0])]
    luma = own.picture @ LUMA
    off = [wider_by(luma, own.mask, widths, noise, [blur], _way(blur, direction))[0] for _, blur in tried]
    none, wide = wider_by(luma, own.mask, widths, noise, EXTREMES)
    if not wide - none > LEAST_WIDER:
        return min(told, key=lambda each: each[1].cost)[1]
    rare = [RARELY_SOFT if blur.kind == "soft" and blur.size > WIDE_PX else 0.0 for _, blur in tried]
    scores = [abs(wider) + worse + less for (worse, _), wider, less in zip(tried, np.nan_to_num(off, nan=9.0), rare)]
    best = int(np.argmin(scores))
    if scores[best] > MOST_OFF and off[best] < 0:
        raise ValueError(
            say(
                "How soft the aim is cannot be told: its edges are softer than its finest detail, which noise or "
                "compression hides. Choose an aim with clear edges, or set it by eye."
            )
        )
    return tried[best][1]


def _way(blur: Blur, direction: tuple[float, float] | None) -> tuple[float, float]:
    return (0.0, 0.0) if direction is None else (direction[0] * blur.motion_px, direction[1] * blur.motion_px)


def _focus_set(
    lens: LensMatch, blur: Blur, own: Seen, aim: Seen, direction: tuple[float, float] | None,
    values: dict[str, float], noise: float | Array,
) -> tuple[LensMatch, str]:  # fmt: skip
    """Focus, softness or sharpening by what was measured."""
    if blur.kind == "disc" and blur.size >= ZEROS_FROM_PX:
        values["radius_px"] = blur.size
        return lens.but(radius_px=_keyed(blur.size)), say("out of focus by {size:.2f} px", size=blur.size)
    widths = edge_widths(aim.picture @ LUMA, aim.mask)
    if len(widths) == 0:
        raise ValueError(say("The aim shows no edge that sharpness could be measured on."))
    radius = radius_by_edges(own.picture @ LUMA, own.mask, widths, noise, _way(blur, direction))
    if radius >= MOST_BY_EDGES_PX and blur.kind == "soft":
        values["softness_px"] = blur.size
        return lens.but(softness_px=_keyed(blur.size)), say("softer by {size:.2f} px", size=blur.size)
    if radius >= LEAST_RADIUS_PX:
        values["radius_px"] = radius
        unsure = say("; uncertain: parts of one picture differ by as much") if radius < SURE_RADIUS_PX else ""
        return lens.but(radius_px=_keyed(radius)), say(
            "softer by a disc of {radius:.2f} px{unsure}", radius=radius, unsure=unsure
        )
    sharp = sharpening_by_edges(own.picture @ LUMA, own.mask, widths) if radius < 0 and direction is None else 0.0
    narrower = float(np.median(edge_widths(own.picture @ LUMA, own.mask) / widths)) if sharp > LEAST_SHARPEN else 1.0
    if 1 < narrower < SURE_NARROWER:
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
    return lens, say("as sharp as the plate")


def noise_of(seen: Seen) -> float:
    """A rough standard deviation of a picture's noise in square-rooted light: by the Laplacian (Immerkær 1996), from
    the calmer half."""
    light = np.sqrt(np.maximum(seen.picture @ LUMA, 0))
    rough = light[:-2] + light[2:] - 2 * light[1:-1]
    rough = np.abs(rough[:, :-2] + rough[:, 2:] - 2 * rough[:, 1:-1])[seen.mask[1:-1, 1:-1]]
    return (
        float(np.median(np.sort(rough)[: max(len(rough) // 2, 1)]) / (0.3186 * WHITE_NOISE_GAIN)) if len(rough) else 0.0
    )


def _travel(shot: Shot, zone: Zone, frame: int, pictures: Pictures) -> tuple[float, float]:
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
