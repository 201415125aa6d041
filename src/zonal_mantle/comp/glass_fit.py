"""The lens of what lies at infinity, by the plate's own edges: nothing that was filmed is sharper than its glass."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from ..geometry import carry
from ..match.edge_mtf import EdgeResponse, blur_of, responses, sharpness, told_by
from ..match.errors import MatchError
from ..match.sharpness import LUMA
from ..place.transform import painting_to_frame
from ..shot import Keyed, LensMatch, Shot, WrapMatch, Zone
from ..words import say
from .aim import frames_for, zone_seen_with
from .pictures import Pictures

Array = NDArray[np.float32]
Progress = Callable[[float, str], None]
GLASS_FRAMES = 5
LEAST_SOFT_PX = 0.15  # a blur that is seen
LEAST_PLATE_EDGES = 8  # over all frames
PIXEL_PX = 12**-0.5  # the deviation of a box of one pixel


def fit_glass(
    shot: Shot, zone: Zone, pictures: Pictures, progress: Progress
) -> tuple[LensMatch, str, dict[str, float]]:
    """Softness of a zone at infinity, where nothing of the plate is like it: as soft as the plate at its sharpest.

    Edges are read by their response (ISO 12233, `match.edge_mtf`), a Gaussian beside the pixel's aperture. A painting
    that shows edges itself is read too, and only what is missing is set; one of clouds shows none and is taken to be as
    sharp as its pixels are where it hangs. The shutter is that of a nearer zone, for there is one camera; without
    one it stays: edges of one picture differ too much by themselves to tell it (on six photographs 0 to 178 degrees
    were read where there was none).

    Returns
    -------
    The lens, words for the artist, and what was measured.

    Raises
    ------
    ValueError : the plate has too few edges to go by. MatchError : the zone is not seen.
    MediaError : a source cannot be read.
    """
    assert shot.plate_source is not None
    frames = frames_for(shot, zone, GLASS_FRAMES)
    edges: list[EdgeResponse] = []
    for count, frame in enumerate(frames):
        progress(0.8 * count / len(frames), say("Measuring lens"))
        edges += responses(pictures.plate(shot.plate_source, frame) @ LUMA)
    if len(edges) < LEAST_PLATE_EDGES:
        raise ValueError(
            say(
                "The plate's own sharpness cannot be told: {count} straight, slanted edges between even parts were "
                "found, of {least} that it takes. Draw an aim, or set softness by hand.",
                count=len(edges),
                least=LEAST_PLATE_EDGES,
            )
        )
    plate = told_by(edges)
    wanted, (has, told) = blur_of(plate.mtf50), _own(shot, zone, frames[len(frames) // 2], pictures)
    softness = float(np.sqrt(max(wanted**2 - has**2, 0.0)))
    values = {"mtf50": plate.mtf50, "mtf50_error": plate.error, "own_px": has, "softness_px": softness}
    lens = zone.match.lens.but(on=True, focus="radius", radius_px=_keyed(0), sharpen=_keyed(0))
    lens, shutter = _with_shutter(lens, shot, zone)
    if softness < LEAST_SOFT_PX:
        return (
            lens.but(softness_px=_keyed(0)),
            say("no sharper than the plate is, by {told}", told=told) + shutter,
            values,
        )
    words = say(
        "softer by {softness:.2f} ± {error:.2f} px, as the plate is at its sharpest edges (MTF50 {mtf50:.2f} cycles a "
        "pixel), against {told}",
        softness=softness,
        error=plate.error / plate.mtf50 * wanted,
        mtf50=plate.mtf50,
        told=told,
    )
    return lens.but(softness_px=_keyed(softness)), words + shutter, values


def _keyed(value: float) -> Keyed:
    return Keyed(constant=float(value))


def _with_shutter(lens: LensMatch, shot: Shot, zone: Zone) -> tuple[LensMatch, str]:
    """The lens with the shutter of the farthest zone before it that has one, and words for it."""
    nearer = [each for each in shot.near_to_far() if each.id != zone.id and not shot.holds_plate(each)]
    moved = [each for each in nearer if each.match.on and each.match.lens.on and each.match.lens.motion_blur]
    if not moved:
        return lens, ""
    of = moved[-1]
    like = of.match.lens
    words = say("; shutter as of {name}", name=of.name)
    return lens.but(motion_blur=True, shutter_deg=like.shutter_deg, phase_deg=like.phase_deg), words


def _own(shot: Shot, zone: Zone, frame: int, pictures: Pictures) -> tuple[float, str]:
    """How soft a zone is by itself where it hangs, px, and what tells so."""
    bare = zone.match.but(lens=LensMatch(on=False), wrap=WrapMatch(), grain=zone.match.grain.but(on=False))
    seen = zone_seen_with(shot, zone, frame, pictures, bare)
    try:
        return blur_of(sharpness(seen.picture @ LUMA, seen.mask).mtf50), say("its own edges")
    except MatchError:
        at = np.array(shot.size) / 2
        way = painting_to_frame(shot, zone, frame)
        inside = carry(np.linalg.inv(way), at[None])[0]
        spread = carry(way, inside + np.array([[0.0, 0.0], [1, 0], [0, 1]]))
        area = abs(float(np.linalg.det(spread[1:] - spread[0])))
        return PIXEL_PX * float(np.sqrt(max(area - 1, 0.0))), say("the size of its pixels; it shows no edge")
