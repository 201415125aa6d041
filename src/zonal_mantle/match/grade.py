"""All that a zone's tone does, compiled into one `Tone` in its fixed order.

Where OpenColorIO has an operation, its definition is ours and its own processor fills the curve's table.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import PyOpenColorIO as ocio
from numpy.typing import NDArray

from ..shot.match import DAYLIGHT_DUV, DAYLIGHT_K, Cdl, Match, Range, ToneMatch
from ..shot.settled import settled
from .tone import (
    CURVE_HIGH,
    CURVE_LOW,
    CURVE_POINTS,
    HUE_POINTS,
    IDENTITY,
    REC709_LUMA,
    Stage,
    Tone,
    logged,
    toned,
)
from .white import adaptation

Array = NDArray[np.float32]
Points = tuple[tuple[float, float], ...]


def tone_of(match: Match, frame: float) -> Tone:
    """All that a zone's match does to colour on a frame, but for the air."""
    return tone_at(settled(match.tone, frame)) if match.on and match.tone.on else Tone()


def grade(pixels: Array, match: Match, frame: float = 0) -> Array:
    """A picture graded, fast. (h, w, 3) float32 in and out, scene-linear, not premultiplied."""
    return toned(pixels, tone_of(match, frame))


@lru_cache(maxsize=128)
def tone_at(tone: ToneMatch) -> Tone:
    """A tone without keyed numbers, compiled."""
    return Tone((_light(tone), _curved(tone), _coloured(tone), _palette(tone), cdl_stage(tone.cdl)))


def cdl_stage(cdl: Cdl, frame: float = 0) -> Stage:
    """An ASC CDL on a frame."""
    s, o, p = (tuple(part.at(frame) for part in triple) for triple in (cdl.slope, cdl.offset, cdl.power))
    matrix = (s[0], 0.0, 0.0, o[0], 0.0, s[1], 0.0, o[1], 0.0, 0.0, s[2], o[2])
    powers = None if p == (1, 1, 1) else (p[0], p[1], p[2])
    return Stage(encoding=cdl.encoding, matrix=matrix, powers=powers, saturation=cdl.saturation.at(frame))


def _light(tone: ToneMatch) -> Stage:
    """Exposure and white: scene-linear."""
    stops = min(max(tone.exposure_stops.at(0), -MOST_STOPS), MOST_STOPS)
    gain, kelvin, duv = 2.0**stops, tone.temperature_k.at(0), tone.tint_duv.at(0)
    if (gain, kelvin, duv) == (1.0, DAYLIGHT_K, DAYLIGHT_DUV):
        return Stage()
    matrix = np.zeros((3, 4))
    matrix[:, :3] = gain * adaptation(kelvin, duv)
    return Stage(matrix=tuple(matrix.ravel().tolist()))


def _curved(tone: ToneMatch) -> Stage:
    """Colour balance, contrast, levels and curves: what goes channel by channel in the log encoding, as one table."""
    x = np.linspace(CURVE_LOW, CURVE_HIGH, CURVE_POINTS)
    rgb = np.ascontiguousarray(np.repeat(x[:, None], 3, axis=1), np.float32)
    before = rgb.copy()
    if any(not _is_one(part) for part in (tone.shadows, tone.middle, tone.lights)):
        _through(balance_transform(tone), rgb)
    contrast = tone.contrast.at(0)
    if contrast != 1:
        pivot = np.float32(logged(tone.pivot))
        rgb = (rgb - pivot) * np.float32(contrast) + pivot
    rgb = _levelled(rgb, tone)
    if any((tone.curve_all, tone.curve_red, tone.curve_green, tone.curve_blue)):
        rgb = np.ascontiguousarray(rgb, np.float32)
        _through(curve_transform(tone), rgb)
    if np.array_equal(rgb, before):
        return Stage()
    return Stage(encoding="log", curves=np.ascontiguousarray(rgb.T, np.float32).tobytes())


def _is_one(part: Range) -> bool:
    return all(each.at(0) == 1 for each in (part.red, part.green, part.blue, part.all))


def _through(transform: ocio.Transform, rgb: Array) -> None:
    ocio.Config.CreateRaw().getProcessor(transform).getDefaultCPUProcessor().applyRGB(rgb)


MOST_STOPS = 30.0  # either way: beyond, everything is black, or a float is full
# what OpenColorIO's GradingTone takes (its GradingTone.cpp, validate)
BALANCE_REACH = {"shadows": (0.2, 1.8), "midtones": (0.1, 1.9), "highlights": (0.2, 1.8)}
BALANCE_PLACES = 100.0


def balance_transform(tone: ToneMatch) -> ocio.Transform:
    """The colour balance as OpenColorIO's operation, on the log encoding."""
    values = ocio.GradingTone(ocio.GRADING_LOG)
    for name, part in (("shadows", tone.shadows), ("midtones", tone.middle), ("highlights", tone.lights)):
        low, high = BALANCE_REACH[name]
        r, g, b, m = (float(np.clip(each.at(0), low, high)) for each in (part.red, part.green, part.blue, part.all))
        start, width = (float(np.clip(number, -BALANCE_PLACES, BALANCE_PLACES)) for number in (part.start, part.width))
        setattr(values, name, ocio.GradingRGBMSW(r, g, b, m, start, width))
    return ocio.GradingToneTransform(values, ocio.GRADING_LOG)


def curve_transform(tone: ToneMatch) -> ocio.Transform:
    """The curves as OpenColorIO's operation, on the log encoding."""
    values = ocio.GradingRGBCurve(ocio.GRADING_LOG)
    for name in ("red", "green", "blue", "all"):
        points: Points = getattr(tone, f"curve_{name}")
        if points:
            flat = [number for point in points for number in point]
            setattr(values, "master" if name == "all" else name, ocio.GradingBSplineCurve(flat))
    return ocio.GradingRGBCurveTransform(values, ocio.GRADING_LOG)


def curve_at(points: Points, x: NDArray) -> NDArray[np.float64]:
    """A curve through its points, as it is applied: OpenColorIO's B-spline. Log codes in and out.

    Examples
    --------
    >>> [round(float(v), 3) for v in curve_at(((0, 0), (0.5, 0.6), (1, 1)), np.array([0.0, 0.5, 1.0]))]
    [0.0, 0.6, 1.0]
    """
    rgb = np.ascontiguousarray(np.repeat(np.asarray(x, np.float32)[:, None], 3, axis=1))
    _through(curve_transform(ToneMatch(curve_all=points)), rgb)
    return np.asarray(rgb[:, 0], np.float64)


def _levelled(rgb: NDArray, tone: ToneMatch) -> NDArray:
    (low, high), (floor, ceiling) = ((each.at(0) for each in pair) for pair in (tone.levels_in, tone.levels_out))
    gamma = tone.levels_gamma.at(0)
    if (low, high, floor, ceiling, gamma) == (0, 1, 0, 1, 1):
        return rgb
    share = (rgb - low) / max(high - low, 1e-4)
    if gamma != 1:
        share = np.sign(share) * np.abs(share) ** (1 / max(gamma, 0.01))
    return np.asarray(floor + share * (ceiling - floor), np.float32)


def _coloured(tone: ToneMatch) -> Stage:
    """What goes by hue, saturation, and the tint along lightness: scene-linear."""
    turn, more, light = np.zeros(HUE_POINTS), np.ones(HUE_POINTS), np.ones(HUE_POINTS)
    turn += tone.hue_deg.at(0) / 360 + _by_hue(tone.hue_by_hue, 0.0) / 360
    more *= _by_hue(tone.saturation_by_hue, 1.0)
    light *= _by_hue(tone.lightness_by_hue, 1.0)
    plain = not turn.any() and (more == 1).all() and (light == 1).all()
    hues = None if plain else np.stack([turn, more, light]).astype(np.float32).tobytes()
    return Stage(hues=hues, saturation=tone.saturation.at(0), tints=_tints(tone))


def _by_hue(points: Points, rest: float) -> NDArray[np.float64]:
    """A curve by hue, closed to a ring, at the table's hues."""
    if not points:
        return np.full(HUE_POINTS, rest)
    ordered = sorted((x % 360, y) for x, y in points)
    if len(ordered) == 1:
        return np.full(HUE_POINTS, ordered[0][1])
    from scipy.interpolate import PchipInterpolator  # slow to import

    xs = [x + turn for turn in (-360, 0, 360) for x, _ in ordered]
    ys = [y for _ in range(3) for _, y in ordered]
    keep = [0, *(k for k in range(1, len(xs)) if xs[k] > xs[k - 1])]
    curve = PchipInterpolator([xs[k] for k in keep], [ys[k] for k in keep])
    return np.asarray(curve(np.arange(HUE_POINTS) * 360 / HUE_POINTS), np.float64)


def _tints(tone: ToneMatch) -> bytes | None:
    """Over the log encoding of luma: the colour, of luma 1, that it is drawn to, and how much."""
    strength = tone.tint.strength.at(0)
    if strength == 0:
        return None
    t = np.linspace(0, 1, HUE_POINTS)[:, None]
    colours = np.array(tone.tint.dark) * (1 - t) + np.array(tone.tint.bright) * t
    colours = colours / np.maximum(colours @ np.array(REC709_LUMA), 1e-4)[:, None]
    table = np.concatenate([colours.T, np.full((1, HUE_POINTS), strength)])
    return table.astype(np.float32).tobytes()


def _palette(tone: ToneMatch) -> Stage:
    share = tone.palette.strength.at(0)
    if share == 0 or tone.palette.matrix == IDENTITY:
        return Stage()
    matrix = np.array(IDENTITY) * (1 - share) + np.array(tone.palette.matrix) * share
    return Stage(encoding="log", matrix=tuple(matrix.tolist()))
