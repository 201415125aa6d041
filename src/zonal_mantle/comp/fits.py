"""Which sky of a library fits a plate: light, horizon, colour, resolution, with the reasons."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..place.horizon import plate_perspective
from ..place.light import Bearing
from ..place.perspective import height_at
from ..shot import Shot
from ..skies import SkyCard
from ..words import say
from .matte_planner import matte_plan
from .pictures import Pictures
from .readings_place import plate_light, sky_matte

_TO_XYZ = np.array(
    [[0.4124564, 0.3575761, 0.1804375], [0.2126729, 0.7151522, 0.0721750], [0.0193339, 0.1191920, 0.9503041]]
)  # IEC 61966-2-1
_WHITE = np.array([0.95047, 1.0, 1.08883])


@dataclass(frozen=True)
class Fit:
    """How well a sky fits: a cost, 0 at best, the reasons in words, and whether it should be flipped."""

    card: SkyCard
    cost: float
    reasons: tuple[str, ...]
    flip: bool = False


def fits_this_plate(shot: Shot, cards: list[SkyCard], pictures: Pictures) -> list[Fit]:
    """The library's skies, those that fit the plate best first.

    Costs, in steps that a compositor would take: light from the wrong side 4, mirrored to be right 1.5 (a dome is
    turned for nothing); a horizon off by a tenth of the height 1; ten ΔE*ab of the sky's colour (CIE 1976, lightness
    counted half) 1; enlarged to twice its size 2.
    """
    plate, colour = plate_light(shot, pictures), old_sky_colour(shot, pictures)
    horizon = plate_perspective(shot, shot.frames[len(shot.frames) // 2]).horizon
    share = None if horizon is None else height_at(horizon, shot.size[0] / 2) / shot.size[1]
    found = [_fit(shot, card, plate, colour, share) for card in cards]
    return sorted(found, key=lambda fit: (fit.cost, fit.card.name))


def _fit(
    shot: Shot, card: SkyCard, plate: Bearing | None, colour: tuple[float, float, float] | None, horizon: float | None
) -> Fit:
    cost, reasons, flip = 0.0, [], False
    side = say("right") if card.bearing_deg > 0 else say("left")
    if plate is None:
        reasons.append(say("light from the {side}; the plate's is not known", side=side))
    elif plate.side == "middle":
        reasons.append(say("the plate's light is ahead or behind"))
        cost += 0.5
    elif card.around:
        reasons.append(say("can be turned so that its sun is on the {side}", side=plate.side))
        cost += 0.25
    elif side == plate.side:
        reasons.append(say("light from the {side}, as the plate's", side=side))
    else:
        flip = True
        cost += 1.5
        reasons.append(say("light from the {side}: has to be flipped", side=side))
    if horizon is not None and not card.around:
        off = abs(card.horizon - horizon)
        cost += 10 * off
        reasons.append(
            say(
                "horizon at {horizon:.0%} of the height, the plate's at {horizon_2:.0%}",
                horizon=card.horizon,
                horizon_2=horizon,
            )
        )
    if colour is not None:
        apart = _colours_apart(card.colour, colour)
        cost += apart / 10
        reasons.append(say("{apart:.0f} ΔE from the plate's sky", apart=apart))
    wide = card.wide_deg / 42.0 if card.around else 1.0  # a usual lens sees about 42° of it
    enlarged = shot.size[0] * wide / card.size[0]
    if enlarged > 1:
        cost += 2 * np.log2(enlarged)
        reasons.append(say("enlarged to {enlarged:.0%}", enlarged=enlarged))
    else:
        reasons.append(say("large enough"))
    return Fit(card, float(cost), tuple(reasons), flip)


def old_sky_colour(shot: Shot, pictures: Pictures) -> tuple[float, float, float] | None:
    """Median of the sky that is being removed, scene-linear; None without a matte."""
    plate, matte = shot.plate_source, sky_matte(shot)
    if plate is None or matte is None:
        return None
    frame = shot.frames[len(shot.frames) // 2]

    cut = matte_plan(shot, matte, frame, 0.25)

    def look() -> tuple[float, float, float] | None:
        gone = pictures.made(cut).alpha < 0.02
        if gone.sum() < 40:
            return None
        r, g, b = np.median(pictures.plate(plate, frame, 0.25)[gone], axis=0)
        return float(r), float(g), float(b)

    return pictures.kept(("old sky", cut.digest), look)


def _colours_apart(a: tuple[float, float, float], b: tuple[float, float, float]) -> float:
    """ΔE*ab with lightness counted half."""
    one, two = _lab(a), _lab(b)
    return float(np.hypot(0.5 * (one[0] - two[0]), np.hypot(one[1] - two[1], one[2] - two[2])))


def _lab(colour: tuple[float, float, float]) -> np.ndarray:
    """CIE 1976 L*a*b*, D65 (CIE 15:2004)."""
    t = _TO_XYZ @ np.clip(colour, 0, None) / _WHITE
    f = np.where(t > (6 / 29) ** 3, np.cbrt(t), t / (3 * (6 / 29) ** 2) + 4 / 29)
    return np.array([116 * f[1] - 16, 500 * (f[0] - f[1]), 200 * (f[1] - f[2])])
