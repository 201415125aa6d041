"""What the exchange of skies does to the foreground: a proposal for a zone of the plate."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..match.errors import MatchError
from ..match.tone import REC709_LUMA
from ..match.white import TO_XYZ, planckian_uv
from ..shot import Keyed, Match, Shot, ToneMatch, Zone
from ..words import say
from .fits import old_sky_colour
from .pictures import Pictures
from .stack import compose

MOST_STOPS = 1.5
SUN_SHARE = 0.05  # of the sky's pixels that are taken for its sun's light
SHADOW_SHARE = 0.25  # of the difference between sun and sky that goes into lights and shadows
ACROSS_STOPS = 0.35
SCALE = 0.25


def new_sky_light(shot: Shot, zone: Zone, pictures: Pictures, amount: float = 1.0) -> Match:
    """A zone's match with the light of the new sky: exposure and white by the ratio of its light to the old sky's,
    lights drawn to its brightest part and shadows to the rest, and a gradient toward its sun's side.

    Light of a dome is the cosine-weighted irradiance of its upper half (Ramamoorthi & Hanrahan, An efficient
    representation for irradiance environment maps, SIGGRAPH 2001); of a framed sky its mean.

    Raises
    ------
    MatchError : there is no new sky, or the old one is not known.
    """
    sky = next(
        (z for z in reversed(shot.near_to_far()) if not shot.holds_plate(z) and z.distance_m is None and z.on), None
    )
    if sky is None:
        raise MatchError(say("There is no new sky in the shot: hang one at infinity first."))
    old = old_sky_colour(shot, pictures)
    if old is None:
        raise MatchError(say("The old sky is not known: pull the plate's matte first."))
    pixels, weights = _sky_pixels(shot, sky, pictures)
    luma = pixels @ np.array(REC709_LUMA)
    light = (pixels * weights[:, None]).sum(axis=0) / weights.sum()
    ratio = np.maximum(light, 1e-4) / np.maximum(np.array(old), 1e-4)
    stops = float(np.clip(np.log2(ratio @ np.array(REC709_LUMA)), -MOST_STOPS, MOST_STOPS)) * amount
    kelvin, duv = white_of(1 + amount * (ratio / (ratio @ np.array(REC709_LUMA)) - 1))
    bright = luma >= np.quantile(luma, 1 - SUN_SHARE)
    sun, rest = pixels[bright].mean(axis=0), pixels[~bright].mean(axis=0)
    apart = np.log2(np.maximum(sun / sun.mean(), 1e-3) / np.maximum(rest / rest.mean(), 1e-3))
    turn = np.clip(SHADOW_SHARE * amount * 0.2 * apart, -0.12, 0.12)
    tone = zone.match.tone
    lights, shadows = (
        part.but(**{name: Keyed(constant=float(1 + sign * t)) for name, t in zip(("red", "green", "blue"), turn)})
        for part, sign in ((tone.lights, 1), (tone.shadows, -1))
    )
    width, height = shot.size
    to_right = _sun_is_right(shot, sky, pictures)
    ends = ((0.0, height / 2), (float(width), height / 2))
    across = tone.across.but(
        a=ends[0] if to_right else ends[1], b=ends[1] if to_right else ends[0],
        stops=Keyed(constant=ACROSS_STOPS * amount),
    )  # fmt: skip
    new: ToneMatch = tone.but(
        on=True, exposure_stops=Keyed(constant=stops), temperature_k=Keyed(constant=kelvin),
        tint_duv=Keyed(constant=duv), lights=lights, shadows=shadows, across=across,
    )  # fmt: skip
    return zone.match.but(on=True, tone=new)


def _sky_pixels(shot: Shot, sky: Zone, pictures: Pictures) -> tuple[NDArray, NDArray]:
    """The light of a sky's pixels, scene-linear (n, 3), and how much each counts."""
    source = shot.source(sky.source)
    painting = pictures.painting(source, source.start)
    rows = max(1, painting.shape[0] // 128)
    part = painting[::rows, ::rows, :3]
    dome = sky.placement.way == "dome" and sky.placement.dome.mapping == "lat-long"
    high = np.linspace(np.pi / 2, -np.pi / 2, part.shape[0])  # elevation
    weight = np.where(high > 0, np.sin(high) * np.cos(high), 0) if dome else np.ones(part.shape[0])
    if not dome:
        weight[int(part.shape[0] * 0.75) :] = 0  # the ground of a framed sky
    weights = np.repeat(weight[:, None], part.shape[1], axis=1).ravel()
    keep = weights > 0
    return np.maximum(part.reshape(-1, 3)[keep], 0), weights[keep]


def white_of(colour: NDArray) -> tuple[float, float]:
    """Kelvin and Duv of a scene-linear colour, by search along the Planckian locus (Ohno 2014, Practical use and
    calculation of CCT and Duv, LEUKOS 10).

    Examples
    --------
    >>> kelvin, duv = white_of(np.array([1.0, 1.0, 1.0]))
    >>> abs(kelvin - 6504) < 15, abs(duv - 0.0032) < 3e-4
    (True, True)
    """
    x, y, z = TO_XYZ @ np.maximum(np.asarray(colour, float), 1e-6)
    u, v = 4 * x / (x + 15 * y + 3 * z), 6 * y / (x + 15 * y + 3 * z)
    kelvins = 1e6 / np.linspace(1e6 / 15000, 1e6 / 1500, 1500)
    locus = np.array([planckian_uv(float(k)) for k in kelvins])
    away = np.hypot(locus[:, 0] - u, locus[:, 1] - v)
    nearest = int(np.argmin(away))
    above = v > locus[nearest, 1]
    return float(kelvins[nearest]), float(np.clip(away[nearest] * (1 if above else -1), -0.05, 0.05))


def _sun_is_right(shot: Shot, sky: Zone, pictures: Pictures) -> bool:
    frame = shot.work_frames[len(shot.work_frames) // 2]
    seen = compose(shot, frame, pictures, SCALE, [sky.but(match=Match(on=False))])
    columns = (seen[..., :3] @ np.array(REC709_LUMA, np.float32)).mean(axis=0)
    half = len(columns) // 2
    return bool(columns[half:].mean() >= columns[:half].mean())
